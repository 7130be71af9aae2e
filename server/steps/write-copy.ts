// Writing another copy of an archive: every file is read from a copy that is good, compared with what was sealed while it is
// copied, and read back from the new carrier; its lists are the very same. From another good copy where one turns out to be
// damaged. A copy is whole or it is not.
import { and, eq, inArray, isNull, sql } from 'drizzle-orm';
import { copyArchive as kind } from '#core/steps/copy-archive.ts';
import { codeOf } from '#disk/facts.ts';
import { type ArchiveFile, payloadAt, tagFiles } from '../archives/bag.ts';
import { type CopyPart, copyPartsOf, type TrustedSums } from '../archives/copies.ts';
import { carrierRoom } from '../archives/shelf.ts';
import { CarrierAway } from '../carriers/kind.ts';
import { isSequential, placeOf } from '../carriers/kinds.ts';
import { isAsFound, isOneFile } from '../carriers/packers.ts';
import type { Transaction } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { stepItems } from '../db/schema/plans.ts';
import { carriers } from '../db/schema/stores.ts';
import { siteMark } from '../db/site-mark.ts';
import type { JobContext } from '../runtime/context.ts';
import { endingOf } from '../runtime/endings.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import type { Ending } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import {
  besideEachOther,
  COPYING,
  finishItems,
  type Item,
  type ItemWork,
  type Outcome,
  runItems,
  type Step,
} from '../runtime/run-items.ts';
import { type Bench, noteFiles, openFor, type Part, partsOf, readBack, throwFor } from './package-model.ts';
import { beginOn, opened, type Place, takeOverBegun } from './package-targets.ts';
import { PartSources } from './part-sources.ts';
import { notePositions } from './positions.ts';
import { discard, placeAll, writeTags } from './seal-package.ts';

interface Copying extends Bench {
  parts: Part[];
  sources: PartSources;
  copyId: number;
  /** The damaged copy that this one stands in for. */
  instead: number | null;
}

/** What of its parameters the writing of a copy asks. */
type Asked = Pick<ReturnType<typeof kind.params.parse>, 'archiveId' | 'instead'>;

async function open(context: JobContext, step: Step, { archiveId, instead }: Asked): Promise<Copying> {
  const { db, job } = context;
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  if (!archive) throw new Error('The archive of this job is not in the catalogue.');
  const copyId = Number(job.params.copyId);
  const held = job.params.carrierIds as number[];
  const sources = await PartSources.open(
    context,
    { archiveId, copyId: 0 },
    (part) => part.copyId !== copyId && held.includes(part.carrierId),
  );
  const parts = await partsOf(db, archiveId);
  return { context, step, archive, targets: [], parts, sources, copyId, instead: instead?.copyId ?? null };
}

async function placesOf({ context, archive, parts, copyId }: Copying): Promise<Place[]> {
  const own = { site: await siteMark(context.db), job: context.job.mark, lease: context.job.lease! };
  const rows = await context.db
    .select({ part: copyParts, carrier: carriers })
    .from(copyParts)
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    .where(eq(copyParts.copyId, copyId))
    .orderBy(copyParts.id);
  return rows.map(({ part: row, carrier }) => {
    const part = parts.find((one) => one.id === row.partId)!;
    const place = placeOf(carrier, context.carrierPath(carrier.id), archive.packer);
    const room = (freeBytes: number) => carrierRoom(context.db, carrier.name, freeBytes);
    const to = { copyPartId: row.id, copyId, name: carrier.name, place, room };
    const pack = { folder: part.folder, ...own, item: row.id };
    return { ...to, part, pack };
  });
}

async function prepare(copying: Copying): Promise<void> {
  const { context, parts } = copying;
  for (const to of await placesOf(copying)) copying.targets.push({ ...to, carrier: await opened(to), placed: false });
  const taken = new Map<string, number>();
  for (const target of copying.targets) await beginOn(copying, target, taken);
  const done = await doneBytes(copying);
  const all = parts.reduce((sum, part) => sum + part.bytes, 0);
  context.phase(kind.phase, 'bytes', 2 * all, 2 * done);
}

async function doneBytes({ context, step }: Copying): Promise<number> {
  const [row] = await context.db
    .select({ bytes: sql`COALESCE(SUM(${stepItems.sizeBytes}), 0)`.mapWith(Number) })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), eq(stepItems.state, 'done')));
  return row!.bytes;
}

async function copyItems(copying: Copying, items: readonly Item[]): Promise<Outcome[]> {
  const { context, archive } = copying;
  const rows = await context.db
    .select()
    .from(archiveFiles)
    .where(
      inArray(
        archiveFiles.id,
        items.map((item) => item.archiveFileId!),
      ),
    );
  const byId = new Map(rows.map((row) => [row.id, row]));
  const files = items.map((item) => byId.get(item.archiveFileId!)!);
  // One file is written entry by entry, and a tape file by file.
  const isInTurn = isOneFile(archive.packer) || copying.targets.some(({ place }) => isSequential(place));
  const beside = isInTurn ? 1 : besideEachOther(context.pools.carriers.size, items);
  await inParallel(beside, files, (file) => copyOne(copying, file));
  await noteFiles(copying, files, 'read back');
  return items.map((item) => ({ item, result: { done: true } }));
}

/** From the first copy whose bytes are those that were sealed; what is damaged on the way is written down. */
async function copyOne(copying: Copying, file: ArchiveFile): Promise<void> {
  const [target] = openFor(copying, file);
  // Its part has its name already.
  if (!target) return;
  const { context, sources } = copying;
  try {
    for await (const source of sources.of(file.partId)) {
      context.check();
      const damage = await copyFrom(copying, file, source);
      if (damage !== null) {
        await sources.noteDamage(source.part, damage, file.id);
        continue;
      }
      return await readBack(copying, target, file);
    }
  } catch (error) {
    if (error instanceof CarrierAway) throw notThere(error.carrier);
    throw error;
  }
  throw noneReads(file.payloadPath, sources);
}

const noneReads = (what: string, { damages }: PartSources) =>
  new Refused(
    `No copy of ${what} reads as it was sealed${damages.length > 0 ? `, for example ${damages.at(-1)}` : ''}. Nothing was placed, and the copies that are there were not touched.`,
  );

const notThere = (carrier: string) =>
  new Refused(
    `${carrier} cannot be reached, or another is in its place. No copy was made. Connect it and add it to the plan again.`,
  );

async function copyFrom(
  copying: Copying,
  file: ArchiveFile,
  { part, sums }: { part: CopyPart; sums: TrustedSums },
): Promise<string | null> {
  const { context } = copying;
  const [target] = openFor(copying, file);
  const at = payloadAt(file);
  await context.assertLease();
  try {
    const result = await context.pools.carriers.ask(
      {
        do: 'copy',
        ...{ sizeBytes: file.payloadBytes!, modifiedMs: file.modifiedUs / 1000 },
        from: { carrier: part.place, of: part.folder, at },
        to: { carrier: target!.place, pack: target!.pack, at },
      },
      { progress: (bytes) => context.add(bytes), stop: context.stop },
    );
    if (sums.sha512.get(at) === result.sha512 && file.sha512 === result.sha512) return null;
    await target!.carrier.remove(target!.pack, at);
    return `${at} is not what was sealed`;
  } catch (error) {
    context.check();
    if (codeOf(error) === 'source_damaged') return `${at}: ${(error as Error).message}`;
    return throwFor(copying, error, file);
  }
}

/** The lists are those that were sealed, byte for byte: one sum knows every copy. What was taken in as it was found gets its own. */
async function seal(copying: Copying): Promise<void> {
  const { context, parts, targets } = copying;
  context.rename('writing the lists');
  for (const part of parts) {
    const open = targets.filter((target) => !target.placed && target.part.id === part.id);
    if (open.length === 0) continue;
    const files = await context.db.select().from(archiveFiles).where(eq(archiveFiles.partId, part.id));
    const own = files.filter((file) => file.archiveId === part.archiveId);
    const texts = await listsOf(copying, part, own);
    for (const target of open) await writeTags(copying, target, { tags: { texts }, files: own });
  }
  await placeAll(copying);
}

async function listsOf(
  copying: Copying,
  part: Part,
  files: readonly ArchiveFile[],
): Promise<readonly (readonly [name: string, text: string])[]> {
  const { context, archive, parts, sources } = copying;
  let reads = false;
  for await (const { sums } of sources.of(part.id)) {
    reads = true;
    if (sums.texts.size > 0) return [...sums.texts];
  }
  if (!reads) throw noneReads(`the lists of ${part.folder}`, sources);
  const at = archive.sealedAt ?? context.now();
  const tags = await tagFiles(context.db, archive, { files, part, parts, at, shape: {}, gaps: [] });
  const others = await copyPartsOf(context.db, archive.id);
  const hasLists = others.some(
    ({ partId, copyId, place, state }) =>
      partId === part.id && copyId !== copying.copyId && !isAsFound(place.packer) && state !== 'ended early',
  );
  if (hasLists && part.manifestSha512 !== tags.manifestSha512)
    throw new Refused(
      `The lists of ${part.folder} lie on a carrier that is not in reach, and another copy has to have the same. No copy was made. Connect it and add the copy again.`,
    );
  // Before anything gets its name: whoever goes on with this knows by it what is ours.
  await context.transaction((tx) =>
    tx.update(archiveParts).set({ manifestSha512: tags.manifestSha512 }).where(eq(archiveParts.id, part.id)),
  );
  part.manifestSha512 = tags.manifestSha512;
  return tags.texts;
}

async function conclude(copying: Copying, ending: Ending): Promise<void> {
  if (ending.state !== 'done') {
    await takeOverBegun(copying, await placesOf(copying));
    return discard(copying);
  }
  try {
    await seal(copying);
    await notePositions(copying);
  } catch (thrown) {
    // Throws on where the lease or the database is gone: then what was written is kept for the next run.
    endingOf(copying.context, thrown);
    await discard(copying);
    throw thrown instanceof CarrierAway ? notThere(thrown.carrier) : thrown;
  }
}

async function lastWords(copying: Copying, tx: Transaction): Promise<Record<string, unknown>> {
  const { context, archive, copyId, instead, targets, sources } = copying;
  const now = context.now();
  const isGood = targets.length > 0 && targets.every((target) => target.placed);
  const state = isGood ? ('good' as const) : ('ended early' as const);
  const times = isGood ? { readBackAt: now } : {};
  await tx
    .update(archiveCopies)
    .set({ state, ...times, ...(isGood ? { writtenAt: now } : {}) })
    .where(eq(archiveCopies.id, copyId));
  await tx
    .update(copyParts)
    .set({ state, ...times })
    .where(eq(copyParts.copyId, copyId));
  for (const { copyPartId, part } of targets)
    if (isGood)
      // Of archives that build on this one, the same files are proven by it as well.
      await tx.execute(sql`
        INSERT INTO copy_files (copy_part_id, archive_file_id, state, read_back_at)
        SELECT ${copyPartId}, f.id, 'read back', ${now} FROM archive_files f WHERE f.part_id = ${part.id} AND f.archive_id <> ${archive.id}
        ON DUPLICATE KEY UPDATE state = 'read back'`);
    else await tx.delete(copyFiles).where(eq(copyFiles.copyPartId, copyPartId));
  if (isGood && instead !== null)
    await tx
      .update(archiveCopies)
      .set({ replacedBy: copyId })
      .where(and(eq(archiveCopies.id, instead), eq(archiveCopies.state, 'damaged'), isNull(archiveCopies.replacedBy)));
  return {
    archiveId: archive.id,
    copyId,
    ...(isGood && instead !== null ? { instead } : {}),
    carriers: [...new Set(targets.map((target) => target.name))],
    from: sources.used,
    ...(sources.damages.length > 0 ? { damagedCopies: sources.damages } : {}),
  };
}

const workOf = (copying: Copying): ItemWork => ({
  kind,
  ...COPYING,
  projectId: copying.archive.projectId,
  prepare: () => prepare(copying),
  act: (items) => copyItems(copying, items),
  // What is begun is simply not done.
  finishOrUndo: async (items) => items.map((item) => ({ item, result: null })),
  conclude: (ending) => conclude(copying, ending),
  lastWords: (tx) => lastWords(copying, tx),
});

async function withCopying(
  context: JobContext,
  step: Step,
  { asked, run }: { asked: Asked; run: (copying: Copying) => Promise<void> },
): Promise<void> {
  const copying = await open(context, step, asked);
  try {
    await run(copying);
  } finally {
    for (const { carrier } of copying.targets) await carrier.close();
  }
}

export const writeCopy = (context: JobContext, step: Step, asked: Asked): Promise<void> =>
  withCopying(context, step, { asked, run: (copying) => runItems(context, step, workOf(copying)) });

/** Ends it without writing any more: what has no name yet is thrown away. */
export const giveUpCopy = (context: JobContext, step: Step, asked: Asked): Promise<void> =>
  withCopying(context, step, {
    asked,
    run: (copying) =>
      finishItems(context, step, { work: workOf(copying), ending: { state: 'failed', trouble: context.givenUp } }),
  });
