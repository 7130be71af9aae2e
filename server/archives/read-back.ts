// Reading copies back: every file from its carrier, against lists that lead up to the sum in the catalogue. What does not read
// back marks the copy damaged, with the files. Done for the originals that are about to go, and whenever somebody wants to
// know how a copy is.
import { and, asc, eq, gt, inArray, sql } from 'drizzle-orm';
import { z } from 'zod';
import { fetchWords } from '#core/archive/fetching.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import { counted, listed as listing, size } from '#core/wording/amounts.ts';
import { codeOf } from '#disk/facts.ts';
import { type Carrier, CarrierAway } from '../carriers/kind.ts';
import { isSequential } from '../carriers/kinds.ts';
import { isAsFound } from '../carriers/packers.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyParts } from '../db/schema/archives.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { endJob, enqueue } from '../runtime/queue.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';
import {
  CopyDamaged,
  type CopyPart,
  copyPartsOf,
  markDamaged,
  markReadBack,
  trustedSums,
  withCarrier,
} from './copies.ts';
import { fetchOf } from './fetching.ts';
import { untilReady } from './thaw.ts';

export type Archived = typeof archiveFiles.$inferSelect;

/** Files by the batch; those that were read back already are not read again. */
interface Reading {
  files: Iterable<readonly Archived[]> | AsyncIterable<readonly Archived[]>;
  recent?: ReadonlySet<number>;
  /** Bytes go into the job's progress. */
  counted?: boolean;
  /** By the fast sums that were sealed, where there are any: rot shows in them as well, and they take a third of the time. */
  fast?: boolean;
}

/** What is wrong with a part of a copy, written down; null where all of it is as it was sealed. */
export async function damageOf(
  context: JobContext,
  part: CopyPart,
  { files, recent, counted: isCounted = false, fast = false }: Reading,
): Promise<string | null> {
  const read: number[] = [];
  const damaged: Archived[] = [];
  await untilReady(context, part);
  const listed = await withCarrier(part, async (carrier) => {
    try {
      const sums = await trustedSums(context.db, carrier, part);
      // What others put beside what was taken in says nothing of it.
      return (isAsFound(part.place.packer) ? null : await unlisted(carrier, part, sums.sha512)) ?? sums;
    } catch (error) {
      if (error instanceof CopyDamaged) return error.message;
      throw error;
    }
  });
  if (typeof listed !== 'string')
    for await (const batch of files)
      await inParallel(isSequential(part.place) ? 1 : context.pools.carriers.size, batch, async (file) => {
        context.check();
        const at = `${PAYLOAD}/${file.payloadPath}`;
        const quick = fast && file.xxh64 !== null && listed.xxh64?.get(at) === file.xxh64 ? file.xxh64 : null;
        if (file.sha512 === null || listed.sha512.get(at) !== file.sha512) damaged.push(file);
        else if (recent?.has(file.id)) return;
        else if (await readsBack(context, part, { at, sha512: file.sha512, quick, isCounted })) read.push(file.id);
        else damaged.push(file);
        if (read.length >= 200) await noteReadBack(context, part, read.splice(0));
      });
  await noteReadBack(context, part, read);
  const damage = typeof listed === 'string' ? listed : damaged.length > 0 ? damaged[0]!.payloadPath : null;
  if (damage !== null) {
    const ids = damaged.map((file) => file.id);
    await context.transaction((tx) => markDamaged(tx, part, ids, context.now()));
  }
  return damage;
}

const noteReadBack = (context: JobContext, part: CopyPart, fileIds: readonly number[]): Promise<void> =>
  fileIds.length === 0
    ? Promise.resolve()
    : context.transaction((tx) => markReadBack(tx, part, fileIds, context.now()));

/** What lies in the bag and should not, or is no plain file; null where there is nothing of the kind. */
async function unlisted(carrier: Carrier, part: CopyPart, sums: ReadonlyMap<string, string>): Promise<string | null> {
  for await (const { at, sizeBytes } of carrier.list(part.folder)) {
    if (sizeBytes === null) return `${at} is no plain file`;
    if (at.startsWith(`${PAYLOAD}/`) && !sums.has(at)) return `${at} is in no list`;
  }
  return null;
}

async function readsBack(
  context: JobContext,
  part: CopyPart,
  { at, sha512, quick, isCounted }: { at: string; sha512: string; quick: string | null; isCounted: boolean },
) {
  try {
    const read = await context.pools.carriers.ask(
      { do: 'sum', carrier: part.place, of: part.folder, at, strong: quick === null },
      { stop: context.stop, ...(isCounted ? { progress: (bytes: number) => context.add(bytes) } : {}) },
    );
    return quick === null ? read.sha512 === sha512 : read.xxh64 === quick;
  } catch (error) {
    context.check();
    if (codeOf(error) === 'carrier_away') throw new CarrierAway(part.carrier);
    if (codeOf(error) === 'stopped') throw error;
    return false;
  }
}

const BATCH = 500;

/** Files of a part, by the batch. */
export async function* allFiles(db: Db, part: Pick<CopyPart, 'partId'>): AsyncGenerator<Archived[]> {
  for (let last = 0; ;) {
    // Later archives that build on it have the same files again.
    const rows = await db
      .select()
      .from(archiveFiles)
      .where(
        and(
          eq(archiveFiles.partId, part.partId),
          gt(archiveFiles.id, last),
          sql`${archiveFiles.archiveId} = (SELECT p.archive_id FROM archive_parts p WHERE p.id = ${part.partId})`,
        ),
      )
      .orderBy(asc(archiveFiles.id))
      .limit(BATCH);
    if (rows.length > 0) yield rows;
    if (rows.length < BATCH) return;
    last = rows.at(-1)!.id;
  }
}

const params = z.object({ copyId: z.number() });

/** Asks for all copies of an archive to be read back, or for the one on a carrier. */
export async function askToReadBackAll(
  db: Database,
  archiveId: number,
  { on, ...by }: { who: string; now: Date; on?: string },
): Promise<string[]> {
  const parts = (await copyPartsOf(db, archiveId)).filter(
    (part) =>
      part.isOwn &&
      ['good', 'damaged'].includes(part.state) &&
      !part.isReplaced &&
      (on === undefined || part.carrier.toLowerCase() === on.toLowerCase()),
  );
  if (parts.length === 0)
    throw new Refused(
      on === undefined
        ? 'No copy of it was ever finished, so there is nothing to read back. Nothing was begun.'
        : `No copy of it is on ${on}. Nothing was begun.`,
    );
  for (const copyId of new Set(parts.map((part) => part.copyId))) await askToReadBack(db, copyId, by);
  return [...new Set(parts.map((part) => part.carrier))];
}

/** What reading these copies back takes beyond reading, where something has to thaw or costs: words behind the carriers. */
export async function readBackWords(db: Database, archiveId: number, on?: string): Promise<string> {
  const parts = (await copyPartsOf(db, archiveId)).filter(
    (part) => part.isOwn && (on === undefined || part.carrier.toLowerCase() === on.toLowerCase()),
  );
  return fetchWords(await fetchOf(db, archiveId, { parts, fileIds: null }));
}

/** Asks for a whole copy to be read back, by whoever reaches its carrier. */
export async function askToReadBack(
  db: Database,
  copyId: number,
  { who, now }: { who: string; now: Date },
): Promise<void> {
  const [copy] = await db
    .select({ archive: archives, state: archiveCopies.state })
    .from(archiveCopies)
    .innerJoin(archives, eq(archives.id, archiveCopies.archiveId))
    .where(eq(archiveCopies.id, copyId));
  if (!copy || (copy.state !== 'good' && copy.state !== 'damaged'))
    throw new Refused('There is no such copy, or it was never finished. Nothing was begun.');
  const parts = (await copyPartsOf(db, copy.archive.id)).filter((part) => part.copyId === copyId);
  const carriers = [...new Set(parts.map((part) => part.carrier))];
  const title = `Read back ${copy.archive.name} on ${listing(carriers)}`;
  const stores = parts.map((part) => ({ store: 'carrier' as const, id: part.carrierId, mode: 'look' as const }));
  await inTransaction(db, (tx) =>
    enqueue(tx, { kind: readBackWork.kind, title, params: { copyId }, who, stores }, now),
  );
}

/** What lies in a copy's own parts: files of the project, each once, and all bytes. */
async function sumOf(db: Db, parts: readonly CopyPart[]): Promise<{ files: number; bytes: number }> {
  const [row] = await db
    .select({
      files: sql`COALESCE(SUM(${archiveFiles.role} <> 'document'), 0)`.mapWith(Number),
      bytes: sql`COALESCE(SUM(${archiveFiles.payloadBytes}), 0)`.mapWith(Number),
    })
    .from(archiveFiles)
    .innerJoin(
      archiveParts,
      and(eq(archiveParts.id, archiveFiles.partId), eq(archiveParts.archiveId, archiveFiles.archiveId)),
    )
    .where(
      inArray(
        archiveFiles.partId,
        parts.map((part) => part.partId),
      ),
    );
  return row!;
}

async function readBackCopy(context: JobContext, copyId: number): Promise<void> {
  const { db, job } = context;
  const [copy] = await db
    .select({ archive: archives })
    .from(archiveCopies)
    .innerJoin(archives, eq(archives.id, archiveCopies.archiveId))
    .where(eq(archiveCopies.id, copyId));
  if (!copy) return endPlainly(context);
  const { archive } = copy;
  const parts = await copyPartsOf(db, archive.id, (id) => context.carrierPath(id));
  const own = parts.filter((part) => part.copyId === copyId);
  const { files, bytes } = await sumOf(db, own);
  context.phase('reading back', 'bytes', bytes);
  const damages: string[] = [];
  for (const part of own) {
    const damage = await damageOf(context, part, { files: allFiles(db, part), counted: true, fast: true });
    if (damage !== null) damages.push(`${damage} on ${part.carrier}`);
  }
  const now = context.now();
  await context.transaction(async (tx) => {
    // What was damaged once is not told as whole again because it reads today.
    if (damages.length === 0) {
      for (const part of own)
        await tx.update(copyParts).set({ readBackAt: now }).where(eq(copyParts.id, part.copyPartId));
      await tx.update(archiveCopies).set({ readBackAt: now }).where(eq(archiveCopies.id, copyId));
    }
    await writeReceipt(tx, {
      ...{ at: now, who: job.who, action: 'copy read back', files, bytes, held: 0 },
      title: `${archive.name} on ${listing([...new Set(own.map((part) => part.carrier))])}: ${
        damages.length === 0
          ? `${counted(files, 'file')}, ${size(bytes)}, all as sealed`
          : `damaged, for example ${damages[0]}`
      }`,
      ...{ facts: { archiveId: archive.id, copyId, damages }, itemsSha256: itemsHash([]) },
    });
    await endJob(
      tx,
      job,
      damages.length === 0
        ? { state: 'done' }
        : {
            state: 'failed',
            trouble: `This copy of ${archive.name} is damaged: ${damages[0]}. Nothing was changed on the carrier. Make another copy from one that is whole.`,
          },
    );
  });
}

export const readBackWork = workKind<z.infer<typeof params>>({
  kind: 'read back copy',
  params,
  async run(context, { copyId }) {
    try {
      await readBackCopy(context, copyId);
    } catch (thrown) {
      const away =
        thrown instanceof CarrierAway
          ? new Refused(
              'The carrier was taken away while it was read. Nothing was changed. Connect it and read it back again.',
            )
          : thrown;
      await endAfter(context, away);
    }
  },
});
