// How a package is shaped on the command line: its options, and what is told of what would go in.
import { isoDay } from '#core/house-time.ts';
import type { Command } from 'commander';
import { ENCODED, ENCODINGS, type Encodings, encodingsFrom } from '#core/archive/encoding.ts';
import { patternTrouble } from '#core/archive/names.ts';
import { handlesFrom } from '#core/archive/lengths.ts';
import {
  archiveFolderName,
  type ArchiveScope,
  estimateSeconds,
  LAYOUTS,
  LEFT_OUT,
  PACKED_AS,
} from '#core/archive/selection.ts';
import { count, counted, duration, listed, size } from '#core/wording/amounts.ts';
import { LEFT_OUT_WORDS } from '#core/wording/lenses.ts';
import { checkBins } from '#server/archives/bins.ts';
import { checkTimelines } from '#server/archives/lengths.ts';
import { measuredRates } from '#server/archives/rates.ts';
import { projectSelection, type ProjectSelection } from '#server/archives/selection.ts';
import { type NamedShape, namedShapes } from '#server/archives/shapes.ts';
import type { Database } from '#server/db/connect.ts';
import { projectById } from '#server/projects/projects.ts';
import { Refused } from '#server/runtime/refused.ts';
import { named, projectNamed } from './names.ts';
import { table } from './table.ts';

export type Out = (text: string) => void;

export interface ShapeOptions {
  with?: string;
  versions: string;
  handles?: string;
  timeline: string[];
  bin: string[];
  layout: string;
  names: string;
  pack: string;
  rest: string;
  encode?: string;
  shape?: string;
  askAtTrouble?: boolean;
  gap?: string;
  keep: string[];
  withoutData?: boolean;
  folder?: string;
  dryRun?: boolean;
  json?: boolean;
}

/** @param usual what is meant where an option is not given */
export const withShape = (command: Command, usual: ArchiveScope): Command =>
  command
    .option(
      '--with <parts>',
      `what goes in beside the media that timelines use, with commas: ${LEFT_OUT.join(', ')}, or none`,
      usual.parts.join(','),
    )
    .option('--versions <which>', 'of each document all versions, or the newest', usual.versions)
    .option(
      '--handles <length>',
      'media: only what timelines use, with so much on either side: 1s, 24f; else whole',
      '',
    )
    .option('--gap <seconds>', 'two ranges with less between them are one', '')
    .option(
      '--keep <file=length>',
      'of one file another length: a.mov=whole, a.mov=2s; several times for several',
      (one, all: string[]) => [...all, one],
      [],
    )
    .option('--without-data', 'tracks of data and metadata stay behind in what is cut')
    .option(
      '--timeline <name>',
      'only what it uses; several times for several',
      (one, all: string[]) => [...all, one],
      [],
    )
    .option(
      '--bin <name>',
      'what clips in it are of, whole; several times for several; of a bin in a bin both names with / between',
      (one, all: string[]) => [...all, one],
      [],
    )
    .option('--layout <how>', `media by ${LAYOUTS.join(', ')}`, usual.layout)
    .option('--pack <as>', `written as ${PACKED_AS.join(', ')}`, usual.pack)
    .option('--names <pattern>', 'names of media, of {file}, {clip} and {bin}; their endings stay', usual.names)
    .option(
      '--encode <part=how>',
      `what is encoded anew, with commas: ${ENCODED.join(', ')}, each =${ENCODINGS.join(' or =')}; for example render=viewing`,
      '',
    )
    .option('--shape <name>', 'a shape that is kept, instead of what is said of all but --timeline and --bin')
    .option('--ask-at-trouble', 'a file that cannot be read is asked about; else it is left out and told')
    .option(
      '--rest <what>',
      'timelines not chosen and clips whose media is not in it: stays, leaves the documents',
      usual.rest,
    )
    .option('--folder <name>', 'its name where it is written')
    .option('--dry-run', 'only says what it would hold')
    .option('--json', 'as JSON');

/** One of a few words; else a sentence that says which there are. */
function oneOf<Word extends string>(known: readonly Word[], given: string, wording: (known: string) => string): Word {
  const word = known.find((one) => one === given);
  if (word === undefined) throw new Refused(`${wording(known.join(' or '))}, not "${given}". Nothing was added.`);
  return word;
}

function scopeOf(
  {
    with: parts = '',
    versions,
    handles = '',
    gap = '',
    withoutData,
    timeline,
    bin,
    layout,
    names,
    pack,
    rest,
    encode = '',
    shape,
    askAtTrouble,
  }: ShapeOptions,
  { shapes, usual }: { shapes: readonly NamedShape[]; usual: ArchiveScope },
): ArchiveScope {
  if (shape !== undefined)
    return {
      ...named('shape', shapes, shape).scope,
      ...(usual.originals ? {} : { rest: usual.rest }),
      originals: usual.originals,
      timelines: timeline,
      bins: bin,
    };
  const asked = parts.split(',').filter((part) => part !== '' && part !== 'none');
  const unknown = asked.filter((part) => !(LEFT_OUT as readonly string[]).includes(part));
  if (unknown.length > 0)
    throw new Refused(
      `There is no part called ${listed(unknown)}. Known are: ${LEFT_OUT.join(', ')}. Nothing was added.`,
    );
  const length = handlesFrom(handles, gap);
  if (length === undefined)
    throw new Refused(`Handles are seconds or frames, for example 1s or 24f, not "${handles}". Nothing was added.`);
  const trouble = patternTrouble(names);
  if (trouble !== null) throw new Refused(`${trouble} Nothing was added.`);
  return {
    parts: LEFT_OUT.filter((part) => asked.includes(part)),
    versions: oneOf(['all', 'newest'], versions, (known) => `Versions are ${known}`),
    layout: oneOf(LAYOUTS, layout, (known) => `Media lie by ${known}`),
    pack: oneOf(PACKED_AS, pack, (known) => `An archive is written as ${known}`),
    rest: oneOf(['stays', 'leaves'], rest, (known) => `What is not chosen ${known}`),
    handles: length && (withoutData ? { ...length, withoutData } : length),
    ...{ timelines: timeline, bins: bin, files: [], names, originals: usual.originals },
    goOn: askAtTrouble !== true,
    encode: encodingsOf(encode),
  };
}

function encodingsOf(text: string): Encodings {
  const asked = text.split(',').filter(Boolean);
  const found = encodingsFrom(asked.map((one) => one.replace('=', ':')).join(','));
  if (Object.keys(found).length !== asked.length)
    throw new Refused(
      `What is encoded anew is said as part=how, with ${listed([...ENCODED])} as ${ENCODINGS.join(' or ')}, not "${text}". Nothing was added.`,
    );
  return found;
}

/** With the lengths of single files, which are said by their names. */
function withOwn(
  scope: ArchiveScope,
  keep: readonly string[],
  files: readonly { fileId: number; name: string; path: string }[],
): ArchiveScope {
  if (keep.length === 0) return scope;
  if (!scope.handles)
    throw new Refused('--keep says what is otherwise than --handles, which is missing. Nothing was added.');
  const own = keep.flatMap((one) => {
    const at = one.lastIndexOf('=');
    const [name, length] = [one.slice(0, Math.max(0, at)), one.slice(at + 1)];
    const meant = files.filter((file) => file.name === name || file.path === name);
    if (meant.length === 0) throw new Refused(`No file of it is called "${name || one}". Nothing was added.`);
    const around = handlesFrom(length, '0');
    if (around === undefined || length === '')
      throw new Refused(`A length is whole, seconds or frames, for example 2s, not "${length}". Nothing was added.`);
    return meant.map(({ fileId }) => ({ fileId, around: around && { value: around.value, unit: around.unit } }));
  });
  return { ...scope, handles: { ...scope.handles, own } };
}

/** What is asked for of a project, and what that would be. */
export async function shaped(db: Database, asked: ShapeOptions & { project: string }, usual: ArchiveScope) {
  const { projectId, name } = await projectNamed(db, asked.project);
  const common = scopeOf(asked, { shapes: await namedShapes(db), usual });
  await checkTimelines(db, projectId, common.timelines);
  await checkBins(db, projectId, common.bins);
  const first = await projectSelection(db, projectId, common);
  const scope = withOwn(common, asked.keep, first.chosen);
  const selection = scope === common ? first : await projectSelection(db, projectId, scope);
  const project = await projectById(db, projectId);
  const folder = asked.folder ?? archiveFolderName(project!.slug, isoDay(Date.now()));
  const seconds = estimateSeconds(selection, await measuredRates(db));
  return { projectId, name, scope, selection, folder, seconds };
}

interface Told {
  selection: ProjectSelection;
  seconds: number;
}

export function tellJson(
  out: Out,
  {
    selection,
    seconds,
    ...of
  }: Told & {
    project: string;
    folder: string;
    scope: ArchiveScope;
    added: object | null;
    /** Of an archive: the earlier one it builds on, and the carriers of its copies. */
    buildsOn?: object | null;
    copies?: readonly object[];
  },
): void {
  const { chosen, chosenBytes, missing, leftOut } = selection;
  const told = { ...of, files: chosen.length, bytes: chosenBytes, missing, leftOut, seconds: Math.round(seconds) };
  out(JSON.stringify(told, null, 2));
}

export function tellSelection(out: Out, name: string, { selection, seconds }: Told): void {
  out(
    `${name}: ${size(selection.chosenBytes)} in ${counted(selection.chosen.length, 'file')}, about ${duration(seconds)}.`,
  );
  const wholes = new Map<string, number>();
  for (const { whyWhole } of selection.chosen) if (whyWhole) wholes.set(whyWhole, (wholes.get(whyWhole) ?? 0) + 1);
  for (const [why, files] of wholes) out(`${counted(files, 'file')} whole: ${why}.`);
  const encoded = selection.chosen.filter((file) => file.encoding !== null);
  if (encoded.length > 0) {
    const [as, of] = [
      encoded.reduce((n, file) => n + file.keptBytes, 0),
      encoded.reduce((n, file) => n + file.sizeBytes, 0),
    ];
    out(
      `${counted(encoded.length, 'file')} encoded anew, ${size(of)} as about ${size(as)}${as > of ? ': it grows' : ''}.`,
    );
  }
  if (selection.missing > 0) out(`${counted(selection.missing, 'piece')} of media cannot be found and cannot go in.`);
  if (selection.leftOut.length > 0)
    out(
      table([
        ['STAYS OUT', 'FILES', 'SIZE'],
        ...selection.leftOut.map(({ why, files, bytes }) => [LEFT_OUT_WORDS[why], count(files), size(bytes)]),
      ]),
    );
}
