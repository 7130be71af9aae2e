// What removing caches and removing originals share: files are taken in batches, that is written down, and then they go,
// each under the lease of the moment. What follows in the catalogue goes with the journal.
import { eq, sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import type { ProjectId } from '#core/model.ts';
import { freshOpenFiles } from '#disk/open-files.ts';
import { type Held, putBack, type Removal, removeTaken, take } from '#disk/remove.ts';
import { look } from '#disk/facts.ts';
import { FOLDER_HOLDS_MS, type Root } from '#disk/root.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { lockFolders, refreshHoldings } from '../db/holdings.ts';
import { files } from '../db/schema/catalogue.ts';
import { projectsNamingItems } from '../db/naming.ts';
import { stepItems } from '../db/schema/plans.ts';
import { forgetWorth } from '../db/worth.ts';
import { recomputeProjectSumsIn } from '../readings/project-sums.ts';
import { recomputeVersionsIn } from '../readings/versions.ts';
import type { JobContext } from '../runtime/context.ts';
import { workerSettings } from '../settings.ts';
import { trustsUnseenPrograms } from '../site/house-rules.ts';
import type { StoreNeed } from '../runtime/queue.ts';
import { markTaken } from '../runtime/item-marks.ts';
import { type Item, type ItemWork, type Outcome, quietly } from '../runtime/run-items.ts';

export const removalOf = (item: Item): Removal => ({
  itemId: item.id,
  path: item.path,
  raw: item.rawPath,
  expected: item,
});

/** How files are removed; whoever runs it adds what is looked at before. */
export function removal(
  context: JobContext,
): Pick<ItemWork, 'act' | 'batch' | 'finishOrUndo' | 'followUp' | 'frees' | 'overlaps'> {
  return {
    frees: true,
    // What was taken and is not there was removed.
    overlaps: true,
    batch: workerSettings().batch,
    act: (items) => removeItems(context, items),
    finishOrUndo: (items) => finishOrUndoItems(context, items),
    followUp: (tx, outcomes) => forgetRemoved(context, tx, outcomes),
  };
}

/** Files go one after the other without a pause; now and then what waits for an answer of the database is let on. */
const AT_A_STRETCH = 20;
const breathe = () => new Promise((resolve) => setImmediate(resolve));

/**
 * Items whose volume is there, one by one under the lease of the moment, until the work is to end; what cannot be reached
 * is told in `outcomes`.
 */
export async function* reached(
  context: JobContext,
  items: readonly Item[],
  outcomes: Outcome[],
): AsyncGenerator<{ item: Item; root: Root }> {
  for (const [i, item] of items.entries()) {
    if (i % AT_A_STRETCH === 0) await breathe();
    if (context.isToEnd) return;
    const root = await context.root(item.volumeId);
    if (!root) {
      outcomes.push({ item, result: { done: false, reason: 'unreachable' } });
      continue;
    }
    await context.assertLease();
    root.holdsForMs = FOLDER_HOLDS_MS;
    yield { item, root };
  }
}

/** What the disk is given to remove before it is waited for. */
const AT_ONCE = 20;

/**
 * Taken, written down as taken, removed: the disk removes one part while the next is taken, and waits for the database of
 * neither.
 */
async function removeItems(context: JobContext, items: readonly Item[]): Promise<Outcome[]> {
  const names = await context.names();
  const open = freshOpenFiles(await trustsUnseenPrograms(context.db));
  const outcomes: Outcome[] = [];
  const takeThem = async (part: readonly Item[]): Promise<Item[]> => {
    const taken: Item[] = [];
    for await (const { item, root } of reached(context, part, outcomes)) {
      const result = take(root, names, removalOf(item), open);
      // Written down as taken by an earlier run, and not there: that run removed it.
      if (!result.done && result.reason === 'gone' && item.state === 'taken')
        outcomes.push({ item, result: { done: true } });
      else if (result.done) taken.push(item);
      else outcomes.push({ item, result });
    }
    return taken;
  };
  const removeThem = async (part: readonly Item[], taken: readonly Item[]): Promise<void> => {
    await markTaken(context, part, taken);
    for (let at = 0; at < taken.length && !context.isToEnd; at += AT_ONCE) {
      await context.assertLease();
      const some = taken.slice(at, at + AT_ONCE);
      const results = await Promise.allSettled(
        some.map(async (item) => {
          const root = (await context.root(item.volumeId))!;
          return { item, result: await removeTaken(root, names, removalOf(item), open) };
        }),
      );
      for (const one of results) {
        if (one.status === 'rejected') throw one.reason;
        outcomes.push(one.value);
      }
    }
  };
  let removing = Promise.resolve();
  try {
    const size = Math.ceil(items.length / PARTS);
    for (let at = 0; at < items.length; at += size) {
      const part = items.slice(at, at + size);
      const taken = await takeThem(part);
      await removing;
      removing = quietly(removeThem(part, taken));
    }
  } finally {
    // Nothing of it goes on when this has ended, however it ends.
    await removing;
  }
  for (const { item } of outcomes) context.add(item.sizeBytes);
  return outcomes;
}

/** Of a batch: each is written down as taken by itself. */
const PARTS = 2;

/** Gives back what is under a private name; what was written down as taken and is not there was removed. */
async function finishOrUndoItems(context: JobContext, items: readonly Item[]): ReturnType<ItemWork['finishOrUndo']> {
  const names = await context.names();
  const ended: Awaited<ReturnType<ItemWork['finishOrUndo']>> = [];
  for (const item of items) {
    const root = await context.root(item.volumeId);
    if (!root) {
      // It is given back when the volume is there again: see readings/tidy.ts.
      ended.push({ item, result: item.state === 'taken' ? { done: false, reason: 'unreachable' } : null });
      continue;
    }
    await context.assertLease();
    const isThere = look(names.place(root, 'out', item.id)).is !== 'gone';
    if (!isThere) ended.push({ item, result: item.state === 'taken' ? { done: true } : null });
    else {
      const back = putBack({ root, names }, removalOf(item), 'changed');
      ended.push({ item, result: back.reason === 'name taken' ? back : null });
    }
  }
  return ended;
}

/** Takes what went out of the catalogue, with its sums. */
async function forgetRemoved(context: JobContext, tx: Transaction, outcomes: readonly Outcome[]): Promise<void> {
  const went = outcomes.filter((o) => o.result.done || o.result.reason === 'gone');
  if (went.length === 0) return;
  await markGone(
    tx,
    went.map((o) => o.item.fileId),
    context.now(),
  );
}

/** Marks files as gone, with all sums by folder and volume, and what media are found. */
export async function markGone(tx: Transaction, ids: readonly number[], now: Date): Promise<void> {
  if (ids.length === 0) return;
  const { $connection: connection } = tx;
  const [rows] = await connection.query<RowDataPacket[]>('SELECT DISTINCT folder_id AS id FROM files WHERE id IN (?)', [
    ids,
  ]);
  const folders = rows.map((row) => Number(row.id));
  await lockFolders(connection, folders);
  await connection.query('UPDATE files SET gone_at = ? WHERE id IN (?) AND gone_at IS NULL', [now, ids]);
  await forgetWorth(tx, ids);
  await refreshHoldings(connection, folders);
  await connection.query(
    `UPDATE media m JOIN (SELECT t.media_id, COUNT(f.id) AS n FROM media_targets t LEFT JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL
       WHERE t.media_id IN (SELECT media_id FROM media_targets WHERE file_id IN (?)) GROUP BY t.media_id) c ON c.media_id = m.id SET m.found = c.n`,
    [ids],
  );
}

/** In the last transaction: which versions count, and the sums of every project that owns or names what went. */
export async function recomputeAfterRemoval(tx: Transaction, stepId: number): Promise<void> {
  const versions = await recomputeVersionsIn(tx);
  const owned = await tx
    .selectDistinct({ id: files.projectId })
    .from(stepItems)
    .innerJoin(files, eq(files.id, stepItems.fileId))
    .where(sql`${stepItems.stepId} = ${stepId} AND ${files.projectId} IS NOT NULL`);
  const naming = await projectsNamingItems(tx, stepId);
  const ids = [...new Set([...versions, ...[...owned, ...naming].map((row) => row.id!)])];
  await recomputeProjectSumsIn(tx, ids as ProjectId[]);
}

/** Volumes that the items lie on: changed, on disk and in the catalogue. */
export async function volumesOfItems(tx: Db, stepId: number): Promise<StoreNeed[]> {
  const rows = await tx.selectDistinct({ id: stepItems.volumeId }).from(stepItems).where(eq(stepItems.stepId, stepId));
  return rows.flatMap(({ id }): StoreNeed[] => [
    { store: 'volume', id, mode: 'change' },
    { store: 'catalogue', id, mode: 'change' },
  ]);
}

export type { Held };
