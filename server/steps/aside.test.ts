// Files that are set aside, taken back and removed for good: nothing goes that is used, and everything comes back as it was.
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, utimesSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq, isNull, sql } from 'drizzle-orm';
import type { PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { byLevel } from '#core/plan/plan.ts';
import { size } from '#core/wording/amounts.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { aside, asideSums } from '../db/schema/aside.ts';
import { clips } from '../db/schema/documents.ts';
import { files } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { currentPlan, runAtOnce, runPlan } from '../plan/plan.ts';
import { rackVolumes } from '../site/rack.ts';
import { addArchive } from './archive.ts';
import { addAsideRemoval } from './remove-aside.ts';
import { addFileRemoval } from './remove-files.ts';
import { addSettingAside } from './set-aside.ts';
import { addClipsAside } from './set-aside-clips.ts';
import { addTakingBack } from './take-back.ts';

let site: TestSite;
let volume: VolumeId;
const now = () => new Date();
const FOG = 1 as ProjectId;

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media', 'none', 1_000_000);
  for (const clip of ['a', 'b', 'c']) site.put(`media/fog/rushes/${clip}.mov`, `${clip} `.repeat(1000));
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov', 'rushes/b.mov', 'rushes/c.mov'], ['rushes/a.mov']));
  await site.read(volume);
});
afterEach(() => site.close());

const at = (name: string) => path.join(site.root, 'media/fog/rushes', name);
const params = (level: 2 | 3 = 3) => ({ what: 'unused media of Fog', reason: 'no timeline uses it', level });
const add = (level: 2 | 3 = 3, chosen = sql`f.name LIKE '%.mov'`) =>
  addSettingAside(site.db, { params: params(level), chosen, now: now() });
async function run(typed?: string) {
  const plan = await currentPlan(site.db);
  return runPlan(site.db, { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: now(), typed });
}
async function runTyped() {
  const ran = await run(size(byLevel((await currentPlan(site.db)).steps)[3]));
  expect(ran).toMatchObject({ ok: true });
  await work();
}
async function work() {
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
}
const takeBack = (ids: number[]) =>
  runAtOnce(site.db, (tx, planId) => addTakingBack(tx, { ids, what: 'unused media', planId, now: now() }), {
    who: 'Mara',
    now: now(),
  });
const lying = () => site.db.select().from(aside).where(eq(aside.state, 'aside')).orderBy(aside.id);
const there = async () =>
  (await site.db.select({ name: files.name }).from(files).where(isNull(files.goneAt)).orderBy(files.name)).map(
    (row) => row.name,
  );

test('what no timeline uses is set aside under its path, and comes back as it was, byte for byte', async () => {
  const before = { content: readFileSync(at('b.mov')), stats: statSync(at('b.mov')) };
  expect(await add()).toMatchObject({ files: 2, bytes: 4000 });
  expect(await run()).toMatchObject({ ok: false, trouble: { code: 'size not typed', bytes: 4000 } });
  expect(await run('4 GB')).toMatchObject({ ok: false, trouble: { code: 'size not typed' } });
  await runTyped();
  expect([existsSync(at('a.mov')), existsSync(at('b.mov')), existsSync(at('c.mov'))]).toEqual([true, false, false]);
  const rows = await lying();
  expect(rows.map((row) => [row.path, row.level, row.reason])).toEqual([
    ['fog/rushes/b.mov', 3, 'no timeline uses it'],
    ['fog/rushes/c.mov', 3, 'no timeline uses it'],
  ]);
  expect(rows[0]!.asidePath).toMatch(/^\.keramion\/aside\/[^/]+\/fog\/rushes\/b\.mov$/);
  expect(await there()).toEqual(['a.mov', 'fog.otio']);
  // Its space is still taken, and told.
  const [rack] = await rackVolumes(site.db);
  expect(rack!.asideBytes).toBe(4000);
  expect(rack!.usedBytes).toBe(2000 + statSync(path.join(site.root, 'media/fog/fog.otio')).size + 4000);
  await site.read(volume);
  expect(await there()).toEqual(['a.mov', 'fog.otio']);

  await takeBack([rows[0]!.id]);
  await work();
  expect(readFileSync(at('b.mov'))).toEqual(before.content);
  const after = statSync(at('b.mov'));
  expect([after.ino, after.mtimeMs, after.mode]).toEqual([before.stats.ino, before.stats.mtimeMs, before.stats.mode]);
  expect(await there()).toEqual(['a.mov', 'b.mov', 'fog.otio']);
  expect(await site.db.select().from(asideSums)).toMatchObject([{ files: 1, bytes: 2000 }]);

  await takeBack([rows[1]!.id]);
  await work();
  expect(await lying()).toEqual([]);
  expect(await site.db.select().from(asideSums)).toEqual([]);
  expect(readdirSync(path.join(site.root, 'media/.keramion/aside'))).toEqual([]);
  expect((await site.db.select().from(receipts)).map((row) => [row.action, row.files, row.held])).toEqual([
    ['files set aside', 2, 0],
    ['files taken back', 1, 0],
    ['files taken back', 1, 0],
  ]);
});

test('a timeline that begins to use one keeps it there, and so does a document that cannot be read', async () => {
  await add();
  site.put(
    'media/fog/fog.otio',
    otio('Fog', ['rushes/a.mov', 'rushes/b.mov', 'rushes/c.mov'], ['rushes/a.mov', 'rushes/b.mov']),
  );
  await runTyped();
  expect([existsSync(at('b.mov')), existsSync(at('c.mov'))]).toEqual([true, false]);
  expect(await site.db.select({ reason: stepItems.reason }).from(stepItems).where(eq(stepItems.state, 'held'))).toEqual(
    [{ reason: 'in use' }],
  );
  await takeBack((await lying()).map((row) => row.id));
  await work();
  await add();
  site.put('media/fog/fog.otio', '{ "OTIO_SCHEMA": ');
  await runTyped();
  expect(existsSync(at('c.mov'))).toBe(true);
});

test('what has its name by now stays, and what was aside stays aside', async () => {
  await add(3, sql`f.name = 'b.mov'`);
  await runTyped();
  const [row] = await lying();
  writeFileSync(at('b.mov'), 'a new file of that name');
  await takeBack([row!.id]);
  await work();
  expect(readFileSync(at('b.mov'), 'utf8')).toBe('a new file of that name');
  expect(await lying()).toHaveLength(1);
  const [item] = await site.db.select().from(stepItems).where(eq(stepItems.state, 'held'));
  expect(item!.reason).toBe('name taken');
  // The folder it came from went meanwhile: it is made again.
  rmSync(path.join(site.root, 'media/fog/rushes'), { recursive: true });
  await site.read(volume);
  await takeBack([row!.id]);
  await work();
  expect(readFileSync(at('b.mov'), 'utf8')).toBe('b '.repeat(1000));
  expect(await there()).toEqual(['b.mov', 'fog.otio']);
});

test('names that are no text, and long paths, go aside and come back', async () => {
  const odd = Buffer.concat([
    Buffer.from(`${path.join(site.root, 'media/fog/rushes')}/`),
    Buffer.from([0x63, 0xe4, 0x2e, 0x6d, 0x6f, 0x76]),
  ]);
  writeFileSync(odd, 'odd');
  const deep = `media/fog/rushes/${'d'.repeat(200)}/${'e'.repeat(200)}/z.mov`;
  site.put(deep, 'deep');
  await site.read(volume);
  expect(await add()).toMatchObject({ files: 4 });
  await runTyped();
  expect([existsSync(odd), existsSync(path.join(site.root, deep))]).toEqual([false, false]);
  await takeBack((await lying()).map((row) => row.id));
  await work();
  expect(readFileSync(odd, 'utf8')).toBe('odd');
  expect(readFileSync(path.join(site.root, deep), 'utf8')).toBe('deep');
});

test('what lies aside goes for good only by its own step, with its size typed; its folders go too', async () => {
  await add();
  await runTyped();
  const ids = (await lying()).map((row) => row.id);
  await addAsideRemoval(site.db, { ids, what: 'unused media of Fog', now: now() });
  // It is in the plan already.
  await expect(addAsideRemoval(site.db, { ids, what: 'x', now: now() })).rejects.toThrow(/in a plan already/);
  expect(await run()).toMatchObject({ ok: false, trouble: { code: 'size not typed' } });
  await runTyped();
  expect(await lying()).toEqual([]);
  expect(readdirSync(path.join(site.root, 'media/.keramion/aside'))).toEqual([]);
  expect((await rackVolumes(site.db))[0]!.asideBytes).toBe(0);
  await expect(takeBack(ids)).rejects.toThrow(/Nothing of it is set aside any more/);
});

test('what was said to have a copy goes only where an archive proves it byte for byte', async () => {
  const carrier = await site.carrier('kd-1');
  // All of it is used while it is archived.
  const urls = ['rushes/a.mov', 'rushes/b.mov', 'rushes/c.mov'];
  site.put('media/fog/fog.otio', otio('Fog', urls));
  await site.read(volume);
  await addArchive(site.db, { projectId: FOG, carrierIds: [carrier], folder: 'fog_1', now: now() });
  await run();
  await work();
  await site.db.update(projects).set({ state: 'archived' });
  expect(await add(2)).toMatchObject({ files: 3 });
  await run();
  await work();
  expect(await lying()).toHaveLength(3);
  const payload = path.join(site.root, 'kd-1/fog_1/data');
  const b = readdirSync(payload, { recursive: true, encoding: 'utf8' }).find((name) => name.endsWith('b.mov'))!;
  const whole = readFileSync(path.join(payload, b));
  writeFileSync(path.join(payload, b), Buffer.from(whole).fill(1, 5, 6));
  const ids = (await lying()).map((row) => row.id);
  await addAsideRemoval(site.db, { ids, what: 'media of Fog', now: now() });
  expect(byLevel((await currentPlan(site.db)).steps)).toMatchObject({ 2: 6000, 3: 0 });
  await run();
  await work();
  // One damage, and nothing goes.
  expect(await lying()).toHaveLength(3);
  for (const row of await lying()) expect(existsSync(path.join(site.root, 'media', row.asidePath))).toBe(true);
  expect((await site.db.select().from(stepItems)).filter((item) => item.reason === 'copy damaged')).toHaveLength(3);
  // And the copy is known to be damaged: it is no longer offered.
  await addAsideRemoval(site.db, { ids, what: 'media of Fog', now: now() });
  expect(await run()).toMatchObject({ ok: false, trouble: { code: 'stopped by findings' } });
});

test('what lies aside otherwise than it was archived stays, though its archive is whole', async () => {
  const carrier = await site.carrier('kd-1');
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov', 'rushes/b.mov', 'rushes/c.mov']));
  await site.read(volume);
  await addArchive(site.db, { projectId: FOG, carrierIds: [carrier], folder: 'fog_1', now: now() });
  await run();
  await work();
  await site.db.update(projects).set({ state: 'archived' });
  // One was worked on since, and is longer; another has its old size and time again.
  writeFileSync(at('b.mov'), 'the only one of this kind '.repeat(200));
  const { atime, mtime } = statSync(at('c.mov'));
  writeFileSync(at('c.mov'), 'x '.repeat(1000));
  utimesSync(at('c.mov'), atime, mtime);
  await site.read(volume);
  expect(await add(2)).toMatchObject({ files: 3 });
  await run();
  await work();
  await addAsideRemoval(site.db, { ids: (await lying()).map((row) => row.id), what: 'media of Fog', now: now() });
  await run();
  await work();
  const left = await lying();
  expect(left.map((row) => row.path)).toEqual(['fog/rushes/b.mov', 'fog/rushes/c.mov']);
  for (const row of left) expect(existsSync(path.join(site.root, 'media', row.asidePath))).toBe(true);
});

test('renders that no document names go; one that is named stays', async () => {
  for (const name of ['old', 'named']) {
    const file = site.put(`media/fog/renders/${name}.mov`, name);
    utimesSync(file, 1e9, 1e9);
  }
  mkdirSync(path.join(site.root, 'media/fog/renders'), { recursive: true });
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov', 'renders/named.mov']));
  await site.read(volume);
  const removal = { what: 'renders of Fog', fileKind: 'render' as const, level: 1 as const, again: 'rendered again' };
  expect(await addFileRemoval(site.db, { params: removal, chosen: sql`TRUE`, now: now() })).toMatchObject({ files: 1 });
  await run();
  await work();
  expect(readdirSync(path.join(site.root, 'media/fog/renders'))).toEqual(['named.mov']);
});

test('of chosen clips goes what no timeline uses and the project owns; the rest stays', async () => {
  const all = await site.db.select({ id: clips.id }).from(clips);
  const asked = { projectId: FOG, project: 'Fog', clipIds: all.map((clip) => clip.id), now: now() };
  expect(await addClipsAside(site.db, asked)).toEqual({ files: 2, bytes: 4000 });
  await runTyped();
  expect((await lying()).map((row) => row.path)).toEqual(['fog/rushes/b.mov', 'fog/rushes/c.mov']);
  await expect(addClipsAside(site.db, asked)).rejects.toThrow(/Nothing was added/);
  await expect(addClipsAside(site.db, { ...asked, clipIds: [999] })).rejects.toThrow(/Nothing was added/);
});
