// Moving home, on real disks with a real worker: what strayed goes home, documents get new versions, and nothing is
// lost however the disks change between staging and running.
import {
  existsSync,
  mkdirSync,
  readFileSync,
  readdirSync,
  renameSync,
  symlinkSync,
  unlinkSync,
  utimesSync,
} from 'node:fs';
import { randomUUID } from 'node:crypto';
import path from 'node:path';
import { and, eq, isNull } from 'drizzle-orm';
import type { PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { privateName } from '#disk/private-names.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { siteMark } from '../db/site-mark.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents, media } from '../db/schema/documents.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems } from '../db/schema/plans.ts';
import { receipts } from '../db/schema/receipts.ts';
import { volumes } from '../db/schema/stores.ts';
import { setHome } from '../projects/homes.ts';
import { allStrays } from '../projects/homes.ts';
import { currentPlan, runPlan } from '../plan/plan.ts';
import { addMoveHome } from './moving-items.ts';
import type { Worker } from '../worker.ts';

let site: TestSite;
let store: VolumeId;
let system: VolumeId;
let worker: Worker | null = null;
const by = () => ({ who: 'Mara', now: new Date() });
const FOG = 1 as ProjectId;
const at = (file: string) => path.join(site.root, file);
const url = (file: string) => `file://${at(file)}`;

beforeEach(async () => {
  site = await TestSite.open();
  store = await site.volume('store', 'source');
  system = await site.volume('system');
  site.put('store/fog/camera/A.mov', 'a'.repeat(900));
  site.put('store/stray/fog/B.mov', 'b'.repeat(800));
  site.put('store/stray/fog/B.xml', '<take/>');
  site.put('system/Desktop/fog/day 2/C.mov', 'c'.repeat(70_000));
  site.put(
    'store/fog/Fog.otio',
    otio('Fog', [url('store/fog/camera/A.mov'), url('store/stray/fog/B.mov'), url('system/Desktop/fog/day 2/C.mov')]),
  );
  await site.read(store, system);
  await setHome(site.db, FOG, { kind: 'source', volumeId: store, folder: 'fog/camera' }, by());
});
afterEach(async () => {
  await worker?.stop();
  worker = null;
  await site.close();
});

async function run(): Promise<void> {
  const plan = await currentPlan(site.db);
  const outcome = await runPlan(site.db, {
    planId: plan.planId as PlanId,
    version: plan.version,
    who: 'Mara',
    now: new Date(),
  });
  expect(outcome).toMatchObject({ ok: true });
  worker ??= site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
}
const text = (file: string) => readFileSync(at(file), 'utf8');
const itemsByPath = async () => new Map((await site.db.select().from(stepItems)).map((item) => [item.path, item]));
const left = (volume: string) =>
  readdirSync(at(`${volume}/.keramion`), { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile() && entry.name !== 'identity.json')
    .map((entry) => entry.name);

test('strays go home with their sidecars, from their own volume and from another, and stay the same files', async () => {
  const before = await site.db.select().from(files).where(isNull(files.goneAt));
  expect(await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() })).toMatchObject({ files: 3 });
  await run();
  expect((await site.db.select().from(jobs))[0]).toMatchObject({ state: 'done', kind: 'move home' });
  expect(text('store/fog/camera/B.mov')).toBe('b'.repeat(800));
  expect(text('store/fog/camera/B.xml')).toBe('<take/>');
  expect(text('store/fog/camera/day 2/C.mov')).toBe('c'.repeat(70_000));
  expect(existsSync(at('store/stray/fog/B.mov'))).toBe(false);
  expect(existsSync(at('system/Desktop/fog/day 2/C.mov'))).toBe(false);
  const after = await site.db.select().from(files).where(isNull(files.goneAt));
  for (const name of ['B.mov', 'B.xml', 'C.mov'])
    expect(after.find((file) => file.name === name)!.id).toBe(before.find((file) => file.name === name)!.id);
  expect(await allStrays(site.db)).toEqual([]);
  // A reading afterwards has nothing to add.
  const { results } = await site.read(store, system);
  expect(results).toMatchObject([
    { added: 0, gone: 0 },
    { added: 0, gone: 0 },
  ]);
  expect([...left('store'), ...left('system')]).toEqual([]);
});

test('a document that named them gets a new version beside it, and the old one is not touched', async () => {
  const old = text('store/fog/Fog.otio');
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  await run();
  expect(text('store/fog/Fog.otio')).toBe(old);
  const fresh = text('store/fog/Fog v2.otio');
  expect(fresh).toContain('/fog/camera/day%202/C.mov');
  expect(fresh).toContain(url('store/fog/camera/A.mov'));
  expect(fresh).not.toContain('Desktop');
  const rows = await site.db.select().from(documents);
  const v2 = rows.find((row) => row.name === 'Fog v2.otio')!;
  expect(rows.find((row) => row.name === 'Fog.otio')).toMatchObject({ supersededBy: v2.id });
  const found = await site.db.select().from(media).where(eq(media.documentId, v2.id));
  expect(found.every((piece) => piece.found === piece.targets)).toBe(true);
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'files moved'));
  expect(receipt).toMatchObject({ files: 3, held: 0, facts: { newVersions: ['Fog v2.otio'] } });
});

test('a file that changed after it was staged stays where it is; the rest goes on', async () => {
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  site.put('system/Desktop/fog/day 2/C.mov', 'changed meanwhile');
  site.put('store/stray/fog/B.mov', 'changed too');
  await run();
  expect(text('system/Desktop/fog/day 2/C.mov')).toBe('changed meanwhile');
  expect(text('store/stray/fog/B.mov')).toBe('changed too');
  expect(existsSync(at('store/fog/camera/day 2/C.mov'))).toBe(false);
  expect((await itemsByPath()).get('Desktop/fog/day 2/C.mov')).toMatchObject({ state: 'held', reason: 'changed' });
  expect((await itemsByPath()).get('stray/fog/B.xml')).toMatchObject({ state: 'done' });
});

test('nothing is ever written over: a name that was taken meanwhile holds the file', async () => {
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  site.put('store/fog/camera/B.mov', 'somebody else');
  site.put('store/fog/camera/day 2/C.mov', 'somebody else too');
  await run();
  expect(text('store/fog/camera/B.mov')).toBe('somebody else');
  expect(text('store/fog/camera/day 2/C.mov')).toBe('somebody else too');
  expect(text('store/stray/fog/B.mov')).toBe('b'.repeat(800));
  expect(text('system/Desktop/fog/day 2/C.mov')).toBe('c'.repeat(70_000));
  expect((await itemsByPath()).get('stray/fog/B.mov')).toMatchObject({ state: 'held', reason: 'name taken' });
});

test('a link where the home should be is not followed out', async () => {
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  renameSync(at('store/fog/camera'), at('store/fog/camera-was'));
  mkdirSync(at('elsewhere'));
  symlinkSync(at('elsewhere'), at('store/fog/camera'));
  await run();
  expect(readdirSync(at('elsewhere'))).toEqual([]);
  expect(text('store/stray/fog/B.mov')).toBe('b'.repeat(800));
  expect((await itemsByPath()).get('stray/fog/B.mov')).toMatchObject({ state: 'held', reason: 'outside' });
  unlinkSync(at('store/fog/camera'));
});

test('a swapped disk holds everything that lies on it', async () => {
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  site.put('system/.keramion/identity.json', '{"identity":"another"}');
  const plan = await currentPlan(site.db);
  await runPlan(site.db, { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: new Date() });
  worker = site.worker();
  await new Promise((resolve) => setTimeout(resolve, 400));
  // The work waits for its disk.
  expect((await site.db.select().from(jobs))[0]!.state).toBe('queued');
  expect(text('system/Desktop/fog/day 2/C.mov')).toBe('c'.repeat(70_000));
});

test('a home that has not enough room is refused before anything moves, by the plan and by the work itself', async () => {
  const small = await site.volume('small', 'source', 1000);
  await site.read(small);
  await setHome(site.db, FOG, { kind: 'source', volumeId: small, folder: '' }, by());
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  const plan = await currentPlan(site.db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: new Date() };
  expect(await runPlan(site.db, asked)).toMatchObject({
    ok: false,
    trouble: { code: 'stopped by findings', findings: [{ code: 'volume too full', facts: { volume: 'small' } }] },
  });
  // Room went between the plan and the work.
  await site.db.update(volumes).set({ capacityBytes: 1_000_000 }).where(eq(volumes.id, small));
  expect(await runPlan(site.db, asked)).toMatchObject({ ok: true });
  await site.db.update(volumes).set({ capacityBytes: 1000 }).where(eq(volumes.id, small));
  worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  expect((await site.db.select().from(jobs))[0]).toMatchObject({
    state: 'failed',
    trouble: expect.stringContaining('Nothing was moved') as string,
  });
  expect(text('system/Desktop/fog/day 2/C.mov')).toBe('c'.repeat(70_000));
  expect(text('store/fog/camera/A.mov')).toBe('a'.repeat(900));
});

test('files of one name from two places both arrive', async () => {
  site.put('system/Desktop/fog/B.mov', 'another b');
  utimesSync(at('system/Desktop/fog/B.mov'), 1000, 1000);
  await site.read(system);
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  await run();
  expect(text('store/fog/camera/B.mov')).toBe('b'.repeat(800));
  expect(text('store/fog/camera/from system/B.mov')).toBe('another b');
});

test('a home that is not set, and one with no strays, are told in a sentence', async () => {
  await expect(addMoveHome(site.db, { projectId: FOG, kind: 'audio', now: new Date() })).rejects.toThrow(/has no home/);
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  await expect(addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() })).rejects.toThrow(
    /Nothing was added/,
  );
});

test('folders and totals follow the files', async () => {
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  await run();
  const rows = await site.db
    .select()
    .from(folders)
    .where(and(eq(folders.volumeId, store), isNull(folders.goneAt)));
  expect(rows.find((row) => row.path === 'fog/camera')).toMatchObject({
    totalFiles: 4,
    totalBytes: 900 + 800 + 7 + 70_000,
  });
  expect(rows.find((row) => row.path === 'fog/camera/day 2')).toMatchObject({ totalFiles: 1, depth: 3 });
});

test('a copy that a worker made after it had lost the work goes once the moved file stands, and stays while it does not', async () => {
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: new Date() });
  await run();
  await worker!.stop();
  const [item] = (await site.db.select().from(stepItems)).filter((one) => one.path.endsWith('C.mov'));
  const [job] = (await site.db.select().from(jobs)).filter((one) => one.stepId === item!.stepId);
  const place = {
    use: 'copy' as const,
    site: await siteMark(site.db),
    job: job!.mark,
    lease: randomUUID(),
    item: item!.id,
  };
  const left = `store/.keramion/${privateName(place)}`;
  const moved = at(`store/${item!.targetPath}`);
  const tidied = async () => {
    worker = site.worker();
    await until(() => worker!.isIdle());
    await until(async () => (await site.db.select().from(jobs)).every((one) => one.finishedAt !== null));
    await worker.stop();
    worker = null;
  };
  // Somebody put another file in its place: then this may be the last of it.
  site.put(left, 'c'.repeat(70_000));
  renameSync(moved, at('store/aside.mov'));
  site.put(`store/${item!.targetPath}`, 'c'.repeat(70_000));
  await tidied();
  expect(existsSync(at(left))).toBe(true);
  renameSync(at('store/aside.mov'), moved);
  await tidied();
  expect(existsSync(at(left))).toBe(false);
  expect(readFileSync(moved, 'utf8')).toBe('c'.repeat(70_000));
});
