// Removing empty folders, on a real disk with a real worker: those in which nothing lies go, every other stays.
import { existsSync, mkdirSync, symlinkSync, utimesSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { folders } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems } from '../db/schema/plans.ts';
import { receipts } from '../db/schema/receipts.ts';
import { currentPlan, runPlan } from '../plan/plan.ts';
import { setHome } from '../projects/homes.ts';
import { assess } from '../reclaim/assess.ts';
import { groupSums, type Line, lines } from '../reclaim/lines.ts';
import type { Worker } from '../worker.ts';
import { addChosen } from './chosen.ts';

let site: TestSite;
let store: VolumeId;
let worker: Worker | null = null;
const scope = { only: [], projectId: null, inWork: true };
const at = (folder: string) => path.join(site.root, 'store', folder);
const there = (folder: string) => existsSync(at(folder));

beforeEach(async () => {
  site = await TestSite.open();
  store = await site.volume('store');
  for (const folder of ['old/day 1/a', 'old/day 2', 'fog/camera', 'linked', 'fresh', 'meanwhile/below'])
    mkdirSync(at(folder), { recursive: true });
  symlinkSync('/tmp', at('linked/elsewhere'));
  site.put('store/kept/clip.mov');
  site.put('store/fog/fog.otio', otio('Fog', ['../kept/clip.mov']));
  await site.read(store);
  await setHome(
    site.db,
    1 as ProjectId,
    { kind: 'source', volumeId: store, folder: 'fog/camera' },
    { who: 'Mara', now: new Date() },
  );
  for (const folder of ['old/day 1/a', 'old/day 1', 'old/day 2', 'old', 'meanwhile/below', 'meanwhile'])
    utimesSync(at(folder), 1e9, 1e9);
  await assess(site.db);
});
afterEach(async () => {
  await worker?.stop();
  worker = null;
  await site.close();
});

const offered = (): Promise<Line[]> => lines(site.db, scope, { group: 'empty folders', cutDay: 30_000, most: 100 });

async function run(): Promise<void> {
  const plan = await currentPlan(site.db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: new Date() };
  expect(await runPlan(site.db, asked)).toMatchObject({ ok: true });
  worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
}

test('what is offered is what is empty and not wanted; what goes is what is empty still', async () => {
  const all = await offered();
  expect(all.map((line) => [line.path, line.files]).sort()).toEqual([
    ['fresh', 1],
    ['meanwhile', 2],
    ['old', 4],
  ]);
  expect((await groupSums(site.db, scope)).at(-1)).toMatchObject({ group: 'empty folders', files: 7, bytes: 0 });
  expect(await addChosen(site.db, { keys: all.map((line) => line.key), cutDay: 30_000, now: new Date() })).toEqual({
    files: 7,
    bytes: 0,
    steps: 1,
  });
  await expect(addChosen(site.db, { keys: [all[0]!.key], cutDay: 30_000, now: new Date() })).rejects.toThrow(
    /in a plan already/,
  );
  writeFileSync(at('meanwhile/below/note.txt'), 'mine');
  utimesSync(at('meanwhile/below'), 1e9, 1e9);
  await run();
  expect(['old', 'fresh', 'meanwhile/below/note.txt', 'linked', 'fog/camera'].map(there)).toEqual([
    false,
    true,
    true,
    true,
    true,
  ]);
  const held = await site.db.select().from(stepItems).where(eq(stepItems.state, 'held'));
  expect(held.map((item) => [item.path, item.reason, item.detail]).sort()).toEqual([
    ['fresh', 'changed', 'it was changed within a day'],
    ['meanwhile', 'changed', 'something lies in it'],
    ['meanwhile/below', 'changed', 'something lies in it'],
  ]);
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'folders removed'));
  expect(receipt).toMatchObject({ files: 4, bytes: 0, held: 3 });
  // The catalogue knows it at once, and a reading has nothing to add.
  expect((await offered()).map((line) => line.path).sort()).toEqual(['fresh', 'meanwhile']);
  const gone = await site.db.select().from(folders).where(eq(folders.path, 'old/day 1'));
  expect(gone[0]!.goneAt).not.toBeNull();
});
