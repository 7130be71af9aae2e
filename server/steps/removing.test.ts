// Tries to make the removal of files lose something.
import {
  closeSync,
  existsSync,
  linkSync,
  mkdirSync,
  openSync,
  readFileSync,
  renameSync,
  rmSync,
  symlinkSync,
  truncateSync,
  unlinkSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import path from 'node:path';
import { eq, isNull } from 'drizzle-orm';
import type { FolderId, PlanId, VolumeId } from '#core/model.ts';
import { cutDay } from '#core/reclaim/cuts.ts';
import { freedSentences } from '#core/wording/reclaim.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { plans, stepItems } from '../db/schema/plans.ts';
import { receipts } from '../db/schema/receipts.ts';
import { brokenReceipts } from '../runtime/receipts.ts';
import { currentPlan, emptyPlan, findingsOf, removeStep, runPlan } from '../plan/plan.ts';
import { addCacheRemoval } from './remove-caches.ts';
import { privateName } from '#disk/private-names.ts';
import { siteMark } from '../db/site-mark.ts';
import { cancelJob } from '../runtime/queue.ts';

let site: TestSite;
let volume: VolumeId;
const OLD = 1_600_000_000;

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('scratch');
});
afterEach(() => site.close());

const place = (name: string) => path.join(site.root, 'scratch', name);
function cache(name: string, content = name) {
  const at = site.put(`scratch/cache/${name}`, content);
  utimesSync(at, OLD, OLD);
  return at;
}
async function stageAll() {
  const all = await site.db.select({ id: folders.id }).from(folders);
  return addCacheRemoval(site.db, {
    folderIds: all.map((f) => f.id as FolderId),
    cutDay: cutDay(Date.now(), 30),
    now: new Date(),
  });
}
async function run(who = 'Mara') {
  const plan = await currentPlan(site.db);
  return runPlan(site.db, { planId: plan.planId as PlanId, version: plan.version, who, now: new Date() });
}
async function work() {
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
}
const items = () =>
  site.db
    .select({ path: stepItems.path, state: stepItems.state, reason: stepItems.reason })
    .from(stepItems)
    .orderBy(stepItems.path);

test('old caches go, young ones and everything else stay, and a receipt says so', async () => {
  const old = cache('a.frm', 'aaa');
  const young = site.put('scratch/cache/young.frm');
  const media = site.put('scratch/rushes/a.mov');
  utimesSync(media, OLD, OLD);
  await site.read(volume);
  expect(await stageAll()).toMatchObject({ files: 1, bytes: 3 });
  expect(existsSync(old)).toBe(true);
  expect(await run()).toMatchObject({ ok: true });
  await work();
  expect([existsSync(old), existsSync(young), existsSync(media)]).toEqual([false, true, true]);
  expect(await site.db.select().from(receipts)).toMatchObject([
    { action: 'caches removed', who: 'Mara', files: 1, bytes: 3, held: 0 },
  ]);
  expect(await site.db.select({ state: plans.state }).from(plans)).toEqual([{ state: 'done' }]);
  expect(await site.db.select().from(files).where(isNull(files.goneAt))).toHaveLength(2);
});

test('what changed, vanished, was replaced by a link or is open between plan and run is held; the rest goes on', async () => {
  const goes = cache('goes.frm');
  const changed = cache('changed.frm');
  const touched = cache('touched.frm');
  const gone = cache('gone.frm');
  const linked = cache('linked.frm');
  const open = cache('open.frm');
  await site.read(volume);
  await stageAll();
  writeFileSync(changed, 'new and larger content');
  utimesSync(changed, OLD, OLD);
  utimesSync(touched, OLD + 1, OLD + 1);
  unlinkSync(gone);
  unlinkSync(linked);
  const target = site.put('precious.mov', 'linked.frm');
  symlinkSync(target, linked);
  const fd = openSync(open, 'r');
  await run();
  await work();
  closeSync(fd);
  expect(await items()).toEqual([
    { path: 'cache/changed.frm', state: 'held', reason: 'changed' },
    { path: 'cache/goes.frm', state: 'done', reason: null },
    { path: 'cache/gone.frm', state: 'held', reason: 'gone' },
    { path: 'cache/linked.frm', state: 'held', reason: 'not a file' },
    { path: 'cache/open.frm', state: 'held', reason: 'open' },
    { path: 'cache/touched.frm', state: 'held', reason: 'changed' },
  ]);
  expect([goes, changed, touched, open, target].map(existsSync)).toEqual([false, true, true, true, true]);
  expect(await site.db.select({ held: receipts.held, files: receipts.files }).from(receipts)).toEqual([
    { held: 5, files: 1 },
  ]);
});

test('a folder swapped for a link leads nothing out of the volume', async () => {
  cache('deep/a.frm', 'same');
  await site.read(volume);
  await stageAll();
  const elsewhere = site.put('elsewhere/a.frm', 'same');
  utimesSync(elsewhere, OLD, OLD);
  rmSync(place('cache/deep'), { recursive: true });
  symlinkSync(path.join(site.root, 'elsewhere'), place('cache/deep'));
  await run();
  await work();
  expect(existsSync(elsewhere)).toBe(true);
  expect(await items()).toMatchObject([{ state: 'held', reason: 'outside' }]);
});

test('a staged path that was forged to climb out removes nothing', async () => {
  cache('a.frm', 'same');
  const outside = site.put('secret.mov', 'same');
  utimesSync(outside, OLD, OLD);
  await site.read(volume);
  await stageAll();
  await site.db.update(stepItems).set({ path: '../secret.mov' });
  await run();
  await work();
  expect(existsSync(outside)).toBe(true);
  expect(await items()).toMatchObject([{ state: 'held', reason: 'outside' }]);
});

test('another disk mounted at the same place is not touched', async () => {
  cache('a.frm', 'same');
  await site.read(volume);
  await stageAll();
  renameSync(path.join(site.root, 'scratch'), path.join(site.root, 'away'));
  mkdirSync(path.join(site.root, 'scratch'));
  const other = cache('a.frm', 'same');
  await run();
  const worker = site.worker();
  // No worker reaches the volume, so the work waits.
  await new Promise((resolve) => setTimeout(resolve, 600));
  await worker.stop();
  expect(existsSync(other)).toBe(true);
  expect(await site.db.select({ state: jobs.state }).from(jobs)).toEqual([{ state: 'queued' }]);
});

test('a cache that a document began to name is no cache any more: not staged, and held if it was', async () => {
  cache('a.mov');
  cache('b.mov');
  await site.read(volume);
  await stageAll();
  site.put('scratch/fog/fog.otio', otio('Fog', ['../cache/a.mov']));
  await site.read(volume);
  await run();
  await work();
  expect(existsSync(place('cache/a.mov'))).toBe(true);
  expect(await items()).toMatchObject([
    { path: 'cache/a.mov', state: 'held', reason: 'in use' },
    { path: 'cache/b.mov', state: 'done' },
  ]);
  await expect(stageAll()).rejects.toThrow('Nothing was added.');
});

test('two people run one plan: one of them runs it, the other is told, and everything goes once', async () => {
  for (let i = 0; i < 20; i++) cache(`${i}.frm`);
  await site.read(volume);
  await stageAll();
  const plan = await currentPlan(site.db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, now: new Date() };
  const both = await Promise.all([
    runPlan(site.db, { ...asked, who: 'Mara' }),
    runPlan(site.db, { ...asked, who: 'Odd' }),
  ]);
  expect(both.filter((r) => r.ok)).toHaveLength(1);
  expect(both.find((r) => !r.ok)).toMatchObject({ trouble: { code: 'already running' } });
  await work();
  expect(await site.db.select({ files: receipts.files, held: receipts.held }).from(receipts)).toEqual([
    { files: 20, held: 0 },
  ]);
});

test('a plan that was changed after it was looked at is not run', async () => {
  cache('a.frm');
  cache('two/b.frm');
  await site.read(volume);
  const all = await site.db.select({ id: folders.id, path: folders.path }).from(folders);
  const stage = (folder: string) =>
    addCacheRemoval(site.db, {
      folderIds: all.filter((f) => f.path === folder).map((f) => f.id as FolderId),
      cutDay: 20_000,
      now: new Date(),
    });
  await stage('cache');
  const seen = await currentPlan(site.db);
  await stage('cache/two');
  expect(
    await runPlan(site.db, { planId: seen.planId as PlanId, version: seen.version, who: 'Mara', now: new Date() }),
  ).toMatchObject({ ok: false, trouble: { code: 'changed meanwhile' } });
  expect(await site.db.select().from(jobs)).toHaveLength(0);
  await removeStep(site.db, (await currentPlan(site.db)).steps[0]!.stepId, new Date());
  expect((await currentPlan(site.db)).steps).toHaveLength(1);
  await emptyPlan(site.db, new Date());
  expect(await currentPlan(site.db)).toMatchObject({ planId: null, steps: [] });
});

test('the review tells what the last reading saw otherwise', async () => {
  cache('a.frm');
  cache('b.frm');
  await site.read(volume);
  await stageAll();
  unlinkSync(place('cache/a.frm'));
  site.put('scratch/cache/b.frm', 'changed since');
  await site.read(volume);
  const findings = await findingsOf(site.db, (await currentPlan(site.db)).steps);
  expect(findings).toMatchObject([
    { code: 'items differ', facts: { reason: 'changed', files: 1 } },
    { code: 'items differ', facts: { reason: 'gone', files: 1 } },
  ]);
});

test('a file killed between being taken and being removed goes at the next run, or goes back if it is not the one', async () => {
  const [a, b] = [cache('a.frm', 'aaaa'), cache('b.frm', 'bbbb')];
  await site.read(volume);
  await stageAll();
  const staged = await site.db.select().from(stepItems).orderBy(stepItems.path);
  await run();
  const [job] = await site.db.select().from(jobs);
  await site.db.update(stepItems).set({ state: 'started' });
  // Where an earlier lease of this very job left them.
  const taken = (item: number) =>
    place(
      `.keramion/${privateName({ use: 'out', site: mark, job: job!.mark, lease: '00000000-0000-4000-8000-000000000000', item })}`,
    );
  const mark = await siteMark(site.db);
  renameSync(a, taken(staged[0]!.id));
  renameSync(b, taken(staged[1]!.id));
  writeFileSync(taken(staged[1]!.id), 'somebody wrote into it');
  await work();
  expect(await items()).toMatchObject([
    { path: 'cache/a.frm', state: 'done' },
    { path: 'cache/b.frm', state: 'held', reason: 'changed' },
  ]);
  expect(existsSync(a)).toBe(false);
  expect(readFileSync(b, 'utf8')).toBe('somebody wrote into it');
});

test('work that is cancelled before it began touches nothing', async () => {
  const a = cache('a.frm');
  await site.read(volume);
  await stageAll();
  const result = await run();
  if (result.ok) await cancelJob(site.db, result.jobs[0]!);
  await work();
  expect(existsSync(a)).toBe(true);
  expect(await site.db.select({ state: jobs.state }).from(jobs)).toEqual([{ state: 'cancelled' }]);
});

test('a receipt cannot be changed or removed, and one that was forged shows', async () => {
  cache('a.frm');
  await site.read(volume);
  await stageAll();
  await run();
  await work();
  await expect(site.db.update(receipts).set({ bytes: 0 })).rejects.toThrow();
  await expect(site.db.delete(receipts)).rejects.toThrow();
  expect(await brokenReceipts(site.db)).toEqual([]);
  await site.db.$pool.query('DROP TRIGGER receipts_are_not_changed');
  await site.db.update(receipts).set({ bytes: 1 }).where(eq(receipts.id, 1));
  expect(await brokenReceipts(site.db)).toEqual([1]);
  site.checked = false;
});

test('the receipt says what was given back: files with other names took nothing with them, and holes were never written', async () => {
  const block = '.'.repeat(8192);
  cache('plain.frm', block);
  linkSync(cache('linked.frm', block), place('cache/kept as.txt'));
  const holes = cache('holes.frm', '');
  truncateSync(holes, 4e6);
  utimesSync(holes, OLD, OLD);
  await site.read(volume);
  await site.db.update(files).set({ kind: 'other' }).where(eq(files.name, 'kept as.txt'));
  site.checked = false;
  await stageAll();
  await run();
  await work();
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'caches removed'));
  const freed = receipt!.facts.freed as { allocatedBytes: number; linkedBytes: number; measuredBytes: number };
  expect(freed).toMatchObject({ allocatedBytes: 8192, linkedBytes: 8192 });
  expect(Number.isFinite(freed.measuredBytes)).toBe(true);
  expect(readFileSync(place('cache/kept as.txt'), 'utf8')).toBe(block);
  const sentences = freedSentences(receipt!.bytes, freed);
  expect(sentences.slice(0, 3)).toEqual([
    '8.19 kB on the medium, as its files took it',
    '8.19 kB has other names still (hard links), so it takes its space as before',
    '4.00 MB of their size was never written: files with holes, or compressed',
  ]);
});
