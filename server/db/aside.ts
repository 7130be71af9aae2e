// What lies aside, as rows and as sums: whoever sets files aside, takes them back or removes them changes both in one
// transaction.
import { eq, inArray, sql } from 'drizzle-orm';
import type { Db, Transaction } from './connect.ts';
import { inSlices } from './holdings.ts';
import { aside, asideSums } from './schema/aside.ts';

type NewAside = typeof aside.$inferInsert;

/** Writes down files that were set aside. Those that an earlier run wrote down are left as they are. */
export async function addAside(tx: Transaction, rows: readonly NewAside[]): Promise<void> {
  for (const some of inSlices(rows, 500)) {
    const known = await tx
      .select({ itemId: aside.itemId })
      .from(aside)
      .where(
        inArray(
          aside.itemId,
          some.map((row) => row.itemId),
        ),
      );
    const had = new Set(known.map((row) => row.itemId));
    const fresh = some.filter((row) => !had.has(row.itemId));
    if (fresh.length === 0) continue;
    await insertRows(tx, fresh);
    await addToSums(tx, fresh, 1);
  }
}

const COLUMNS: readonly (keyof NewAside)[] = [
  'itemId',
  'stepId',
  'fileId',
  'volumeId',
  'projectId',
  'kind',
  'path',
  'rawPath',
  'asidePath',
  'asideRaw',
  'sizeBytes',
  'modifiedUs',
  'device',
  'inode',
  'changedUs',
  'level',
  'reason',
  'at',
];

/** Plain rows: building the query of so many is most of what it costs. */
const insertRows = (tx: Transaction, rows: readonly NewAside[]): Promise<unknown> =>
  tx.$connection.query(`INSERT INTO aside (${COLUMNS.map((key) => aside[key].name).join(', ')}) VALUES ?`, [
    rows.map((row) => COLUMNS.map((key) => row[key] ?? null)),
  ]);

/** Files that are not aside any more: taken back, or removed. */
export async function endAside(
  tx: Transaction,
  fileIds: readonly number[],
  { state, now }: { state: 'taken back' | 'removed'; now: Date },
): Promise<void> {
  for (const ids of inSlices(fileIds, 500)) {
    const rows = await tx
      .select()
      .from(aside)
      .where(sql`${inArray(aside.fileId, ids)} AND ${aside.state} = 'aside'`)
      .for('update');
    if (rows.length === 0) continue;
    await tx
      .update(aside)
      .set({ state, endedAt: now })
      .where(
        inArray(
          aside.id,
          rows.map((row) => row.id),
        ),
      );
    await addToSums(tx, rows, -1);
  }
}

async function addToSums(
  tx: Transaction,
  rows: readonly Pick<NewAside, 'stepId' | 'volumeId' | 'level' | 'sizeBytes'>[],
  sign: 1 | -1,
): Promise<void> {
  const sums = new Map<string, typeof asideSums.$inferInsert>();
  for (const { stepId, volumeId, level, sizeBytes } of rows) {
    const key = `${stepId} ${volumeId} ${level}`;
    const sum = sums.get(key) ?? { stepId, volumeId, level, files: 0, bytes: 0 };
    sum.files += sign;
    sum.bytes += sign * sizeBytes;
    sums.set(key, sum);
  }
  for (const [, sum] of [...sums].sort(([a], [b]) => (a < b ? -1 : 1)))
    await tx
      .insert(asideSums)
      .values(sum)
      .onDuplicateKeyUpdate({ set: { files: sql`files + ${sum.files}`, bytes: sql`bytes + ${sum.bytes}` } });
  await tx.delete(asideSums).where(eq(asideSums.files, 0));
}

/** Bytes that lie aside on each volume. */
export async function asideByVolume(db: Db): Promise<Map<number, number>> {
  const rows = await db
    .select({ id: asideSums.volumeId, bytes: sql`SUM(${asideSums.bytes})`.mapWith(Number) })
    .from(asideSums)
    .groupBy(asideSums.volumeId);
  return new Map(rows.map((row) => [row.id, row.bytes]));
}
