// What a batch came to is written down before anybody asks whether the work is to end: with batches one after the other, and
// where the next is touched while the last is still being written down.
import { sql } from 'drizzle-orm';
import { z } from 'zod';
import type { JobId } from '#core/model.ts';
import { stepKind } from '#core/steps/kind.ts';
import { addStepKind } from '#core/steps/registry.ts';
import { TestSite } from '#test/site.ts';
import { stepItems } from '../db/schema/plans.ts';
import { receipts } from '../db/schema/receipts.ts';
import { addFileStep, FILE_FACTS } from '../steps/adding.ts';
import { serverStep } from '../steps/kind.ts';
import { addServerStep } from '../steps/registry.ts';
import { volumesOfItems } from '../steps/remove.ts';
import { cancelJob } from './queue.ts';
import { asBatch, runItems } from './run-items.ts';

const asking = stepKind({
  kind: 'ask about files',
  params: z.object({ overlaps: z.boolean(), cancels: z.boolean() }),
  level: () => null,
  does: 'frees',
  action: 'files asked about',
  phase: 'asking',
  title: () => 'Ask about files',
  undoing: () => 'nothing is done',
  effect: () => ({ volumes: [], carriers: [] }),
});
const serverAsking = serverStep({
  kind: asking,
  findings: () => Promise.resolve([]),
  stores: (tx, step) => volumesOfItems(tx, step.id),
  run: (context, step, { overlaps, cancels }) =>
    runItems(context, step, {
      ...{ kind: asking, projectId: null, overlaps, batch: 2 },
      act: async (items) => {
        if (cancels) await cancelJob(context.db, context.job.id as JobId);
        return items.map((item, i) => ({
          item,
          result: i === 0 ? { done: true } : { done: false, reason: 'changed' },
        }));
      },
      // What is not written down is told as if nothing had become of it.
      finishOrUndo: (items) => Promise.resolve(items.map((item) => ({ item, result: null }))),
    }),
  giveUp: () => Promise.resolve(),
});

let site: TestSite;
beforeAll(() => {
  addStepKind(asking);
  addServerStep(serverAsking);
});
beforeEach(async () => void (site = await TestSite.open()));
afterEach(() => site.close());

test.each([
  [false, false],
  [true, false],
  [false, true],
  [true, true],
])('overlapping %s, cancelled in the first batch %s: every outcome is kept', async (overlaps, cancels) => {
  const volume = await site.volume('media');
  for (const name of ['a', 'b', 'c', 'd', 'e']) site.put(`media/${name}.mov`);
  await site.read(volume);
  const asked = { kind: asking, params: { overlaps, cancels }, names: {}, now: new Date() };
  await addFileStep(site.db, asked, async (tx, stepId) => {
    await tx.execute(
      sql`INSERT INTO step_items (${FILE_FACTS.columns}) SELECT ${stepId}, ${FILE_FACTS.values} FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id ORDER BY f.id`,
    );
    return 'none';
  });
  await site.runPlan();
  expect((await site.workOff()).state).toBe(cancels ? 'cancelled' : 'done');
  const states = (await site.db.select().from(stepItems)).map((item) => item.state);
  expect(states).toEqual(
    cancels ? ['done', 'held', 'waiting', 'waiting', 'waiting'] : ['done', 'held', 'done', 'held', 'done'],
  );
  expect(await site.db.select().from(receipts)).toMatchObject([
    cancels ? { files: 1, held: 1, facts: { notReached: 3 } } : { files: 3, held: 2, facts: { notReached: 0 } },
  ]);
});

test('a batch ends with the item that makes it large, but several are copied at once', () => {
  const of = (...sizes: number[]) =>
    asBatch(
      sizes.map((sizeBytes) => ({ sizeBytes })),
      100,
    ).length;
  expect(of(10, 10, 10)).toBe(3);
  expect(of(10, 10, 10, 10, 60, 10)).toBe(5);
  expect(of(500, 500, 500, 500, 500)).toBe(4);
  expect(of()).toBe(0);
  expect(asBatch([{ sizeBytes: 1e15 }, { sizeBytes: 1e15 }])).toHaveLength(2);
});
