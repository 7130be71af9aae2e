// How far items are, written down up to a number: after whatever order of beginning, taking and ending, an interrupted run
// finds every item as if each had said so itself.
import { asc, eq } from 'drizzle-orm';
import fc from 'fast-check';
import { TestSite } from '#test/site.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import type { JobContext } from './context.ts';
import { markBegun, markItems, markTaken, setState, settleMarks } from './item-marks.ts';

let site: TestSite;
beforeAll(async () => void (site = await TestSite.open()));
afterAll(() => site.close());

type Item = typeof stepItems.$inferSelect;

async function stepOf(db: Database, count: number): Promise<{ step: { id: number }; items: Item[] }> {
  const [{ insertId }] = await db
    .insert(steps)
    .values({ planId: 1, what: { kind: 'none' } as never, title: 'A step', files: count, bytes: count });
  await db.insert(stepItems).values(
    Array.from({ length: count }, (_, i) => ({
      ...{ stepId: insertId, volumeId: 1, fileId: 0, path: `${i}`, sizeBytes: 1, modifiedUs: 1 },
    })),
  );
  return { step: { id: insertId }, items: await itemsOf(db, insertId) };
}

const itemsOf = (db: Database, stepId: number) =>
  db.select().from(stepItems).where(eq(stepItems.stepId, stepId)).orderBy(asc(stepItems.id));

/** Of each item of a batch: what stands against it, whether it is taken, and whether it was told to its end. */
const fate = fc.record({ isHeld: fc.boolean(), isTaken: fc.boolean(), hasEnded: fc.boolean() });

test('every item of an interrupted run is as far as it was', async () => {
  const context = { transaction: (work) => inTransaction(site.db, work) } as Pick<
    JobContext,
    'transaction'
  > as JobContext;
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.array(fate, { minLength: 1, maxLength: 4 }), { minLength: 1, maxLength: 4 }),
      fc.nat({ max: 2 }),
      async (batches, behind) => {
        const { step, items } = await stepOf(site.db, batches.flat().length + behind);
        const meant = new Map(items.map((item) => [item.id, 'waiting']));
        let at = 0;
        for (const batch of batches) {
          const all = batch.map((how) => ({ ...how, item: items[at++]! }));
          await markBegun(context, step, all.at(-1)!.item.id);
          for (const { item } of all) meant.set(item.id, 'started');
          const held = all.filter((one) => one.isHeld).map((one) => one.item);
          await markItems(context, held, 'started');
          const rest = all.filter((one) => !one.isHeld);
          const taken = rest.filter((one) => one.isTaken).map((one) => one.item);
          await markTaken(
            context,
            rest.map((one) => one.item),
            taken,
          );
          for (const item of taken) meant.set(item.id, 'taken');
          const ended = all.filter((one) => one.hasEnded).map((one) => one.item);
          if (ended.length > 0) await inTransaction(site.db, (tx) => setState(tx, ended, 'done'));
          for (const item of ended) meant.set(item.id, 'done');
        }
        await settleMarks(context, step);
        const after = await itemsOf(site.db, step.id);
        expect(new Map(after.map((item) => [item.id, item.state]))).toEqual(meant);
        // What an earlier run had begun is taken one by one, and a second settling finds nothing to do.
        const begun = after.filter((item) => item.state === 'started');
        await markTaken(context, begun, begun.slice(1));
        await settleMarks(context, step);
        expect((await itemsOf(site.db, step.id)).filter((item) => item.state === 'started')).toHaveLength(
          Math.min(1, begun.length),
        );
      },
    ),
    { numRuns: 25 },
  );
});
