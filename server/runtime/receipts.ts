// Receipts: written once, in the same transaction as the end of the work, chained by checksums so that a receipt that
// was changed from outside shows. Nothing here changes or removes one, and the tables refuse it too.
import { createHash } from 'node:crypto';
import { asc, desc, gt, sql } from 'drizzle-orm';
import type { Database, Db } from '../db/connect.ts';
import { receipts } from '../db/schema/receipts.ts';
import { site } from '../db/schema/site.ts';

export type Receipt = typeof receipts.$inferSelect;
export type NewReceipt = Omit<typeof receipts.$inferInsert, 'id' | 'chainSha256'>;

const FIRST = '0'.repeat(64);

/** The row that stands for the end of the chain. */
const CHAIN = 'ledger';

/**
 * Writes a receipt. Must run in a transaction. Who writes one waits until the one before has committed: a lock on the last
 * receipt would not do, as whoever waits for it is given that row and not the one that came behind it meanwhile.
 */
export async function writeReceipt(tx: Db, receipt: NewReceipt): Promise<number> {
  await tx
    .insert(site)
    .values({ key: CHAIN, value: '' })
    .onDuplicateKeyUpdate({ set: { value: sql`${site.value}` } });
  const [last] = await tx
    .select({ chain: receipts.chainSha256 })
    .from(receipts)
    .orderBy(desc(receipts.id))
    .limit(1)
    .for('update');
  const chainSha256 = chainOf(receipt, last?.chain ?? FIRST);
  const [{ insertId }] = await tx.insert(receipts).values({ ...receipt, chainSha256 });
  return insertId;
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
  const hash = itemsHasher();
  for (const line of lines) hash.add(line);
  return hash.digest();
}

/** The same, line by line, where the lines are too many to hold. */
export function itemsHasher(): { add(line: string): void; digest(): string } {
  const hash = createHash('sha256');
  return { add: (line) => void hash.update(line).update('\n'), digest: () => hash.digest('hex') };
}

const PAGE = 500;

/** Whether a receipt fits the one before it; null for the first. */
export const fitsBefore = (receipt: Receipt, before: Receipt | null): boolean =>
  receipt.chainSha256 === chainOf(receipt, before?.chainSha256 ?? FIRST);

/** How far the chain was looked through. */
export interface Checkpoint {
  last: number;
  chain: string;
}
export const START: Checkpoint = { last: 0, chain: FIRST };

/** Receipts that do not fit the one before them: changed, removed or put in from outside. */
export const brokenReceipts = async (db: Database): Promise<number[]> => (await brokenSince(db, START)).broken;

/** The same of those behind a checkpoint, with the next one. */
export async function brokenSince(
  db: Database,
  { last: from, chain }: Checkpoint,
): Promise<{ broken: number[]; next: Checkpoint }> {
  const broken: number[] = [];
  let before = chain;
  for (let last = from; ;) {
    const page = await db.select().from(receipts).where(gt(receipts.id, last)).orderBy(asc(receipts.id)).limit(PAGE);
    for (const receipt of page) {
      if (receipt.chainSha256 !== chainOf(receipt, before)) broken.push(receipt.id);
      before = receipt.chainSha256;
      last = receipt.id;
    }
    if (page.length < PAGE) return { broken, next: { last, chain: before } };
  }
}
