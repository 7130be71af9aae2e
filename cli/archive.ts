// Commands about archives: shaping one, and releasing what it stands for. They add to the same plan as the interface.
import type { Command } from 'commander';
import { handlesFrom } from '#core/archive/lengths.ts';
import {
  archiveFolderName,
  type ArchiveScope,
  LAYOUTS,
  PACKED_AS,
  LEFT_OUT,
  USUAL_SCOPE,
} from '#core/archive/selection.ts';
import type { ArchiveId } from '#core/model.ts';
import { count, counted, duration, listed, size } from '#core/wording/amounts.ts';
import { LEFT_OUT_WORDS } from '#core/wording/lenses.ts';
import { estimateSeconds } from '#core/archive/selection.ts';
import { checkTimelines } from '#server/archives/lengths.ts';
import { measuredRates } from '#server/archives/rates.ts';
import { projectSelection } from '#server/archives/selection.ts';
import { type NamedShape, namedShapes } from '#server/archives/shapes.ts';
import { askToReadBackAll } from '#server/archives/read-back.ts';
import { archiveRows, carrierRows } from '#server/archives/shelf.ts';
import type { Database } from '#server/db/connect.ts';
import { projectById } from '#server/projects/projects.ts';
import { Refused } from '#server/runtime/refused.ts';
import { addArchive } from '#server/steps/archive.ts';
import { addOriginalsRemoval } from '#server/steps/remove-originals.ts';
import { named, projectNamed } from './names.ts';
import { table } from './table.ts';

type Out = (text: string) => void;

interface ArchiveOptions {
  to: string[];
  with?: string;
  versions: string;
  handles?: string;
  timeline: string[];
  layout: string;
  pack: string;
  shape?: string;
  stopAtTrouble?: boolean;
  gap?: string;
  folder?: string;
  dryRun?: boolean;
  json?: boolean;
}

export function addArchiveCommands(command: Command, open: () => Database, out: Out): void {
  command
    .command('archive')
    .description('what an archive of a project would hold; with --to it is added to the plan, one copy on each carrier')
    .argument('<project>', 'its name')
    .option('--to <carrier>', 'a carrier; several times for several copies', (one, all: string[]) => [...all, one], [])
    .option(
      '--with <parts>',
      `what goes in beside the media that timelines use, with commas: ${LEFT_OUT.join(', ')}, or none`,
      USUAL_SCOPE.parts.join(','),
    )
    .option('--versions <which>', 'of each document all versions, or the newest', USUAL_SCOPE.versions)
    .option(
      '--handles <length>',
      'media: only what timelines use, with so much on either side: 1s, 24f; else whole',
      '',
    )
    .option('--gap <seconds>', 'two ranges with less between them are one', '')
    .option(
      '--timeline <name>',
      'only what it uses; several times for several',
      (one, all: string[]) => [...all, one],
      [],
    )
    .option('--layout <how>', `media by ${LAYOUTS.join(', ')}`, USUAL_SCOPE.layout)
    .option('--pack <as>', `written as ${PACKED_AS.join(', ')}`, USUAL_SCOPE.pack)
    .option('--shape <name>', 'a shape that is kept, instead of --with, --versions, --handles, --layout and --pack')
    .option('--stop-at-trouble', 'a file that cannot be read ends the work; else it is left out and told')
    .option('--folder <name>', 'its name on the carriers')
    .option('--dry-run', 'only says what it would hold')
    .option('--json', 'as JSON')
    .action((project: string, asked: ArchiveOptions) => archive(open(), out, { project, ...asked }));
  command
    .command('release')
    .description(
      'adds the removal of the originals of a sealed archive to the plan; each is read back from a copy first',
    )
    .argument('<archive>', 'its folder on the carriers')
    .action((folder: string) => release(open(), out, folder));
  command
    .command('readback')
    .description('has the copies of an archive read back whole; what came of it is in the ledger')
    .argument('<archive>', 'its folder on the carriers')
    .option('--on <carrier>', 'only the copy there')
    .action((folder: string, { on }: { on?: string }) => readBack(open(), out, { folder, on }));
}

function scopeOf(
  { with: parts = '', versions, handles = '', gap = '', timeline, layout, pack, shape, stopAtTrouble }: ArchiveOptions,
  shapes: readonly NamedShape[],
): ArchiveScope {
  if (shape !== undefined) return { ...named('shape', shapes, shape).scope, timelines: timeline };
  const asked = parts.split(',').filter((part) => part !== '' && part !== 'none');
  const unknown = asked.filter((part) => !(LEFT_OUT as readonly string[]).includes(part));
  if (unknown.length > 0)
    throw new Refused(
      `There is no part called ${listed(unknown)}. Known are: ${LEFT_OUT.join(', ')}. Nothing was added.`,
    );
  if (versions !== 'all' && versions !== 'newest')
    throw new Refused(`Versions are all or newest, not "${versions}". Nothing was added.`);
  const length = handlesFrom(handles, gap);
  if (length === undefined)
    throw new Refused(`Handles are seconds or frames, for example 1s or 24f, not "${handles}". Nothing was added.`);
  const own = LAYOUTS.find((one) => one === layout);
  if (!own) throw new Refused(`Media lie by ${listed([...LAYOUTS])}, not by "${layout}". Nothing was added.`);
  const packed = PACKED_AS.find((one) => one === pack);
  if (!packed)
    throw new Refused(`An archive is written as a ${PACKED_AS.join(', ')}, not as "${pack}". Nothing was added.`);
  return {
    parts: LEFT_OUT.filter((part) => asked.includes(part)),
    ...{ versions, handles: length, timelines: timeline, layout: own, pack: packed, goOn: stopAtTrouble !== true },
  };
}

async function archive(db: Database, out: Out, asked: ArchiveOptions & { project: string }): Promise<void> {
  const { projectId, name } = await projectNamed(db, asked.project);
  const scope = scopeOf(asked, await namedShapes(db));
  await checkTimelines(db, projectId, scope.timelines);
  const all = await carrierRows(db);
  const carriers = asked.to.map((carrier) => named('carrier', all, carrier));
  const selection = await projectSelection(db, projectId, scope);
  const project = await projectById(db, projectId);
  const folder = asked.folder ?? archiveFolderName(project!.slug, new Date().toISOString().slice(0, 10));
  const isAdded = carriers.length > 0 && !asked.dryRun;
  const added = isAdded
    ? await addArchive(db, {
        projectId,
        carrierIds: carriers.map((carrier) => carrier.carrierId),
        folder,
        scope,
        now: new Date(),
      })
    : null;
  const seconds = estimateSeconds(selection.chosenBytes, await measuredRates(db));
  if (asked.json)
    return out(
      JSON.stringify(
        {
          project: name,
          folder,
          scope,
          files: selection.chosen.length,
          bytes: selection.chosenBytes,
          missing: selection.missing,
          leftOut: selection.leftOut,
          seconds: Math.round(seconds),
          added,
        },
        null,
        2,
      ),
    );
  out(
    `${name}: ${size(selection.chosenBytes)} in ${counted(selection.chosen.length, 'file')}, about ${duration(seconds)}.`,
  );
  const wholes = new Map<string, number>();
  for (const { whyWhole } of selection.chosen) if (whyWhole) wholes.set(whyWhole, (wholes.get(whyWhole) ?? 0) + 1);
  for (const [why, files] of wholes) out(`${counted(files, 'file')} whole: ${why}.`);
  if (selection.missing > 0) out(`${counted(selection.missing, 'piece')} of media cannot be found and cannot go in.`);
  if (selection.leftOut.length > 0)
    out(
      table([
        ['STAYS OUT', 'FILES', 'SIZE'],
        ...selection.leftOut.map(({ why, files, bytes }) => [LEFT_OUT_WORDS[why], count(files), size(bytes)]),
      ]),
    );
  out(
    added
      ? `Added to the plan as ${folder} on ${listed(carriers.map((carrier) => carrier.name))}. Nothing is written before the plan is run.`
      : 'Nothing was added to the plan.',
  );
}

async function sealedNamed(db: Database, folder: string) {
  const sealed = (await archiveRows(db)).filter((row) => row.state === 'sealed');
  return named(
    'sealed archive',
    sealed.map((row) => ({ ...row, name: row.folder })),
    folder,
  );
}

async function readBack(db: Database, out: Out, { folder, on }: { folder: string; on?: string }): Promise<void> {
  const one = await sealedNamed(db, folder);
  const by = { who: process.env.USER ?? 'the command line', now: new Date() };
  const carriers = await askToReadBackAll(db, one.archiveId, { ...by, on });
  out(`Reading back ${folder} on ${listed(carriers)} begins as soon as a worker reaches it.`);
}

async function release(db: Database, out: Out, folder: string): Promise<void> {
  const one = await sealedNamed(db, folder);
  const added = await addOriginalsRemoval(db, one.archiveId as ArchiveId, new Date());
  out(
    `Added ${size(added.bytes)} of originals in ${counted(added.files, 'file')} to the plan. Nothing goes before the plan is run.`,
  );
}
