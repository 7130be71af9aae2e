// Commands about archives: shaping one, and releasing what it stands for. They add to the same plan as the interface.
import type { Command } from 'commander';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import { type ArchiveId, LEVEL_WORDS } from '#core/model.ts';
import type { Group } from '#core/reclaim/worth.ts';
import { count, counted, listed, size } from '#core/wording/amounts.ts';
import { GROUP_WORDS } from '#core/wording/reclaim.ts';
import { askToReadBackAll } from '#server/archives/read-back.ts';
import { archiveRows, carrierRows } from '#server/archives/shelf.ts';
import type { Database } from '#server/db/connect.ts';
import { earlierArchives, heldBy } from '#server/archives/base.ts';
import { addArchive, copiesOn, sizesOf } from '#server/steps/archive.ts';
import { heldBytes } from '#server/steps/packages.ts';
import { Refused } from '#server/runtime/refused.ts';
import { addCopy } from '#server/steps/copy-archive.ts';
import { addRelease, releaseKey, releaseOf } from '#server/steps/release.ts';
import { named } from './names.ts';
import { type Out, shaped, type ShapeOptions, tellJson, tellSelection, withShape } from './shaping.ts';
import { table } from './table.ts';

interface ArchiveOptions extends ShapeOptions {
  to: string[];
  base?: string;
}

export function addArchiveCommands(command: Command, open: () => Database, out: Out): void {
  withShape(
    command
      .command('archive')
      .description(
        'what an archive of a project would hold; with --to it is added to the plan: a copy on each carrier that holds it, and over those together that do not',
      )
      .argument('<project>', 'its name')
      .option(
        '--to <carrier>',
        'a carrier; several times for several copies, or for one over several',
        (one, all: string[]) => [...all, one],
        [],
      )
      .option(
        '--base <archive>',
        'the earlier archive it builds on: what that holds as it is now is not written again',
      ),
    USUAL_SCOPE,
  ).action((project: string, asked: ArchiveOptions) => archive(open(), out, { project, ...asked }));
  command
    .command('release')
    .description(
      'what a sealed archive lets go of: adds the removal of its originals to the plan, each read back from a copy first, and what is named of what stayed out',
    )
    .argument('<archive>', 'its folder on the carriers')
    .option('--with <kinds>', `what stayed out and goes as well, with commas: ${Object.keys(KINDS).join(', ')}`, '')
    .option('--without-originals', 'only what stayed out')
    .option('--dry-run', 'only says what could go')
    .option('--json', 'as JSON')
    .action((folder: string, asked: ReleaseOptions) => release(open(), out, { folder, ...asked }));
  command
    .command('copy')
    .description('adds another copy of a sealed archive to the plan, from copies that are good')
    .argument('<archive>', 'its folder on the carriers')
    .requiredOption(
      '--to <carrier>',
      'a carrier; several times where one alone does not hold it',
      (one, all: string[] = []) => [...all, one],
    )
    .action((folder: string, { to }: { to: string[] }) => copy(open(), out, { folder, to }));
  command
    .command('readback')
    .description('has the copies of an archive read back whole; what came of it is in the ledger')
    .argument('<archive>', 'its folder on the carriers')
    .option('--on <carrier>', 'only the copy there')
    .action((folder: string, { on }: { on?: string }) => readBack(open(), out, { folder, on }));
}

async function archive(db: Database, out: Out, asked: ArchiveOptions & { project: string }): Promise<void> {
  const { projectId, name, scope, selection, folder, seconds } = await shaped(db, asked, USUAL_SCOPE);
  const all = await carrierRows(db);
  const carriers = asked.to.map((carrier) => named('carrier', all, carrier));
  const earlier = (await earlierArchives(db, projectId)).map((one) => ({ ...one, name: one.folder }));
  const base = asked.base === undefined ? null : named('archive to build on', earlier, asked.base);
  const baseId = base?.archiveId ?? null;
  const held = base ? await heldBy(db, base.archiveId, selection.chosen) : undefined;
  const isAdded = carriers.length > 0 && !asked.dryRun;
  const carrierIds = carriers.map((carrier) => carrier.carrierId);
  const added = isAdded
    ? await addArchive(db, { projectId, carrierIds, folder, scope, baseId, now: new Date() })
    : null;
  const copies = copiesOn(sizesOf(selection, scope, held), carriers, scope.pack).map((copy) =>
    copy.map(({ carrierId, bytes }) => ({ carrier: all.find((one) => one.carrierId === carrierId)!.name, bytes })),
  );
  const buildsOn = base && held ? { base: base.folder, files: held.size, bytes: heldBytes(selection, held) } : null;
  if (asked.json) return tellJson(out, { project: name, folder, scope, selection, seconds, added, buildsOn, copies });
  tellSelection(out, name, { selection, seconds });
  if (buildsOn)
    out(`${counted(buildsOn.files, 'file')} of it, ${size(buildsOn.bytes)}, lie in ${buildsOn.base} already.`);
  for (const [i, copy] of copies.entries())
    if (copy.length > 1)
      out(`Copy ${i + 1}: over ${listed(copy.map((one) => `${one.carrier} (${size(one.bytes)})`))}.`);
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

async function copy(db: Database, out: Out, { folder, to }: { folder: string; to: readonly string[] }): Promise<void> {
  const one = await sealedNamed(db, folder);
  const all = await carrierRows(db);
  const carrierIds = to.map((name) => named('carrier', all, name).carrierId);
  const added = await addCopy(db, { archiveId: one.archiveId, carrierIds, now: new Date() });
  out(`Added a copy of ${size(added.bytes)} to the plan. Nothing is written before the plan is run.`);
}

async function readBack(db: Database, out: Out, { folder, on }: { folder: string; on?: string }): Promise<void> {
  const one = await sealedNamed(db, folder);
  const by = { who: process.env.USER ?? 'the command line', now: new Date() };
  const carriers = await askToReadBackAll(db, one.archiveId, { ...by, on });
  out(`Reading back ${folder} on ${listed(carriers)} begins as soon as a worker reaches it.`);
}

interface ReleaseOptions {
  with: string;
  withoutOriginals?: boolean;
  dryRun?: boolean;
  json?: boolean;
}

/** Groups by the words that are typed. */
const KINDS: Record<string, Group> = {
  caches: 'caches',
  renders: 'renders',
  proxies: 'proxies',
  unused: 'unused media',
  backups: 'old backups',
  rest: 'left behind',
};

async function release(
  db: Database,
  out: Out,
  { folder, ...asked }: ReleaseOptions & { folder: string },
): Promise<void> {
  const one = await sealedNamed(db, folder);
  const words = asked.with.split(',').filter(Boolean);
  const unknown = words.filter((word) => !(word in KINDS));
  if (unknown.length > 0)
    throw new Refused(
      `There is no kind called ${listed(unknown)}. Known are: ${Object.keys(KINDS).join(', ')}. Nothing was added.`,
    );
  const { originals, parts } = await releaseOf(db, one);
  const groups = words.map((word) => KINDS[word]);
  const chosen = parts.filter((part) => groups.includes(part.group));
  const takes = asked.withoutOriginals !== true && originals.files > 0;
  const added =
    asked.dryRun || (!takes && chosen.length === 0)
      ? null
      : await addRelease(db, {
          archiveId: one.archiveId as ArchiveId,
          ...{ originals: takes, parts: chosen.map(releaseKey), now: new Date() },
        });
  if (asked.json) return out(JSON.stringify({ archive: one.folder, originals, parts, added }, null, 2));
  out(`Originals: ${size(originals.bytes)} in ${counted(originals.files, 'file')}, verified copies exist.`);
  if (parts.length > 0)
    out(
      table([
        ['STAYED OUT', 'IF IT IS NEEDED AGAIN', 'FILES', 'SIZE'],
        ...parts.map(({ group, level, files, bytes }) => [
          GROUP_WORDS[group].name,
          LEVEL_WORDS[level],
          count(files),
          size(bytes),
        ]),
      ]),
    );
  out(
    added
      ? `Added ${size(added.bytes)} in ${counted(added.steps, 'step')} to the plan. Nothing goes before the plan is run.`
      : 'Nothing was added to the plan.',
  );
}
