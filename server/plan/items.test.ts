// The items of a step before it is run: found by text and by what stands against them, and left out.
import { utimesSync } from 'node:fs';
import { eq } from 'drizzle-orm';
import type { FolderId } from '#core/model.ts';
import { TestSite } from '#test/site.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { stepItems } from '../db/schema/plans.ts';
import { addCacheRemoval } from '../steps/remove-caches.ts';
import { draftItems, leaveOut } from './items.ts';
import { currentPlan, findingsOf, runPlan } from './plan.ts';

let site: TestSite;
let stepId: number;
const now = () => new Date();

beforeEach(async () => {
  site = await TestSite.open();
  const volume = await site.volume('media');
  for (let i = 0; i < 9; i++)
    utimesSync(site.put(`media/peaks/${i % 3}/part_${i}%.frm`, '.'.repeat(100 + i)), 1e9, 1e9);
  await site.read(volume);
  const all = await site.db.select({ id: folders.id }).from(folders);
  await addCacheRemoval(site.db, { folderIds: all.map((row) => row.id as FolderId), cutDay: 20_000, now: now() });
  stepId = (await currentPlan(site.db)).steps[0]!.stepId;
});
afterEach(() => site.close());

test('files are found by a part of their path, letter for letter, and page by page', async () => {
  const found = async (text: string) => (await draftItems(site.db, stepId, { after: 0, most: 100, text }))!.found.files;
  expect([
    await found('PART_3'),
    await found('peaks/1/'),
    await found('%'),
    await found('_'),
    await found('x'),
  ]).toEqual([1, 3, 9, 9, 0]);
  const first = (await draftItems(site.db, stepId, { after: 0, most: 4 }))!;
  const second = (await draftItems(site.db, stepId, { after: first.items.at(-1)!.id, most: 100 }))!;
  expect([first.items.length, second.items.length, first.files]).toEqual([4, 5, 9]);
});

test('what is left out stays out of the sums and of the work; a step without any is none', async () => {
  const before = await currentPlan(site.db);
  const one = (await site.db.select().from(stepItems)).find((item) => item.path.includes('part_0'));
  expect(await leaveOut(site.db, { stepId, ids: [one!.id], now: now() })).toEqual({ files: 1, bytes: one!.sizeBytes });
  expect(await leaveOut(site.db, { stepId, text: 'peaks/1/', now: now() })).toMatchObject({ files: 3 });
  const after = await currentPlan(site.db);
  expect(after.steps[0]).toMatchObject({ files: 5 });
  // Whoever looked at the plan as it was runs nothing.
  const asked = { planId: before.planId!, version: before.version, who: 'Mara', now: now() };
  expect(await runPlan(site.db, asked)).toMatchObject({ ok: false, trouble: { code: 'changed meanwhile' } });
  await expect(leaveOut(site.db, { stepId, ids: [one!.id], now: now() })).rejects.toThrow(/None of these/);
  await expect(leaveOut(site.db, { stepId: 99, text: 'x', now: now() })).rejects.toThrow(/not in the plan any more/);
  await leaveOut(site.db, { stepId, text: 'peaks', now: now() });
  expect((await currentPlan(site.db)).steps).toEqual([]);
  expect(await draftItems(site.db, stepId, { after: 0, most: 10 })).toBeNull();
});

test('a finding says which files it is about, and they can be left out together', async () => {
  const [file] = await site.db.select().from(files).where(eq(files.name, 'part_4%.frm'));
  await site.db
    .update(files)
    .set({ modifiedUs: file!.modifiedUs + 1 })
    .where(eq(files.id, file!.id));
  const { steps } = await currentPlan(site.db);
  const [finding] = (await findingsOf(site.db, steps)).filter((one) => one.code === 'items differ');
  expect(finding!.facts).toMatchObject({ files: 1, about: 'changed' });
  const about = String(finding!.facts.about);
  expect((await draftItems(site.db, stepId, { after: 0, most: 10, about }))!.items.map((item) => item.path)).toEqual([
    'peaks/1/part_4%.frm',
  ]);
  await leaveOut(site.db, { stepId, about, now: now() });
  expect((await findingsOf(site.db, (await currentPlan(site.db)).steps)).map((one) => one.code)).toEqual([]);
  // What no finding is about is nothing.
  await expect(leaveOut(site.db, { stepId, about: 'all of it', now: now() })).rejects.toThrow(/None of these/);
  site.checked = false;
});
