// The ledger as people read it: pages of receipts, and the sums over all of them.
import { desc, eq, lt, sql } from 'drizzle-orm';
import { z } from 'zod';
import { archiveProject } from '#core/steps/archive.ts';
import { allStepKinds } from '#core/steps/registry.ts';
import type { Database } from '../db/connect.ts';
import { receipts } from '../db/schema/receipts.ts';
import type { Receipt } from '../runtime/receipts.ts';

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

const freed = allStepKinds()
  .filter((kind) => kind.does === 'frees')
  .map((kind) => kind.action);
const archived = [archiveProject.action];

/** Sums over the whole ledger. */
export async function ledgerSums(
  db: Database,
): Promise<{ receipts: number; removedBytes: number; archivedBytes: number }> {
  const [row] = await db
    .select({
      receipts: sql`COUNT(*)`.mapWith(Number),
      removedBytes: sql`COALESCE(SUM(IF(${receipts.action} IN ${freed}, ${receipts.bytes}, 0)), 0)`.mapWith(Number),
      archivedBytes: sql`COALESCE(SUM(IF(${receipts.action} IN ${archived}, ${receipts.bytes}, 0)), 0)`.mapWith(Number),
    })
    .from(receipts);
  return row!;
}

const stayedOut = z.array(z.object({ path: z.string(), why: z.string() }));
export type StayedOut = z.infer<typeof stayedOut>[number];

/** What was there and did not go in, as the receipt of a take-in names it; none of others. */
export const stayedOutOf = (facts: Record<string, unknown>): StayedOut[] =>
  stayedOut.safeParse(facts.stayedOut).data ?? [];
