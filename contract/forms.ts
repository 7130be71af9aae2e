// What forms may say, checked at the door. Each message is the sentence a person sees.
import { z } from 'zod';
import { isZone, startOfDay } from '#core/house-time.ts';
import { houseHours } from '#core/nights/hours.ts';
import { relativePath } from '#core/paths.ts';
import { DUTIES, KINDS, PROJECT_STATES } from '#core/model.ts';
import { MOST_COPIES, wantedCopies } from '#core/archive/copies.ts';
import { archiveScope } from '#core/steps/archive.ts';
import { handlesFrom } from '#core/archive/lengths.ts';
import { only } from '#core/steps/restore.ts';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import { PARKED } from '#core/steps/park.ts';

const id = (what: string) =>
  z.coerce
    .number(`${what} is not a number.`)
    .int(`${what} is not a whole number.`)
    .positive(`${what} is not a number that exists.`);

/** A folder inside a volume, as a person types it. */
const folder = z
  .string('A name is missing.')
  .trim()
  .min(1, 'The name is empty. Give one.')
  .max(250, 'The name is longer than 250 letters. Give a shorter one.')
  .transform((text, context) => {
    const checked = relativePath(text);
    if (checked.ok && !checked.path.startsWith('.')) return checked.path;
    context.addIssue({
      code: 'custom',
      message: `"${text}" is not a folder inside the volume. Give a plain name, like night-ferry.`,
    });
    return z.NEVER;
  });

/** The same, or nothing for the top of the volume. */
const folderOrTop = z
  .string()
  .trim()
  .transform((text) => text.replace(/\/+$/, ''))
  .pipe(
    z.union(
      [z.literal(''), folder],
      'That is not a folder inside the volume. Give one like night-ferry/camera, or nothing for its top.',
    ),
  );

/** One name, no folders in it. */
const plainName = folder.refine((name) => !name.includes('/'), 'The name has a slash in it. Give a plain name.');

const ids = z
  .string('Nothing is chosen.')
  .transform((text) => text.split(',').filter(Boolean).map(Number))
  .refine((list) => list.length > 0, 'Nothing is chosen. Choose at least one folder.')
  .refine(
    (list) => list.length <= 20_000 && list.every((n) => Number.isSafeInteger(n) && n > 0),
    'The choice could not be understood. Choose again.',
  );

export const stageCachesForm = z.object({
  intent: z.literal('stage'),
  folders: ids,
  cutDay: z.coerce.number('The age is not a number.').int('The age is not a whole day.').min(0).max(200_000),
});
const lineKeys = z
  .string('Nothing is chosen.')
  .transform((text) => text.split(',').filter(Boolean))
  .refine((list) => list.length > 0, 'Nothing is chosen. Choose at least one line.')
  .refine((list) => list.length <= 20_000, 'More than 20,000 lines are chosen. Choose fewer at a time.');
const rowIds = z
  .string()
  .optional()
  .default('')
  .transform((text) => text.split(',').filter(Boolean).map(Number))
  .refine(
    (list) => list.length <= 20_000 && list.every((n) => Number.isSafeInteger(n) && n > 0),
    'The choice could not be understood. Choose again.',
  );
export const compareForm = z.object({ intent: z.literal('compare') });
/** Pairs of files that are the same: the one that goes and the one that stays. */
export const keepOtherForm = z.object({
  intent: z.literal('keep other'),
  pairs: z
    .string()
    .max(60_000, 'That is more than one step takes. Choose fewer.')
    .transform((text) => text.split(',').map((pair) => pair.split('-').map(Number)))
    .refine(
      (all): all is [number, number][] =>
        all.length > 0 && all.every((pair) => pair.length === 2 && pair.every((n) => Number.isSafeInteger(n) && n > 0)),
      'No pair is chosen. Choose at least one.',
    ),
});
export const stageLinesForm = z.object({
  intent: z.literal('stage'),
  lines: lineKeys,
  cutDay: z.coerce.number().int().min(0).max(200_000),
  /** Only files with this in their names, or only this file: of all that the lines stand for. */
  find: z.string().max(200).optional(),
  /** Only of these files and what belongs to them, as they were chosen one by one. */
  fileIds: ids.optional(),
  fileId: z.coerce.number().int().positive().optional(),
});
const gigabytes = (what: string) =>
  z
    .string(`${what} is missing.`)
    .trim()
    .transform((text) => Number(text.replace(',', '.')))
    .refine((n) => n > 0 && n <= 1_000_000, `${what} is a number of gigabytes, for example 40.`)
    .transform((n) => Math.round(n * 1e9));
const wholeDays = z
  .string('How many days is missing.')
  .trim()
  .transform(Number)
  .refine((n) => Number.isInteger(n) && n >= 1 && n <= 3650, 'An age is a whole number of days, for example 30.');
const ruleFacts = {
  volumeId: id('The volume'),
  projectId: z
    .string()
    .optional()
    .default('')
    .transform((text) => (text === '' ? null : Number(text)))
    .refine((n) => n === null || (Number.isSafeInteger(n) && n > 0), 'The project is not a number.'),
  except: z
    .string()
    .optional()
    .default('')
    .transform((text) =>
      text
        .split(/[\n,]/)
        .map((line) => line.trim().replace(/^\/+|\/+$/g, ''))
        .filter(Boolean),
    )
    .refine(
      (list) => list.length <= 50 && list.every((one) => relativePath(one).ok),
      'An exception is no folder inside the volume.',
    ),
};
/** A rule as it is looked at or saved. */
export const ruleOf = z.discriminatedUnion('by', [
  z.object({ by: z.literal('age'), days: wholeDays, ...ruleFacts }),
  z.object({ by: z.literal('cap'), cap: gigabytes('The cap'), ...ruleFacts }),
]);
export const rulesForm = z.union([
  z.object({ intent: z.literal('drop'), ruleId: id('The rule') }),
  ruleOf.and(
    z.object({
      intent: z.literal('save'),
      atNight: z.string().optional(),
      most: gigabytes('The most of a night'),
    }),
  ),
]);
/** Files that are set aside, or whole steps of them. */
export const asideForm = z
  .object({ intent: z.enum(['take back', 'remove']), ids: rowIds, steps: rowIds })
  .refine(({ ids: files, steps }) => files.length + steps.length > 0, 'Nothing is chosen. Choose at least one file.');
const NO_SCOPE = 'What goes in could not be understood. Load the page again.';
/** How an archive is shaped, as JSON. */
const scopeText = z
  .string()
  .default(JSON.stringify(USUAL_SCOPE))
  .transform((text, context): unknown => {
    try {
      return JSON.parse(text);
    } catch {
      context.addIssue({ code: 'custom', message: NO_SCOPE });
      return z.NEVER;
    }
  })
  .transform((value, context) => {
    const parsed = archiveScope.safeParse(value);
    if (parsed.success) return parsed.data;
    context.addIssue({ code: 'custom', message: NO_SCOPE });
    return z.NEVER;
  });
const shapeName = z
  .string()
  .trim()
  .min(1, 'A shape needs a name. Nothing was saved.')
  .max(120, 'The name is longer than 120 letters.');
const carrierIds = z
  .string('No carrier is chosen. Choose at least one.')
  .transform((text) => text.split(',').filter(Boolean).map(Number))
  .refine((list) => list.length > 0, 'No carrier is chosen. Choose at least one.')
  .refine(
    (list) => list.length <= 60 && list.every((n) => Number.isSafeInteger(n) && n > 0),
    'The carriers could not be understood. Choose again.',
  );
const tick = z
  .literal('on')
  .optional()
  .transform((value) => value === 'on');
const stageArchive = z.object({
  intent: z.literal('stage'),
  carrierIds,
  baseId: z
    .string()
    .optional()
    .default('')
    .transform((text) => (text === '' ? null : Number(text)))
    .refine(
      (n) => n === null || (Number.isSafeInteger(n) && n > 0),
      'The archive to build on could not be understood. Choose again.',
    ),
  folder: plainName,
  scope: scopeText,
});
export const shapeArchiveForm = z.discriminatedUnion('intent', [
  stageArchive,
  z.object({
    intent: z.literal('hand over'),
    volumeId: id('The volume'),
    toWhom: z
      .string('Who gets it is missing.')
      .trim()
      .min(1, 'Say who gets it. Nothing was added.')
      .max(120, 'The name is longer than 120 letters.'),
    folder: plainName,
    scope: scopeText,
    points: tick,
  }),
  z.object({ intent: z.literal('keep shape'), name: shapeName, scope: scopeText }),
  z.object({ intent: z.literal('forget shape'), name: shapeName }),
]);
const chosenOfArchive = z
  .string()
  .max(200_000)
  .optional()
  .transform((text, context) => {
    if (!text) return null;
    const parsed = only.safeParse(jsonOrNull(text));
    if (parsed.success) return parsed.data;
    context.addIssue({ code: 'custom', message: 'What was chosen could not be understood.' });
    return z.NEVER;
  });
const usedRanges = z
  .string()
  .max(40)
  .optional()
  .transform((text, context) => {
    const handles = handlesFrom(text ?? '', '');
    if (handles !== undefined) return handles;
    context.addIssue({ code: 'custom', message: 'What is kept around is seconds or frames, for example 1s or 24f.' });
    return z.NEVER;
  });
/** Where it was, in its own places. */
const putBackForm = z.object({
  intent: z.literal('put back'),
  archiveId: id('The archive'),
  copyId: id('The copy'),
  only: chosenOfArchive,
});
const restoreForm = z.object({
  intent: z.literal('restore'),
  archiveId: id('The archive'),
  copyId: id('The copy'),
  volumeId: id('The volume'),
  folder,
  /** Only this of it; all where it is left out. */
  only: chosenOfArchive,
  /** Of its timelines' media the used ranges, with so much around, "1s"; else whole files. */
  handles: usedRanges,
  /** Whose paths documents get; else those of this server. */
  station: z
    .string()
    .trim()
    .max(250)
    .optional()
    .transform((name) => name || null),
});
/** What is chosen of an archive, to know what it weighs. */
export const restoreWeightForm = z.object({ only: chosenOfArchive });
function jsonOrNull(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}
export const shelfForm = z.discriminatedUnion('intent', [
  restoreForm,
  z.object({ intent: z.literal('read back'), archiveId: id('The archive') }),
]);
const dayOrNone = (what: string) =>
  z
    .string()
    .trim()
    .default('')
    .refine((text) => text === '' || /^\d{4}-\d\d-\d\d$/.test(text), `${what} is a day, for example 2026-11-30.`)
    .transform((text) => (text === '' ? null : startOfDay(text)))
    .refine((date) => date === null || !Number.isNaN(date.getTime()), `${what} is no day of the calendar.`);
/** The page of one carrier. */
const yearOrNone = z
  .string()
  .trim()
  .transform((text) => (text === '' ? null : Number(text)))
  .refine(
    (year) => year === null || (Number.isInteger(year) && year >= 1880 && year <= 2200),
    'The year is four digits, or empty.',
  )
  .optional()
  .default(null);

const moveCarrierForm = z.object({
  intent: z.literal('move'),
  place: z
    .string('Where it is kept is missing.')
    .trim()
    .min(1, 'Where it is kept is missing.')
    .max(120, 'The place is longer than 120 letters.'),
  lentTo: z
    .string()
    .trim()
    .max(120, 'The name is longer than 120 letters.')
    .default('')
    .transform((text) => (text === '' ? null : text)),
  dueAt: dayOrNone('When it is due back'),
  since: dayOrNone('Since when it is used'),
});
export const carrierForm = z.discriminatedUnion('intent', [
  moveCarrierForm,
  z.object({ intent: z.literal('copy all'), to: id('The other carrier') }),
  z.object({
    intent: z.literal('take in'),
    folder: z
      .string()
      .trim()
      .min(1, 'Say which folder. Nothing was begun.')
      .max(4000, 'The path of the folder is too long. Nothing was begun.'),
    name: z.string().trim().max(250, 'The title is longer than 250 letters. Give a shorter one.'),
    client: z.string().trim().max(200, 'The client may have 200 letters at most.'),
    year: yearOrNone,
  }),
]);
/** What a decision on the site's page can do but lead somewhere. */
export const siteForm = z.discriminatedUnion('intent', [
  z.object({
    intent: z.literal('postpone'),
    key: z.string().min(1).max(400),
    what: z.string().max(500),
    until: dayOrNone('The day until which it waits'),
    reason: z.string().trim().max(300, 'The reason may have 300 letters at most. Nothing was changed.'),
  }),
  z.object({ intent: z.literal('bring back'), key: z.string().min(1).max(400) }),
]);
/** The page of one archive. */
export const archiveForm = z.discriminatedUnion('intent', [
  restoreForm,
  putBackForm,
  z.object({
    intent: z.literal('read back'),
    archiveId: id('The archive'),
    /** Only the copy there; all of them where it is left out. */
    on: z.string().trim().max(250).optional(),
  }),
  z.object({
    intent: z.literal('copy'),
    carrierIds,
    /** The damaged copy that it is made instead of. */
    instead: id('The damaged copy').optional(),
  }),
  z.object({
    intent: z.literal('keep'),
    rule: z.enum(['ask', 'until', 'for ever'], 'That is no way to keep it. Nothing was changed.'),
    until: dayOrNone('The day until which it is kept'),
  }),
  z.object({
    intent: z.literal('hold'),
    reason: z.string().trim().max(300, 'The reason may have 300 letters at most.').optional().default(''),
    lift: z
      .string()
      .optional()
      .transform((value) => value === 'on'),
  }),
  z.object({ intent: z.literal('let go'), typed: z.string().trim().max(250) }),
  z.object({ intent: z.literal('viewing') }),
  z.object({
    intent: z.literal('release'),
    originals: z.enum(['yes', 'no']),
    parts: z
      .string()
      .max(2000)
      .transform((text) => text.split(',').filter(Boolean))
      .refine((list) => list.every((key) => /^\d+-[0-3]$/.test(key)), 'What was ticked could not be understood.'),
  }),
]);
export const planForm = z.discriminatedUnion('intent', [
  z.object({ intent: z.literal('unstage'), stepId: id('The step') }),
  z.object({ intent: z.literal('empty') }),
  z.object({
    intent: z.literal('leave out'),
    stepId: id('The step'),
    ids: ids.optional(),
    text: z.string().max(400).optional(),
    about: z.string().max(40).optional(),
  }),
  z.object({
    intent: z.literal('run'),
    planId: id('The plan'),
    version: z.coerce.number().int().min(0),
    typed: z.string().max(40).optional(),
  }),
]);
export const workForm = z.discriminatedUnion('intent', [
  z.object({
    intent: z.literal('read'),
    volumes: z
      .string()
      .transform((text) => text.split(',').filter(Boolean).map(Number))
      .refine((list) => list.every((n) => Number.isSafeInteger(n) && n > 0), 'The volumes could not be understood.'),
  }),
  z.object({ intent: z.literal('read folder'), folderId: id('The folder') }),
  z.object({ intent: z.literal('cancel'), jobId: id('The work') }),
  z.object({ intent: z.enum(['leave out', 'try again']), questionId: id('The question') }),
]);
const shortName = z
  .string('A name is missing.')
  .trim()
  .min(1, 'The name is empty. Give one.')
  .max(120, 'The name is longer than 120 letters. Give a shorter one.');
const upTo = (most: number, what: string) =>
  z.string().trim().max(most, `${what} may have ${most} letters at most.`).optional().default('');
const projectFacts = {
  name: z
    .string('A title is missing.')
    .trim()
    .min(1, 'The title is empty. Give one.')
    .max(250, 'The title is longer than 250 letters. Give a shorter one.'),
  client: upTo(200, 'The client'),
  year: yearOrNone,
  people: upTo(20_000, 'People'),
  privateNotes: upTo(20_000, 'Notes'),
  publicComments: upTo(20_000, 'Comments'),
};
/** A day as YYYY-MM-DD; empty for now. */
const dayOrNow = z
  .string()
  .trim()
  .optional()
  .default('')
  .transform((text, context) => {
    if (text === '') return null;
    const day = new Date(`${text}T12:00:00Z`);
    if (/^\d{4}-\d{2}-\d{2}$/.test(text) && !Number.isNaN(day.getTime()) && day.toISOString().startsWith(text))
      return day;
    context.addIssue({
      code: 'custom',
      message: `"${text}" is no day. Give one like 2026-03-31, or nothing for today.`,
    });
    return z.NEVER;
  });
export const projectsForm = z.discriminatedUnion('intent', [
  z.object({
    intent: z.literal('give folders'),
    projectId: id('The project'),
    folderIds: ids.refine((list) => list.length <= 100, 'A hundred folders at a time. Nothing was given.'),
  }),
  z.object({ intent: z.literal('from folder'), folderId: id('The folder'), ...projectFacts }),
  z.object({
    intent: z.literal('from template'),
    templateId: id('The template'),
    make: tick,
    ...projectFacts,
  }),
]);

const ruleWord = z.string().trim().toLowerCase().min(1).max(60, 'A word of a rule is longer than 60 letters.');
const kindRule = z
  .object({
    kind: z.enum(KINDS, 'That is not a kind of file.'),
    folderWords: z.array(ruleWord).max(50, 'A rule has 50 words of folders at most.').optional(),
    duties: z.array(z.enum(DUTIES, 'That is not a duty a volume can have.')).max(20).optional(),
    endings: z
      .array(ruleWord.transform((ending) => ending.replace(/^\*?\./, '')))
      .max(200, 'A rule has 200 endings at most.')
      .optional(),
    names: z
      .array(
        z
          .string()
          .trim()
          .min(1)
          .max(120, 'A name pattern is longer than 120 letters.')
          .refine((text) => (text.match(/\*/g)?.length ?? 0) <= 4, 'A name pattern may have four stars at most.'),
      )
      .max(50, 'A rule has 50 names at most.')
      .optional(),
  })
  .refine(
    (rule) => rule.folderWords?.length || rule.duties?.length || rule.endings?.length || rule.names?.length,
    'A rule has nothing in it, so it would take every file. Give it a folder word, a duty, an ending or a name.',
  )
  // Empty parts are no parts, and a folder's words are compared without what is between them.
  .transform(({ kind, folderWords, duties, endings, names }) => ({
    kind,
    ...(folderWords?.length ? { folderWords } : {}),
    ...(duties?.length ? { duties } : {}),
    ...(endings?.length ? { endings } : {}),
    ...(names?.length ? { names } : {}),
  }));
const jsonList = <Schema extends z.ZodType>(schema: Schema, what: string) =>
  z
    .string(`${what} are missing.`)
    .max(200_000, `${what} are too many.`)
    .transform((text, context): unknown => {
      try {
        return JSON.parse(text);
      } catch {
        context.addIssue({ code: 'custom', message: `${what} could not be understood.` });
        return z.NEVER;
      }
    })
    .pipe(schema);
/** The rules by which files get their kinds. */
export const kindRules = z
  .array(kindRule)
  .min(1, 'There is no rule left. Keep at least one.')
  .max(200, 'There are more than 200 rules.');
const rules = jsonList(kindRules, 'The rules');
const wantedOf = (what: string) =>
  z.coerce
    .number(`${what} are no number. Nothing was saved.`)
    .pipe(
      z
        .number()
        .refine((n) => wantedCopies.safeParse(n).success, `${what} are 1 to ${MOST_COPIES}. Nothing was saved.`),
    );

/** A whole number; empty or 0 for never. */
const wholeOrNone = (what: string, most: number) =>
  z
    .string()
    .trim()
    .transform((text) => (text === '' ? 0 : Number(text)))
    .pipe(
      z
        .number(`${what} are no number. Nothing was saved.`)
        .int(`${what} are a whole number. Nothing was saved.`)
        .min(0, `${what} cannot be less than 0. Nothing was saved.`)
        .max(most, `${what} are ${most} at most. Nothing was saved.`),
    );

/** How many stay of what is made again and again. */
const keptFor = (what: 'backup' | 'snapshot', most: number) => ({
  newest: wholeOrNone(`The newest ${what}s that stay`, most).pipe(
    z.number().min(1, `One ${what} stays at least. Nothing was saved.`),
  ),
  days: wholeOrNone('The days', 1000),
  weeks: wholeOrNone('The weeks', 1000),
  months: wholeOrNone('The months', 1000),
});

const mailAddress = z
  .string()
  .trim()
  .max(320)
  .regex(/^[^\s<>@]+@[^\s<>@]+$/, 'An address is like media@house.example. Nothing was saved.');
const webAddress = z
  .string()
  .trim()
  .max(1000)
  .refine((text) => URL.canParse(text) && /^https?:$/.test(new URL(text).protocol), {
    error: 'An address begins with https:// or http://. Nothing was saved.',
  });

/** How often snapshots are taken, and how long they stay. */
const howOften = {
  everyMinutes: wholeOrNone('The minutes', 10_080).pipe(
    z.number().min(1, 'One minute lies between two at least. Nothing was saved.'),
  ),
  hours: wholeOrNone('The hours', 1000),
  ...keptFor('snapshot', 10_000),
};
export const settingsForm = z.discriminatedUnion('intent', [
  z.object({
    intent: z.literal('house'),
    name: z.string().trim().max(120, 'The name is longer than 120 letters. Nothing was saved.'),
    zone: z
      .string()
      .trim()
      .refine((name) => name === '' || isZone(name), {
        error: 'There is no time zone of that name. Choose one of the list, like Europe/Lisbon. Nothing was saved.',
      }),
  }),
  z.object({ intent: z.literal('hours'), hours: jsonList(houseHours, 'The hours') }),
  z.object({ intent: z.literal('preview'), rules }),
  z.object({ intent: z.literal('save'), rules, previewed: z.string().max(64) }),
  z.object({
    intent: z.literal('removing'),
    copies: wantedOf('The copies'),
    places: wantedOf('The places'),
    readBackMonths: wholeOrNone('The months after which a copy is read back again', 240),
    carrierYears: wholeOrNone('The years that a carrier is used', 100),
    asideDays: wholeOrNone('The days after which what is set aside goes', 3650),
    asideShortGb: wholeOrNone('The gigabytes that are to be free', 1_000_000),
    readBackHours: z.coerce
      .number('The hours are not a number.')
      .int('The hours are not a whole number.')
      .min(0, 'The hours cannot be less than none.')
      .max(8760, 'A read-back can stand for a year at most: 8,760 hours.'),
    trustUnseen: tick,
  }),
  z.object({
    intent: z.literal('backup'),
    folder: z
      .string()
      .trim()
      .max(4000, 'The path of the folder is too long. Nothing was saved.')
      .refine((text) => text === '' || text.startsWith('/'), {
        error: 'Say the whole path of the folder, beginning with /. Nothing was saved.',
      }),
    ...keptFor('backup', 1000),
  }),
  z.object({
    intent: z.literal('snapshots'),
    volumeId: z
      .literal('')
      .transform(() => null)
      .or(id('The volume')),
    alsoVolumeId: z
      .literal('')
      .transform(() => null)
      .or(id('The second volume'))
      .optional()
      .default(null),
    ...howOften,
  }),
  z.object({ intent: z.literal('back up now') }),
  z.object({
    intent: z.literal('post'),
    host: z.string().trim().max(255, 'The name of the mail server is too long. Nothing was saved.'),
    port: wholeOrNone('The port', 65_535).pipe(z.number().min(1, 'A port is from 1 to 65535. Nothing was saved.')),
    encryption: z.enum(['tls', 'starttls', 'none'], 'That is no way to encrypt mails. Nothing was saved.'),
    user: z.string().trim().max(255, 'The name is too long. Nothing was saved.'),
    from: z.literal('').or(mailAddress),
    to: z
      .string()
      .transform((text) => text.split(/[\s,;]+/).filter(Boolean))
      .pipe(z.array(mailAddress).max(20, 'Twenty people at most. Nothing was saved.')),
    hour: wholeOrNone('The hour', 23),
    alerts: tick,
    address: z
      .literal('')
      .or(webAddress)
      .transform((text) => text.replace(/\/+$/, '')),
    webhook: z.literal('').or(webAddress),
  }),
  z.object({ intent: z.literal('test post'), by: z.enum(['mail', 'webhook']) }),
  z.object({
    intent: z.literal('template'),
    name: shortName,
    homes: jsonList(
      z.array(
        z.object({
          kind: z.enum(KINDS, 'That is not a kind of file.'),
          volumeId: id('The volume'),
          folder: folderOrTop,
        }),
      ),
      'The homes',
    ),
  }),
]);

export const projectForm = z.discriminatedUnion('intent', [
  z.object({
    intent: z.literal('state'),
    state: z.enum(PROJECT_STATES, 'That is not a state a project can be in.'),
    since: dayOrNow,
  }),
  z.object({ intent: z.literal('facts'), ...projectFacts }),
  z.object({ intent: z.literal('move'), kind: z.enum(KINDS, 'That is not a kind of file.') }),
  z.object({
    intent: z.literal('park'),
    which: z.enum(PARKED, 'Choose all media, or the unused.'),
    volumeId: id('The volume'),
  }),
  z.object({ intent: z.literal('bring back') }),
  z.object({ intent: z.literal('gather') }),
  z.object({ intent: z.literal('make homes') }),
  z.object({ intent: z.literal('set aside'), clips: ids }),
  z.object({ intent: z.literal('template'), template: shortName }),
  z.object({
    intent: z.literal('home'),
    kind: z.enum(KINDS, 'That is not a kind of file.'),
    volumeId: id('The volume'),
    folder: folderOrTop,
  }),
  z.object({ intent: z.literal('suggest') }),
]);
/** Which file each clip gets. */
export const relinkForm = z.object({
  choices: z
    .string()
    .transform((text, context) => {
      try {
        return JSON.parse(text) as unknown;
      } catch {
        context.addIssue({ code: 'custom', message: 'The choice cannot be read. Choose again.' });
        return z.NEVER;
      }
    })
    .pipe(
      z
        .array(z.object({ mediaId: z.number().int().positive(), fileId: z.number().int().positive() }))
        .min(1, 'No clip is chosen.')
        .max(20_000, 'That is more than one relinking takes.'),
    ),
});
export const personForm = z.object({
  theme: z.enum(['system', 'light', 'dark']).optional(),
  name: z
    .string()
    .trim()
    .min(1, 'Give a name, so that receipts say who did it.')
    .max(60, 'The name is longer than 60 letters.')
    .optional(),
});

const name = z
  .string('A name is missing.')
  .trim()
  .min(1, 'The name is empty. Give one.')
  .max(60, 'The name is longer than 60 letters. Give a shorter one.');
const fullPath = z
  .string('The path is missing.')
  .trim()
  .max(4000, 'The path is too long.')
  .refine(
    (text) => text.startsWith('/') && !text.includes('\0'),
    'The path does not begin at the top of the machine. Give a full one, like /mnt/store.',
  );
/** A capacity in gigabytes; empty for 'measure it'. */
const capacity = z
  .string()
  .trim()
  .transform((text, context) => {
    if (text === '') return null;
    const gigabytes = Number(text.replace(',', '.'));
    if (Number.isFinite(gigabytes) && gigabytes > 0 && gigabytes < 1e9) return Math.round(gigabytes * 1e9);
    context.addIssue({
      code: 'custom',
      message: `"${text}" is no capacity. Give a number of GB, or leave it empty to have it measured.`,
    });
    return z.NEVER;
  });
const everyHours = z
  .string()
  .trim()
  .transform((text) => (text === '' ? null : Number(text)))
  .refine(
    (hours) => hours === null || (Number.isInteger(hours) && hours >= 1 && hours <= 8760),
    'How often it is read is a whole number of hours from 1 to 8760, or empty for only when asked.',
  );
const duty = z.enum(DUTIES, 'That is not a duty a volume can have.');
const megabits = z
  .string()
  .trim()
  .transform((text) => (text === '' ? null : Number(text)))
  .refine(
    (speed) => speed === null || (Number.isInteger(speed) && speed >= 1 && speed <= 1_000_000),
    'The link speed is a whole number of megabits a second, or empty where nobody knows.',
  )
  .optional()
  .default(null);
const role = z.enum(['workstation', 'server', 'portable'], 'That is not what a station can be.');
/** What a volume is like, the same when it is added and when it is changed. */
const volumeTraits = {
  name,
  path: fullPath,
  duty,
  capacity,
  everyHours,
  systemDrive: tick,
  portable: tick,
  shared: tick,
  linkMbits: megabits,
  disk: z.string().trim().max(120, 'The name of the disk is longer than 120 letters.').optional(),
};

/** A folder of this server that somebody looks into. */
export const folderAsked = z
  .string()
  .max(4095, 'The path is longer than 4,095 letters.')
  .startsWith('/', 'A full path begins with /.')
  .refine((text) => !text.includes('\0'), 'A path cannot hold that.');

export const placesForm = z.discriminatedUnion('intent', [
  z.object({
    intent: z.literal('add volume'),
    station: name,
    role,
    ...volumeTraits,
  }),
  z.object({
    intent: z.literal('change volume'),
    volumeId: id('The volume'),
    ...volumeTraits,
  }),
  z.object({ intent: z.literal('change station'), stationId: id('The station'), name, role }),
  z.object({ intent: z.literal('retire station'), stationId: id('The station') }),
  z.object({ intent: z.literal('retire'), volumeId: id('The volume') }),
  z.object({
    intent: z.literal('mount'),
    volumeId: id('The volume'),
    station: name,
    path: z.string().trim().max(4000, 'The path is too long.'),
  }),
  z
    .looseObject({
      intent: z.literal('add carrier'),
      name,
      kind: z.string('The kind of carrier is missing.').min(1).max(40),
      place: name,
      capacity,
    })
    // What a kind of carrier has to know is parsed by the kind itself.
    .transform(({ intent, name, kind, place, capacity, ...rest }) => ({
      intent,
      name,
      kind,
      place,
      capacity,
      settings: Object.fromEntries(
        Object.entries(rest).flatMap(([key, value]) =>
          key.startsWith('setting.') && typeof value === 'string' ? [[key.slice('setting.'.length), value.trim()]] : [],
        ),
      ),
    })),
]);

/** A snapshot that is put beside its document. */
export const snapshotForm = z.discriminatedUnion('intent', [
  z.object({ intent: z.literal('put beside'), snapshotId: id('The snapshot') }),
  z.object({ intent: z.literal('as the house') }),
  z.object({ intent: z.literal('none') }),
  z.object({ intent: z.literal('own'), ...howOften }),
  z.object({
    intent: z.literal('each night'),
    carrierId: id('The carrier'),
    anewDays: wholeOrNone('The days', 365).pipe(
      z.number().min(1, 'Everything is written anew after one day at least. Nothing was saved.'),
    ),
    keepDays: wholeOrNone('The days that nights are kept', 3650),
    allDays: wholeOrNone('The days in which every night stays', 3650),
    weeklyDays: wholeOrNone('The days in which one night a week stays', 3650),
    mostMBps: wholeOrNone('The megabytes a second', 100_000),
  }),
  z.object({ intent: z.literal('not at night') }),
]);

export const undoForm = z.object({ intent: z.literal('undo') });
