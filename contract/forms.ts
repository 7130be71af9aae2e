// What forms may say, checked at the door. Each message is the sentence a person sees.
import { z } from 'zod';
import { relativePath } from '#core/paths.ts';
import { DUTIES, KINDS, PROJECT_STATES } from '#core/model.ts';

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
export const stageArchiveForm = z.object({
  intent: z.literal('stage'),
  carrierId: id('The carrier'),
  folder: plainName,
});
export const shelfForm = z.discriminatedUnion('intent', [
  z.object({
    intent: z.literal('restore'),
    archiveId: id('The archive'),
    copyId: id('The copy'),
    volumeId: id('The volume'),
    folder,
  }),
  z.object({ intent: z.literal('originals'), archiveId: id('The archive') }),
]);
export const planForm = z.discriminatedUnion('intent', [
  z.object({ intent: z.literal('unstage'), stepId: id('The step') }),
  z.object({ intent: z.literal('empty') }),
  z.object({ intent: z.literal('run'), planId: id('The plan'), version: z.coerce.number().int().min(0) }),
]);
export const workForm = z.discriminatedUnion('intent', [
  z.object({
    intent: z.literal('read'),
    volumes: z
      .string()
      .transform((text) => text.split(',').filter(Boolean).map(Number))
      .refine((list) => list.every((n) => Number.isSafeInteger(n) && n > 0), 'The volumes could not be understood.'),
  }),
  z.object({ intent: z.literal('cancel'), jobId: id('The work') }),
]);
export const projectForm = z.discriminatedUnion('intent', [
  z.object({ intent: z.literal('state'), state: z.enum(PROJECT_STATES, 'That is not a state a project can be in.') }),
  z.object({
    intent: z.literal('home'),
    kind: z.enum(KINDS, 'That is not a kind of file.'),
    volumeId: id('The volume'),
    folder: folderOrTop,
  }),
  z.object({ intent: z.literal('suggest') }),
]);
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

export const placesForm = z.discriminatedUnion('intent', [
  z.object({
    intent: z.literal('add volume'),
    station: name,
    role: z.enum(['workstation', 'server', 'portable']),
    name,
    path: fullPath,
    duty,
    capacity,
    everyHours,
  }),
  z.object({
    intent: z.literal('change volume'),
    volumeId: id('The volume'),
    name,
    path: fullPath,
    duty,
    capacity,
    everyHours,
  }),
  z.object({ intent: z.literal('retire'), volumeId: id('The volume') }),
  z.object({
    intent: z.literal('mount'),
    volumeId: id('The volume'),
    station: name,
    path: z.string().trim().max(4000, 'The path is too long.'),
  }),
  z.object({
    intent: z.literal('add carrier'),
    name,
    type: z.enum(['disk', 'tape', 'remote store']),
    place: name,
    path: fullPath,
    capacity,
  }),
]);
