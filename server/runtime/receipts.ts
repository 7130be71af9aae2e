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
export async function writeReceipt(tx: Db, receipt: NewReceipt): Promise<void> {
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

/** Receipts that do not fit the one before them: changed, removed or put in from outside. */
export async function brokenReceipts(db: Database): Promise<number[]> {
  const broken: number[] = [];
  let before = FIRST;
  for (let last = 0; ;) {
    const page = await db.select().from(receipts).where(gt(receipts.id, last)).orderBy(asc(receipts.id)).limit(PAGE);
    for (const receipt of page) {
      if (receipt.chainSha256 !== chainOf(receipt, before)) broken.push(receipt.id);
      before = receipt.chainSha256;
      last = receipt.id;
    }
    if (page.length < PAGE) return broken;
  }
}
