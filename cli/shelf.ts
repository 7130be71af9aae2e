// Commands about what is on the shelf: which archives there are and where something lies, another copy, reading back, and letting
// go of what an archive stands for. They add to the same plan as the interface.
import type { Command } from 'commander';
import { type ArchiveId, LEVEL_WORDS } from '#core/model.ts';
import type { Group } from '#core/reclaim/worth.ts';
import { count, counted, duration, listed, size } from '#core/wording/amounts.ts';
import { GROUP_WORDS } from '#core/wording/reclaim.ts';
import { measuredRates } from '#server/archives/rates.ts';
import { askToReadBackAll, readBackWords } from '#server/archives/read-back.ts';
import { archiveRows, carrierRows } from '#server/archives/shelf.ts';
import type { Database } from '#server/db/connect.ts';
import { Refused } from '#server/runtime/refused.ts';
import { whereStored } from '#server/search/where.ts';
import { addCarrierCopies, addCopy } from '#server/steps/copy-archive.ts';
import { addRelease, releaseKey, releaseOf } from '#server/steps/release.ts';
import { addKeepingCommands } from './keeping.ts';
import { named, sealedNamed } from './names.ts';
import { addExportCommand } from './export.ts';
import { addRepairCommand } from './repair.ts';
import { addRestoreCommand } from './restore.ts';
import type { Out } from './shaping.ts';
import { table } from './table.ts';
import { addTakeInCommand } from './take-in.ts';

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
  command
    .command('migrate')
    .description('adds a copy of everything on a carrier to the plan, onto another; the carrier stays as it is')
    .argument('<carrier>', 'its number')
    .requiredOption('--to <carrier>', 'the other')
    .action((from: string, { to }: { to: string }) => migrate(open(), out, { from, to }));
  addRepairCommand(command, open, out);
  addTakeInCommand(command, open, out);
  addKeepingCommands(command, open, out);
  addRestoreCommand(command, open, out);
  addExportCommand(command, open, out);
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

async function migrate(db: Database, out: Out, { from, to }: { from: string; to: string }): Promise<void> {
  const all = await carrierRows(db);
  const { carrierId } = named('carrier', all, from);
  const added = await addCarrierCopies(db, { carrierId, to: named('carrier', all, to).carrierId, now: new Date() });
  for (const line of added.left) out(`Not copied: ${line}`);
  out(
    `Added ${counted(added.archives, 'copy', 'copies')} of ${size(added.bytes)} to the plan. Nothing is written before the plan is run.`,
  );
}

async function copy(db: Database, out: Out, { folder, to }: { folder: string; to: readonly string[] }): Promise<void> {
  const one = await sealedNamed(db, folder);
  const all = await carrierRows(db);
  const carrierIds = to.map((name) => named('carrier', all, name).carrierId);
  const added = await addCopy(db, { archiveId: one.archiveId, carrierIds, now: new Date() });
  out(`Added a copy of ${size(added.bytes)} to the plan. Nothing is written before the plan is run.`);
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
  const found = await whereStored(db, { words, ids: null, most: 100 });
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
          one === null ? '' : one.isThere ? `about ${duration(seconds + one.waitSeconds)}` : 'once it is connected',
        ]),
      ),
    ]),
  );
}

async function readBack(db: Database, out: Out, { folder, on }: { folder: string; on?: string }): Promise<void> {
  const one = await sealedNamed(db, folder);
  const by = { who: process.env.USER ?? 'the command line', now: new Date() };
  const carriers = await askToReadBackAll(db, one.archiveId, { ...by, on });
  const dear = await readBackWords(db, one.archiveId, on);
  out(`Reading back ${folder} on ${listed(carriers)} begins as soon as a worker reaches it${dear}.`);
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
