// Commands about what is on the shelf: which archives there are and where something lies, another copy, reading back, and letting
// go of what an archive stands for. They add to the same plan as the interface.
import type { Command } from 'commander';
import { type ArchiveId, LEVEL_WORDS } from '#core/model.ts';
import type { Group } from '#core/reclaim/worth.ts';
import { count, counted, duration, listed, size } from '#core/wording/amounts.ts';
import { GROUP_WORDS } from '#core/wording/reclaim.ts';
import { contentRows } from '#server/archives/page.ts';
import { measuredRates } from '#server/archives/rates.ts';
import { askToReadBackAll } from '#server/archives/read-back.ts';
import { archiveRows, carrierRows } from '#server/archives/shelf.ts';
import type { Database } from '#server/db/connect.ts';
import { Refused } from '#server/runtime/refused.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { whereStored } from '#server/search/where.ts';
import { addCopy } from '#server/steps/copy-archive.ts';
import { addRelease, releaseKey, releaseOf } from '#server/steps/release.ts';
import { addRestore, restoreWeight } from '#server/steps/restore.ts';
import { named } from './names.ts';
import type { Out } from './shaping.ts';
import { table } from './table.ts';

export function addShelfCommands(command: Command, open: () => Database, out: Out): void {
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
  const several = (one: string, all: string[]) => [...all, one];
  command
    .command('restore')
    .description('adds bringing an archive back to the plan: all of it, or what is named of it')
    .argument('<archive>', 'its folder on the carriers')
    .requiredOption('--to <volume>', 'the volume that it comes to')
    .option('--folder <name>', 'the new folder there')
    .option('--timeline <name>', 'only what it uses; several times for several', several, [])
    .option('--bin <name>', 'only what lies in it and below; of a bin in a bin both names with / between', several, [])
    .option('--file <part>', 'only files that have this in their names; several times for several', several, [])
    .option('--dry-run', 'only says what would come back')
    .option('--json', 'as JSON')
    .action((folder: string, asked: RestoreOptions) => restore(open(), out, { name: folder, ...asked }));
  command
    .command('shelf')
    .description('archives, their copies and where those are')
    .option('--json', 'as JSON')
    .action(({ json }: { json?: boolean }) => shelf(open(), out, json));
  command
    .command('where')
    .description(
      'in which archives something lies, on which carriers, where those are, and how long it takes to have it here',
    )
    .argument('<name>', 'part of its name, or several parts')
    .option('--json', 'as JSON')
    .action((name: string, { json }: { json?: boolean }) => where(open(), out, { name, json }));
  command
    .command('readback')
    .description('has the copies of an archive read back whole; what came of it is in the ledger')
    .argument('<archive>', 'its folder on the carriers')
    .option('--on <carrier>', 'only the copy there')
    .action((folder: string, { on }: { on?: string }) => readBack(open(), out, { folder, on }));
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

interface RestoreOptions {
  to: string;
  folder?: string;
  timeline: string[];
  bin: string[];
  file: string[];
  dryRun?: boolean;
  json?: boolean;
}

async function restore(db: Database, out: Out, asked: RestoreOptions & { name: string }): Promise<void> {
  const one = await sealedNamed(db, asked.name);
  const archiveId = one.archiveId as ArchiveId;
  const volume = named('volume', await rackVolumes(db), asked.to);
  const good = one.copies.find((copy) => copy.state === 'good');
  if (!good) throw new Refused(`No copy of ${one.folder} is good, so nothing was added.`);
  const files: number[] = [];
  for (const part of asked.file) {
    const { rows } = await contentRows(db, archiveId, { word: part, after: 0 });
    if (rows.length === 0)
      throw new Refused(`Nothing in ${one.folder} has “${part}” in its name or former place. Nothing was added.`);
    files.push(...rows.map((row) => row.id));
  }
  const { timeline: timelines, bin: bins } = asked;
  const isWhole = timelines.length + bins.length + files.length === 0;
  const only = isWhole ? null : { timelines, bins, files: [...new Set(files)] };
  const folder = asked.folder ?? one.folder.replace(/_\d{4}-\d\d-\d\d$/, ' restored');
  const wanted = { archiveId, copyId: good.copyId, volumeId: volume.volumeId, folder, only };
  const weight = await restoreWeight(db, wanted);
  const seconds = Math.round(weight.bytes / (await measuredRates(db)).readBack);
  const added = asked.dryRun ? null : await addRestore(db, { ...wanted, now: new Date() });
  if (asked.json)
    return out(
      JSON.stringify({ archive: one.folder, volume: volume.name, folder, only, ...weight, seconds, added }, null, 2),
    );
  out(
    `${size(weight.bytes)} in ${counted(weight.files, 'file')} to ${volume.name}, ${folder}; about ${duration(seconds)}.`,
  );
  out(added ? 'Added to the plan. Nothing is written before the plan is run.' : 'Nothing was added to the plan.');
}

async function shelf(db: Database, out: Out, json = false): Promise<void> {
  const rows = await archiveRows(db);
  if (json) return out(JSON.stringify(rows, null, 2));
  if (rows.length === 0) return out('Nothing is archived yet.');
  const on = (row: (typeof rows)[number]) =>
    row.copies
      .map(
        (one) => `${one.carriers.map(({ name }) => name).join(' + ')}${one.state === 'good' ? '' : ` (${one.state})`}`,
      )
      .join(', ');
  out(
    table([
      ['ARCHIVE', 'PROJECT', 'SIZE', 'FILES', 'COPIES ON', 'SHORT'],
      ...rows.map((row) => [row.folder, row.name, size(row.bytes), count(row.files), on(row), row.short ?? '']),
    ]),
  );
}

async function where(db: Database, out: Out, { name, json }: { name: string; json?: boolean }): Promise<void> {
  const words = name.toLowerCase().split(/\s+/).filter(Boolean);
  const found = await whereStored(db, { words, fileIds: null, most: 100 });
  const { readBack: rate } = await measuredRates(db);
  const told = found.map((one) => ({ ...one, seconds: Math.round(one.bytes / rate) }));
  if (json) return out(JSON.stringify(told, null, 2));
  if (told.length === 0) return out(`Nothing on the shelf has “${name}” in its name.`);
  out(
    table([
      ['NAME', 'ARCHIVE', 'CARRIER', 'WHERE IT IS', 'SIZE', 'TO HAVE IT'],
      ...told.flatMap(({ name: own, bytes, seconds, copies, folder }) =>
        (copies.length > 0 ? copies : [null]).map((one) => [
          own,
          one?.folder ?? folder,
          one?.carrier ?? 'no good copy',
          one?.place ?? '',
          size(bytes),
          one === null ? '' : one.isThere ? `about ${duration(seconds)}` : 'once it is connected',
        ]),
      ),
    ]),
  );
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
