// How far the items of a step are while it runs. To write three states for every item is most of what a small file costs, so
// the step says up to which number its items are begun and taken; only those that differ from it say so themselves. Before
// a run looks at what an earlier one left, every item is given its own state again (settleMarks).
import { and, eq, gt, lte, sql } from 'drizzle-orm';
import type { Transaction } from '../db/connect.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import type { JobContext } from './context.ts';

type Item = typeof stepItems.$inferSelect;
type Step = Pick<typeof steps.$inferSelect, 'id'>;

/** The items that wait, up to this number, are begun from now on. */
export const markBegun = (context: JobContext, step: Step, to: number): Promise<unknown> =>
  context.transaction((tx) => tx.update(steps).set({ begunTo: to }).where(eq(steps.id, step.id)));

/**
 * Writes down which of these items were taken, the next by number of their batch; the others of them were not. Nothing
 * that waits lies between them but what a batch before had taken.
 */
export async function markTaken(context: JobContext, items: readonly Item[], taken: readonly Item[]): Promise<void> {
  const last = items.at(-1);
  if (!last) return;
  // What an earlier run had begun says its state itself.
  if (last.state !== 'waiting') return markItems(context, taken, 'taken');
  const isTaken = new Set(taken.map((item) => item.id));
  const others = items.filter((item) => !isTaken.has(item.id));
  await context.transaction(async (tx) => {
    if (others.length > 0) await setState(tx, others, 'started');
    await tx
      .update(steps)
      .set({ takenTo: sql`GREATEST(${steps.takenTo}, ${last.id})` })
      .where(eq(steps.id, last.stepId));
  });
}

/** Writes down how far items are, each by itself. */
export async function markItems(
  context: JobContext,
  items: readonly Item[],
  state: 'waiting' | 'started' | 'taken',
): Promise<void> {
  if (items.length > 0) await context.transaction((tx) => setState(tx, items, state));
}

/** Plain text of a query for thousands of items: building it is most of what it costs. */
export const setState = (tx: Transaction, items: readonly Item[], state: Item['state']): Promise<unknown> =>
  tx.$connection.query('UPDATE step_items SET state = ? WHERE id IN (?)', [state, items.map((item) => item.id)]);

/** Gives every item that an earlier run had begun its own state, and begins to count anew. */
export async function settleMarks(context: JobContext, step: Step): Promise<void> {
  await context.transaction(async (tx) => {
    const [row] = await tx
      .select({ begunTo: steps.begunTo, takenTo: steps.takenTo })
      .from(steps)
      .where(eq(steps.id, step.id));
    if (!row || row.begunTo === 0) return;
    const { begunTo, takenTo } = row;
    const waiting = and(eq(stepItems.stepId, step.id), eq(stepItems.state, 'waiting'));
    await tx
      .update(stepItems)
      .set({ state: 'taken' })
      .where(and(waiting, lte(stepItems.id, takenTo)));
    await tx
      .update(stepItems)
      .set({ state: 'started' })
      .where(and(waiting, gt(stepItems.id, takenTo), lte(stepItems.id, begunTo)));
    await tx.update(steps).set({ begunTo: 0, takenTo: 0 }).where(eq(steps.id, step.id));
  });
}
