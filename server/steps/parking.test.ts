// Parking and gathering, on real disks with a real worker: media move to another volume and are still known, what is
// borrowed is copied and its owner keeps it, and nothing is lost however the disks change between staging and running.
import { existsSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { and, eq, isNull } from 'drizzle-orm';
import type { PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { files } from '../db/schema/catalogue.ts';
import { documents, media } from '../db/schema/documents.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { currentPlan, runPlan } from '../plan/plan.ts';
import { allStrays, homesOf, setHome } from '../projects/homes.ts';
import { parkedOf } from '../projects/parking.ts';
import type { Worker } from '../worker.ts';
import { addBringingBack, addGathering } from './gather.ts';
import { addMoveHome, addParking } from './moving-items.ts';

let site: TestSite;
let store: VolumeId;
let spare: VolumeId;
let worker: Worker | null = null;
const now = () => new Date();
const at = (file: string) => path.join(site.root, file);
const url = (file: string) => `file://${at(file)}`;
const text = (file: string) => readFileSync(at(file), 'utf8');
let fog: ProjectId;
let dune: ProjectId;

/** Fog uses A and a clip of Dune's; B is used by nobody, and C by Dune. */
beforeEach(async () => {
  site = await TestSite.open();
  store = await site.volume('store', 'source');
  // Nothing here says which kind a clip is.
  spare = await site.volume('spare', 'renders');
  site.put('store/fog/camera/A.mov', 'a'.repeat(900));
  site.put('store/fog/camera/day 2/B.mov', 'b'.repeat(800));
  site.put('store/fog/camera/day 2/B.xml', '<take/>');
  site.put('store/fog/camera/C.mov', 'c'.repeat(700));
  site.put('store/dune/camera/D.mov', 'd'.repeat(600));
  site.put('store/dune/camera/D.xml', '<take/>');
  const own = ['A', 'day 2/B', 'C'].map((name) => url(`store/fog/camera/${name}.mov`));
  const used = [own[0]!, url('store/dune/camera/D.mov')];
  site.put('store/fog/Fog.otio', otio('Fog', [...own, used[1]!], used));
  site.put('store/dune/Dune.otio', otio('Dune', [url('store/fog/camera/C.mov'), url('store/dune/camera/D.mov')]));
  await site.read(store, spare);
  const known = await site.db.select().from(projects);
  fog = known.find((project) => project.name === 'Fog')!.id as ProjectId;
  dune = known.find((project) => project.name === 'Dune')!.id as ProjectId;
  await setHome(site.db, fog, { kind: 'source', volumeId: store, folder: 'fog/camera' }, { who: 'Mara', now: now() });
});
afterEach(async () => {
  await worker?.stop();
  worker = null;
  await site.close();
});

async function run(): Promise<void> {
  await site.look();
  const plan = await currentPlan(site.db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: now() };
  expect(await runPlan(site.db, asked)).toMatchObject({ ok: true });
  worker ??= site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
}
const kindOf = async (name: string) =>
  (
    await site.db
      .select()
      .from(files)
      .where(and(eq(files.name, name), isNull(files.goneAt)))
  ).map((file) => [file.kind, file.projectId, file.volumeId]);
const missingOf = async (document: string) => {
  const [row] = await site.db.select().from(documents).where(eq(documents.name, document));
  const rows = await site.db.select().from(media).where(eq(media.documentId, row!.id));
  return rows.filter((piece) => piece.found < piece.targets).map((piece) => piece.name);
};

test('what no timeline uses is parked with its sidecars, keeps its kind, is no stray, and comes back', async () => {
  expect(await addParking(site.db, { projectId: fog, which: 'unused', volumeId: spare, now: now() })).toMatchObject({
    files: 2,
  });
  await run();
  expect(text('spare/parked/fog/day 2/B.mov')).toBe('b'.repeat(800));
  expect(text('spare/parked/fog/day 2/B.xml')).toBe('<take/>');
  expect(text('store/fog/camera/A.mov')).toBe('a'.repeat(900));
  expect(text('store/fog/camera/C.mov')).toBe('c'.repeat(700));
  expect(await missingOf('Fog v2.otio')).toEqual([]);
  // The volume is for renders: a reading anew leaves it what it was.
  await site.read(spare, store);
  expect(await kindOf('B.mov')).toEqual([['source', fog, spare]]);
  expect(await allStrays(site.db)).toEqual([]);
  expect(await homesOf(site.db, fog)).toMatchObject([{ kind: 'source', volumeId: store, folder: 'fog/camera' }]);
  expect(await parkedOf(site.db, fog)).toMatchObject([{ volumeId: spare, folder: 'parked/fog', files: 2 }]);

  await addBringingBack(site.db, { projectId: fog, now: now() });
  await run();
  expect(text('store/fog/camera/day 2/B.mov')).toBe('b'.repeat(800));
  expect(existsSync(at('spare/parked/fog/day 2/B.mov'))).toBe(false);
  expect(await parkedOf(site.db, fog)).toEqual([]);
});

test('all media are parked: their home is there from then on, and documents of others name the new places too', async () => {
  await addParking(site.db, { projectId: fog, which: 'all', volumeId: spare, now: now() });
  await run();
  for (const name of ['A.mov', 'day 2/B.mov', 'C.mov']) {
    expect(existsSync(at(`store/fog/camera/${name}`))).toBe(false);
    expect(existsSync(at(`spare/parked/fog/${name}`))).toBe(true);
  }
  expect(await homesOf(site.db, fog)).toEqual(
    expect.arrayContaining([{ kind: 'source', volumeId: spare, folder: 'parked/fog' }]),
  );
  expect(await missingOf('Fog v2.otio')).toEqual([]);
  expect(await missingOf('Dune v2.otio')).toEqual([]);
  await site.read(spare, store);
  expect(await kindOf('A.mov')).toEqual([['source', fog, spare]]);
  expect(await allStrays(site.db)).toEqual([]);
});

test('gathered: what is borrowed is copied with its sidecar, only the own document names the copy', async () => {
  site.put('store/stray/fog/late.mov', 'l'.repeat(500));
  site.put('store/fog/Fog v2.otio', otio('Fog', [url('store/stray/fog/late.mov'), url('store/dune/camera/D.mov')]));
  await site.read(store, spare);
  const dunes = text('store/dune/Dune.otio');
  expect(await addGathering(site.db, { projectId: fog, now: now() })).toMatchObject({
    moved: { files: 1 },
    copied: { files: 2 },
  });
  await run();
  expect(text('store/fog/camera/late.mov')).toBe('l'.repeat(500));
  expect(text('store/fog/camera/D.mov')).toBe('d'.repeat(600));
  expect(text('store/fog/camera/D.xml')).toBe('<take/>');
  expect(text('store/dune/camera/D.mov')).toBe('d'.repeat(600));
  expect(text('store/dune/Dune.otio')).toBe(dunes);
  expect(existsSync(at('store/dune/Dune v2.otio'))).toBe(false);
  const newest = (await site.db.select().from(documents).where(eq(documents.projectId, fog))).find(
    (row) => row.supersededBy === null,
  )!;
  expect(text(`store/fog/${newest.name}`)).toContain('/fog/camera/D.mov');
  expect((await kindOf('D.mov')).sort()).toEqual(
    [
      ['source', dune, store],
      ['source', fog, store],
    ].sort(),
  );
  // There is nothing to borrow any more, and a reading anew has nothing to add.
  await expect(addGathering(site.db, { projectId: fog, now: now() })).rejects.toThrow(/borrows nothing/);
  const { results } = await site.read(store);
  expect(results).toMatchObject([{ added: 0, gone: 0 }]);
});

test('what changed after it was staged is not parked, and no copy of it stays', async () => {
  await addParking(site.db, { projectId: fog, which: 'all', volumeId: spare, now: now() });
  site.put('store/fog/camera/A.mov', 'graded meanwhile');
  await run();
  expect(text('store/fog/camera/A.mov')).toBe('graded meanwhile');
  expect(existsSync(at('spare/parked/fog/A.mov'))).toBe(false);
  const [item] = await site.db.select().from(stepItems).where(eq(stepItems.path, 'fog/camera/A.mov'));
  expect(item).toMatchObject({ state: 'held', reason: 'changed' });
});

test('what cannot be parked or gathered is refused with a sentence, and nothing is added', async () => {
  const caches = await site.volume('scratch', 'cache');
  const park = (projectId: ProjectId, volumeId: VolumeId) =>
    addParking(site.db, { projectId, which: 'all', volumeId, now: now() });
  await expect(park(fog, caches)).rejects.toThrow(/meant for caches/);
  await expect(park(fog, 99 as VolumeId)).rejects.toThrow(/no such volume/);
  await expect(park(99 as ProjectId, spare)).rejects.toThrow(/no such project/);
  await expect(park(fog, store)).rejects.toThrow(/no media beside that volume/);
  await expect(addBringingBack(site.db, { projectId: fog, now: now() })).rejects.toThrow(/Nothing of it is parked/);
  await expect(addGathering(site.db, { projectId: dune, now: now() })).rejects.toThrow(/has no home for source/);
  // On a volume for renders a clip would be one, and may go for good: a home there takes none.
  site.put('store/stray/fog/late.mov', 'l'.repeat(500));
  await site.read(store);
  await setHome(site.db, fog, { kind: 'source', volumeId: spare, folder: 'fog' }, { who: 'Mara', now: now() });
  await expect(addMoveHome(site.db, { projectId: fog, kind: 'source', now: now() })).rejects.toThrow(
    /would count as a render, which may go for good/,
  );
  await expect(addGathering(site.db, { projectId: fog, now: now() })).rejects.toThrow(/would count as a render/);
  expect((await currentPlan(site.db)).steps).toEqual([]);
});

test('a reading while the parking is under way does not turn footage into what the volume is for', async () => {
  for (let i = 0; i < 60; i++) site.put(`store/fog/camera/more/${i}.mov`, `${i} `.repeat(200));
  await site.read(store);
  await addParking(site.db, { projectId: fog, which: 'unused', volumeId: spare, now: now() });
  await site.look();
  const plan = await currentPlan(site.db);
  await runPlan(site.db, { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: now() });
  const first = site.worker();
  await until(async () =>
    (await site.db.select().from(stepItems)).some((item) => item.state === 'done' && item.path.endsWith('.mov')),
  );
  await first.stop();
  const ended = async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null);
  expect(await ended()).toBe(false);
  await site.read(spare);
  worker = site.worker();
  await until(ended);
  await site.read(spare);
  const there = (await site.db.select().from(files).where(isNull(files.goneAt))).filter((f) => f.volumeId === spare);
  expect(there.filter((file) => file.name.endsWith('.mov')).map((file) => file.kind)).toEqual(
    Array.from({ length: 61 }, () => 'source'),
  );
});
