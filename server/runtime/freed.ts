// What removing gave back, as against what the files say of themselves: files with holes took less, files with other names
// took nothing with them, and the volume itself tells how much more is free than before. Said in the receipt.
import { eq, sql } from 'drizzle-orm';
import { freeBytesOf } from '#disk/folders.ts';
import type { ItemResult } from '#disk/remove.ts';
import type { Transaction } from '../db/connect.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import type { JobContext } from './context.ts';
import { LeaseLost } from './queue.ts';

type Step = Pick<typeof steps.$inferSelect, 'id'>;
type Outcome = { item: { sizeBytes: number }; result: ItemResult };

/** Before the first file of a step goes, once: how much is free. */
export async function noteFreeBefore(context: JobContext, step: Step): Promise<void> {
  const [row] = await context.db.select({ before: steps.freeBefore }).from(steps).where(eq(steps.id, step.id));
  if (row?.before) return;
  const freeBefore = await freeNow(context, step);
  await context.transaction((tx) => tx.update(steps).set({ freeBefore }).where(eq(steps.id, step.id)));
}

/** By volume of the step's items, as far as they can be reached. */
export async function freeNow(context: JobContext, step: Step): Promise<Record<string, number>> {
  const on = await context.db
    .selectDistinct({ id: stepItems.volumeId })
    .from(stepItems)
    .where(eq(stepItems.stepId, step.id));
  const free: Record<string, number> = {};
  for (const { id } of on) {
    try {
      const root = await context.root(id);
      if (root) free[id] = freeBytesOf(root);
    } catch (error) {
      // A volume that does not tell is left out of the sum; work does not end for it.
      if (error instanceof LeaseLost) throw error;
    }
  }
  return free;
}

/** In the transaction that writes a batch down. */
export async function addFreed(tx: Transaction, step: Step, outcomes: readonly Outcome[]): Promise<void> {
  let [freed, linked] = [0, 0];
  for (const { item, result } of outcomes)
    if (result.done && result.freed) {
      if (result.freed.hasOtherNames) linked += item.sizeBytes;
      else freed += result.freed.allocatedBytes;
    }
  if (freed + linked > 0)
    await tx
      .update(steps)
      .set({ freedBytes: sql`${steps.freedBytes} + ${freed}`, linkedBytes: sql`${steps.linkedBytes} + ${linked}` })
      .where(eq(steps.id, step.id));
}

export interface FreedFacts {
  /** What the removed files took on the medium. */
  allocatedBytes: number;
  /** Of files that have other names still. */
  linkedBytes: number;
  /** How much more is free on their volumes than before; others write there too. */
  measuredBytes: number | null;
}

export async function freedFacts(tx: Transaction, step: Step, after: Record<string, number>): Promise<FreedFacts> {
  const [row] = await tx.select().from(steps).where(eq(steps.id, step.id));
  const before = row?.freeBefore ?? {};
  const both = Object.keys(before).filter((id) => id in after);
  return {
    allocatedBytes: row?.freedBytes ?? 0,
    linkedBytes: row?.linkedBytes ?? 0,
    measuredBytes: both.length === 0 ? null : both.reduce((sum, id) => sum + after[id]! - before[id]!, 0),
  };
}
