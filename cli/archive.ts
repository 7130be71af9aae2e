// The command that shapes an archive and adds it to the same plan as the interface.
import type { Command } from 'commander';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import { counted, listed, size } from '#core/wording/amounts.ts';
import { earlierArchives, heldBy } from '#server/archives/base.ts';
import { carrierRows } from '#server/archives/shelf.ts';
import type { Database } from '#server/db/connect.ts';
import { addArchive, copiesOn, sizesOf } from '#server/steps/archive.ts';
import { heldBytes } from '#server/steps/packages.ts';
import { named } from './names.ts';
import { type Out, shaped, type ShapeOptions, tellJson, tellSelection, withShape } from './shaping.ts';

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
