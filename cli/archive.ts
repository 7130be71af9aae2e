// Commands about archives: shaping one, and releasing what it stands for. They add to the same plan as the interface.
import type { Command } from 'commander';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId } from '#core/model.ts';
import { counted, listed, size } from '#core/wording/amounts.ts';
import { askToReadBackAll } from '#server/archives/read-back.ts';
import { archiveRows, carrierRows } from '#server/archives/shelf.ts';
import type { Database } from '#server/db/connect.ts';
import { addArchive } from '#server/steps/archive.ts';
import { addOriginalsRemoval } from '#server/steps/remove-originals.ts';
import { named } from './names.ts';
import { type Out, shaped, type ShapeOptions, tellJson, tellSelection, withShape } from './shaping.ts';

interface ArchiveOptions extends ShapeOptions {
  to: string[];
}

export function addArchiveCommands(command: Command, open: () => Database, out: Out): void {
  withShape(
    command
      .command('archive')
      .description(
        'what an archive of a project would hold; with --to it is added to the plan, one copy on each carrier',
      )
      .argument('<project>', 'its name')
      .option(
        '--to <carrier>',
        'a carrier; several times for several copies',
        (one, all: string[]) => [...all, one],
        [],
      ),
    USUAL_SCOPE,
  ).action((project: string, asked: ArchiveOptions) => archive(open(), out, { project, ...asked }));
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

async function archive(db: Database, out: Out, asked: ArchiveOptions & { project: string }): Promise<void> {
  const { projectId, name, scope, selection, folder, seconds } = await shaped(db, asked, USUAL_SCOPE);
  const all = await carrierRows(db);
  const carriers = asked.to.map((carrier) => named('carrier', all, carrier));
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
  if (asked.json) return tellJson(out, { project: name, folder, scope, selection, seconds, added });
  tellSelection(out, name, { selection, seconds });
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
