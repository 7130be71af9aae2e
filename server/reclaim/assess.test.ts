// The assessment on a real site: every group with its level and reason, what follows when files go, and steps from lines.
import { utimesSync, writeFileSync } from 'node:fs';
import { eq, sql } from 'drizzle-orm';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import type { FolderId, Level, PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { byLevel } from '#core/plan/plan.ts';
import { reach } from '#core/reclaim/goal.ts';
import { GROUPS } from '#core/reclaim/worth.ts';
import { size } from '#core/wording/amounts.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { aside } from '../db/schema/aside.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { projects } from '../db/schema/projects.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { worth } from '../db/schema/worth.ts';
import { currentPlan, runPlan } from '../plan/plan.ts';
import { foundFiles } from '../search/search.ts';
import { addArchive } from '../steps/archive.ts';
import { addChosen } from '../steps/chosen.ts';
import { askToAssess, assess } from './assess.ts';
import { compressedSounds } from './compressed.ts';
import { groupSums, lines, linesOfUnit, type Scope } from './lines.ts';
import { wholeUnits } from './whole-units.ts';

let site: TestSite;
let media: VolumeId;
const now = () => new Date();
const ALL: Scope = { only: [], projectId: null, inWork: true };
const SOON = 30_000;
const OLD = 1_600_000_000;

beforeEach(async () => {
  site = await TestSite.open();
  media = await site.volume('media');
  for (const clip of ['a', 'b', 'c']) site.put(`media/fog/rushes/${clip}.mov`, `${clip} `.repeat(1000));
  site.put('media/fog/rushes/a.xml', 'beside a');
  site.put('media/fog/rushes/c.xml', 'beside c');
  const current = site.put('media/fog/renders/cut_v1.mov', 'r'.repeat(500));
  utimesSync(current, Date.now() / 1000 + 60, Date.now() / 1000 + 60);
  utimesSync(site.put('media/fog/renders/cut_v0.mov', 'r'.repeat(400)), OLD, OLD);
  site.put('media/fog/proxies/a_proxy.mov', 'p'.repeat(300));
  site.put('media/fog/proxies/z_proxy.mov', 'p'.repeat(301));
  site.put('media/fog/deliveries/master.mov', 'd'.repeat(700));
  site.put('media/stray/what.bin', 'w'.repeat(50));
  utimesSync(site.put('media/fog/cache/1.frm', 'k'.repeat(90)), OLD, OLD);
  for (let i = 0; i < 14; i++) {
    const at = site.put(`media/fog/autosaves/fog ${i}.otio`, `{"n": ${i}}`);
    utimesSync(at, OLD + i * 60, OLD + i * 60);
  }
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov', 'rushes/b.mov'], ['rushes/a.mov']));
  await site.read(media);
});
afterEach(() => site.close());

async function told() {
  const rows = await site.db
    .select({ name: files.name, what: worth.what, level: worth.level, reason: worth.reason })
    .from(worth)
    .innerJoin(files, eq(files.id, worth.fileId))
    .orderBy(files.name);
  return Object.fromEntries(rows.map((row) => [row.name, `${row.what}, ${row.level}, ${row.reason}`]));
}
async function run() {
  const plan = await currentPlan(site.db);
  const typed = size(byLevel(plan.steps)[3]);
  const ran = await runPlan(site.db, {
    planId: plan.planId as PlanId,
    version: plan.version,
    who: 'Mara',
    now: now(),
    typed,
  });
  expect(ran).toMatchObject({ ok: true });
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
}

test('every file that may go has its group, level and reason; what is used, and what goes with it, has none', async () => {
  await assess(site.db);
  const all = await told();
  expect(Object.keys(all).filter((name) => /^fog \d/.test(name))).toHaveLength(3);
  expect(all).toMatchObject({
    'b.mov': 'unused media, 3, in a bin alone',
    'c.mov': 'unused media, 3, named by nothing',
    'cut_v0.mov': 'renders, 1, older than its project',
    'cut_v1.mov': 'renders, 1, rendered again',
    'a_proxy.mov': 'proxies, 1, source is found',
    'z_proxy.mov': 'proxies, 3, source not found',
    'what.bin': 'nobody’s, 3, belongs to nobody',
    'fog 1.otio': 'old backups, 3, enough newer ones',
  });
  for (const name of ['a.mov', 'a.xml', 'master.mov', 'fog.otio', 'fog 13.otio', 'fog 0.otio', '1.frm'])
    expect(all[name]).toBeUndefined();
  const sums = await groupSums(site.db, ALL);
  expect(sums.map((sum) => [sum.group, sum.files, sum.bytes])).toMatchObject([
    ['caches', 1, 90],
    ['renders', 2, 900],
    ['proxies', 2, 601],
    ['unused media', expect.any(Number), expect.any(Number)],
    ['same twice', 0, 0],
    ['old backups', 3, 24],
    ['left behind', 0, 0],
    ['nobody’s', 1, 50],
    ['empty folders', 0, 0],
  ]);
  for (const group of GROUPS) {
    const own = await lines(site.db, ALL, { group, cutDay: 30_000, most: 100 });
    expect([group, own.reduce((sum, line) => sum + line.files, 0)]).toEqual([
      group,
      sums.find((sum) => sum.group === group)!.files,
    ]);
  }
  // Projects in work are out until they are asked for, or one is looked at.
  await site.db.update(projects).set({ state: 'in work' });
  expect((await groupSums(site.db, { ...ALL, inWork: false }))[1]!.files).toBe(0);
  expect((await groupSums(site.db, { ...ALL, inWork: false, projectId: 1 as ProjectId }))[1]!.files).toBe(2);
});

test('an archive that was read back makes the only copy one of two; of an archived project all is offered', async () => {
  const carrier = await site.carrier('kd-1');
  // The master stays out here, so that it is the only copy afterwards.
  const scope = { ...USUAL_SCOPE, parts: [] };
  await addArchive(site.db, { projectId: 1 as ProjectId, carrierIds: [carrier], folder: 'fog_1', scope, now: now() });
  await run();
  await assess(site.db);
  expect((await told())['a.mov']).toBeUndefined();
  await site.db.update(projects).set({ state: 'archived' });
  await assess(site.db);
  expect(await told()).toMatchObject({
    'a.mov': 'left behind, 2, project is archived',
    'master.mov': 'left behind, 3, project is archived',
    'c.mov': 'left behind, 3, project is archived',
  });
});

test('lines become steps: for good where it can be made again, aside where not; what went is offered no more', async () => {
  await assess(site.db);
  const all = await lines(site.db, ALL, { cutDay: SOON, most: 1000 });
  expect(new Set(all.map((line) => line.key)).size).toBe(all.length);
  expect(all.reduce((sum, line) => sum + line.bytes, 0)).toBe(
    (await groupSums(site.db, ALL)).reduce((sum, one) => sum + one.bytes, 0),
  );
  const added = await addChosen(site.db, { keys: all.map((line) => line.key), cutDay: SOON, now: now() });
  expect(added.bytes).toBe(all.reduce((sum, line) => sum + line.bytes, 0));
  expect((await site.db.select().from(steps)).map((step) => step.what.kind).sort()).toEqual([
    'remove caches',
    'remove files',
    'remove files',
    'remove files',
    'set aside',
    'set aside',
    'set aside',
    'set aside',
    'set aside',
  ]);
  await run();
  expect(await told()).toEqual({});
  expect((await groupSums(site.db, ALL)).every((sum) => sum.files === 0)).toBe(true);
  const names = (await site.db.select({ path: aside.path }).from(aside)).map((row) => row.path).sort();
  expect(names).toContain('fog/rushes/b.mov');
  expect(names).not.toContain('fog/renders/cut_v1.mov');
  const left = await site.db
    .select({ name: files.name })
    .from(files)
    .where(sql`gone_at IS NULL`);
  expect(left.map((row) => row.name)).toEqual(
    expect.arrayContaining(['a.mov', 'a.xml', 'master.mov', 'fog.otio', 'fog 13.otio']),
  );
});

test('what a folder or a search has is offered alone, and a file goes with what belongs to it', async () => {
  await assess(site.db);
  const [rushes] = await site.db.select().from(folders).where(eq(folders.path, 'fog/rushes'));
  const below = { ...ALL, below: [rushes!.id as FolderId] };
  const unused = ['b.mov', 'c.mov', 'c.xml'];
  const inside = await lines(site.db, below, { cutDay: SOON, most: 100 });
  expect(inside.map((line) => line.path)).toEqual(inside.map(() => 'fog/rushes'));
  expect(inside.reduce((sum, line) => sum + line.files, 0)).toBe(unused.length);
  expect((await groupSums(site.db, below)).filter((sum) => sum.files > 0)).toMatchObject([
    { group: 'unused media', files: unused.length },
  ]);
  const [top] = await site.db.select().from(folders).where(eq(folders.path, 'fog'));
  const all = (await groupSums(site.db, { ...ALL, below: [top!.id as FolderId] })).filter((sum) => sum.files > 0);
  expect(all.map((sum) => sum.group)).toEqual(['caches', 'renders', 'proxies', 'unused media', 'old backups']);
  expect(all.map((sum) => sum.bytes)).toEqual(
    (await groupSums(site.db, ALL)).filter((sum) => all.some((one) => one.group === sum.group)).map((sum) => sum.bytes),
  );
  // Two folders, one inside the other: each file once.
  const both = { ...ALL, below: [rushes!.id as FolderId, top!.id as FolderId] };
  expect((await groupSums(site.db, both)).filter((sum) => sum.files > 0)).toEqual(all);
  // A search finds one file of two that belong together.
  const found = await foundFiles(site.db, 'c.mov');
  expect(found).toMatchObject({ ids: [expect.any(Number)], trouble: null });
  const among = await wholeUnits(site.db, found.ids);
  expect(among).toHaveLength(2);
  const own = await lines(site.db, { ...ALL, among }, { cutDay: SOON, most: 100 });
  expect(own).toMatchObject(await linesOfUnit(site.db, found.ids[0]!));
  expect(own.reduce((sum, line) => sum + line.files, 0)).toBe(2);
  expect(await lines(site.db, { ...ALL, among }, { group: 'caches', cutDay: SOON, most: 100 })).toEqual([]);
  expect(await addChosen(site.db, { keys: own.map((line) => line.key), among, cutDay: 0, now: now() })).toMatchObject({
    files: 2,
  });
  expect((await site.db.select().from(stepItems)).map((item) => item.path).sort()).toEqual([
    'fog/rushes/c.mov',
    'fog/rushes/c.xml',
  ]);
  // Nothing that was not found goes by a line of its folder, and filters alone are too many files.
  const [cache] = await lines(site.db, ALL, { group: 'caches', cutDay: SOON, most: 1 });
  await expect(addChosen(site.db, { keys: [cache!.key], among, cutDay: SOON, now: now() })).rejects.toThrow(
    /folder by folder/,
  );
  expect(await foundFiles(site.db, 'kind:cache')).toMatchObject({ ids: [], trouble: expect.stringMatching(/part of/) });
  expect((await groupSums(site.db, { ...ALL, among: [] })).every((sum) => sum.files === 0)).toBe(true);
});

test('what began to be used since it was assessed is left out of the step', async () => {
  await assess(site.db);
  const [line] = await lines(site.db, ALL, { group: 'unused media', cutDay: SOON, most: 10 });
  writeFileSync(`${site.root}/media/fog/fog.otio`, otio('Fog', ['rushes/a.mov', 'rushes/b.mov', 'rushes/c.mov']));
  await site.read(media);
  // Of c nothing but its sidecar is left, and that stays with it.
  expect(line!.files).toBe(2);
  expect(await addChosen(site.db, { keys: [line!.key], cutDay: SOON, now: now() })).toMatchObject({ files: 1 });
  await run();
  expect(await site.db.select().from(aside)).toEqual([]);
  expect((await site.db.select().from(stepItems)).map((item) => [item.path, item.reason])).toEqual([
    ['fog/rushes/c.xml', 'in use'],
  ]);
  for (const bad of ['1', 'x-y', '1-2-3-4-99', '99-1-1-1-1', ''])
    await expect(addChosen(site.db, { keys: [bad], cutDay: SOON, now: now() })).rejects.toThrow(
      /could not be understood/,
    );
  await expect(addChosen(site.db, { keys: [], cutDay: SOON, now: now() })).rejects.toThrow(/Nothing is chosen/);
});

test('a goal takes what is least regretted', async () => {
  await assess(site.db);
  const all = await lines(site.db, ALL, { cutDay: SOON, most: 1000 });
  const goal = (wantedBytes: number, highest: Level) => {
    const found = reach(all, { wantedBytes, highest });
    return { ...found, groups: all.filter((line) => found.keys.includes(line.key)).map((line) => line.group) };
  };
  expect(goal(80, 1)).toMatchObject({ isReached: true, groups: ['caches'] });
  expect(goal(800, 1)).toMatchObject({ isReached: true, bytes: 900, beyondBytes: expect.any(Number) });
  expect(goal(5000, 1)).toMatchObject({ isReached: false, bytes: 1290 });
});

test('it is asked for where something changed, and not before there is peace', async () => {
  await askToAssess(site.db, now());
  expect(await site.db.select().from(jobs)).toEqual([]);
  const later = new Date(Date.now() + 60_000);
  await askToAssess(site.db, later);
  await askToAssess(site.db, later);
  expect(await site.db.select({ kind: jobs.kind }).from(jobs)).toEqual([{ kind: 'assess' }]);
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.state === 'done'));
  await worker.stop();
  await askToAssess(site.db, new Date(Date.now() + 3_600_000));
  expect(await site.db.select().from(jobs)).toHaveLength(1);
});

test('compressed sounds of a library are counted by volume', async () => {
  const library = await site.volume('library', 'library');
  for (const name of ['a.mp3', 'b.M4A', 'c.wav']) site.put(`library/atmos/${name}`, 'x'.repeat(100));
  await site.read(library);
  await assess(site.db);
  expect(await compressedSounds(site.db)).toEqual([{ volumeId: library, files: 2, bytes: 200 }]);
});
