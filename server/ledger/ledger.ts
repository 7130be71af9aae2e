// Receipts: written once, in the same transaction as the end of the work, chained by checksums so that a receipt that
// was changed from outside shows. Nothing here changes or removes one, and the tables refuse it too.
import { createHash } from 'node:crypto';
import { asc, desc, eq, lt, sql } from 'drizzle-orm';
import type { Database, Db } from '../db/connect.ts';
import { receipts } from '../db/schema/receipts.ts';

export type Receipt = typeof receipts.$inferSelect;
export type NewReceipt = Omit<typeof receipts.$inferInsert, 'id' | 'chainSha256'>;

const FIRST = '0'.repeat(64);

/** Writes a receipt. Must run in a transaction: the chain's end is locked until it commits. */
export async function writeReceipt(tx: Db, receipt: NewReceipt): Promise<void> {
  const [last] = await tx
    .select({ chain: receipts.chainSha256 })
    .from(receipts)
    .orderBy(desc(receipts.id))
    .limit(1)
    .for('update');
  await tx.insert(receipts).values({ ...receipt, chainSha256: chainOf(receipt, last?.chain ?? FIRST) });
}

function chainOf(receipt: NewReceipt, before: string): string {
  const body = [
    before,
    receipt.at.toISOString(),
    receipt.who,
    receipt.action,
    receipt.title,
    receipt.projectId ?? null,
    receipt.jobId ?? null,
    receipt.stepId ?? null,
    receipt.files,
    receipt.bytes,
    receipt.held,
    receipt.facts,
    receipt.itemsSha256,
  ];
  return createHash('sha256').update(JSON.stringify(body)).digest('hex');
}

/** SHA-256 over lines of items, in their order. */
export function itemsHash(lines: Iterable<string>): string {
  const hash = createHash('sha256');
  for (const line of lines) hash.update(line).update('\n');
  return hash.digest('hex');
}

/** Receipts that do not fit the one before them: changed, removed or put in from outside. */
export async function brokenReceipts(db: Database): Promise<number[]> {
  const broken: number[] = [];
  let before = FIRST;
  for (const receipt of await db.select().from(receipts).orderBy(asc(receipts.id))) {
    if (receipt.chainSha256 !== chainOf(receipt, before)) broken.push(receipt.id);
    before = receipt.chainSha256;
  }
  return broken;
}

/** A page of receipts, newest first. `before` is the number after which to go on. */
export function pageOfReceipts(db: Database, before: number | null, size = 100): Promise<Receipt[]> {
  return db
    .select()
    .from(receipts)
    .where(before === null ? undefined : lt(receipts.id, before))
    .orderBy(desc(receipts.id))
    .limit(size);
}

export async function receiptOf(db: Database, id: number): Promise<Receipt | null> {
  const [receipt] = await db.select().from(receipts).where(eq(receipts.id, id));
  return receipt ?? null;
}

/** Sums over the whole ledger. */
export async function ledgerSums(
  db: Database,
): Promise<{ receipts: number; removedBytes: number; archivedBytes: number }> {
  const [row] = await db
    .select({
      receipts: sql`COUNT(*)`.mapWith(Number),
      removedBytes:
        sql`COALESCE(SUM(IF(${receipts.action} IN ('caches removed', 'originals removed'), ${receipts.bytes}, 0)), 0)`.mapWith(
          Number,
        ),
      archivedBytes: sql`COALESCE(SUM(IF(${receipts.action} = 'archive sealed', ${receipts.bytes}, 0)), 0)`.mapWith(
        Number,
      ),
    })
    .from(receipts);
  return row!;
}
