// Projects in work that are archived every night: what is new alone is written, each night can be brought back, and what stands in
// the way is said.
import { readdirSync, readFileSync, renameSync, rmSync } from 'node:fs';
import path from 'node:path';
import { asc, desc, eq } from 'drizzle-orm';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { earlierArchives } from '../archives/base.ts';
import { setHold } from '../archives/keeping.ts';
import { USUAL_HOURS } from '#core/nights/hours.ts';
import { setNightHours } from '../site/night-hours.ts';
import { projectNights, setProjectNight } from '../archives/project-nights.ts';
import { archiveRows } from '../archives/shelf.ts';
import { archiveCopies, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { readings } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { undoReceipt } from '../ledger/undo.ts';
import { tonightOf } from '../nights/tonight.ts';
import { projectRows } from '../projects/projects.ts';
import { addArchive } from '../steps/archive.ts';
import { addRestore } from '../steps/restore.ts';
import { archiveAtNight, houseMark, quietFolder } from './night-projects.ts';

let site: TestSite;
let volume: VolumeId;
let carrier: CarrierId;
const FOG = 1 as ProjectId;
const RULE = () => ({ carrierId: carrier, anewDays: 30, keepDays: 0, mostMBps: 0, allDays: 0, weeklyDays: 0 });
const by = { who: 'Mara', now: new Date() };
/** Three in the morning, so many days from today. */
const night = (days: number): Date => {
  const at = new Date(Date.now() + days * 86_400_000);
  at.setHours(3, 0, 0, 0);
  return at;
};

const save = (name: string, media: string[]) =>
  site.put(
    `media/fog/${name}`,
    otio(
      'Fog',
      media.map((one) => `rushes/${one}.mov`),
    ),
  );

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  carrier = await site.carrier('kd-1');
  for (const name of ['a', 'b']) site.put(`media/fog/rushes/${name}.mov`, `${name} `.repeat(30_000));
  save('fog.otio', ['a', 'b']);
  await site.read(volume);
  await setProjectNight(site.db, { projectId: FOG, rule: RULE() }, by);
});
afterEach(() => site.close());

async function runAt(now: Date): Promise<string> {
  site.clock = () => now;
  await site.look();
  const begun = await archiveAtNight(site.db, now);
  if (begun > 0) expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  return (await projectNights(site.db, FOG))[0]!.ran!.said;
}
const sealed = () => site.db.select().from(archives).where(eq(archives.state, 'sealed')).orderBy(asc(archives.id));
const mediaOn = (folder: string) =>
  readdirSync(path.join(site.root, 'kd-1', folder, 'data/media'), { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => entry.name)
    .sort();

test('each night writes what is new alone, nothing where nothing changed, and every night comes back whole', async () => {
  expect(await runAt(night(1))).toMatch(/everything anew/);
  // Twice in one night it is not begun, and by day not at all.
  expect(await archiveAtNight(site.db, night(1))).toBe(0);
  expect(await archiveAtNight(site.db, new Date(night(2).getTime() + 9 * 3_600_000))).toBe(0);
  expect(await runAt(night(2))).toMatch(/Nothing of it has changed since fog_.*_night/);

  site.put('media/fog/rushes/c.mov', 'c '.repeat(30_000));
  save('fog.otio', ['b', 'c']);
  await site.read(volume);
  expect(await runAt(night(3))).toMatch(/the rest lies in fog_/);
  const [first, second] = await sealed();
  expect(await sealed()).toHaveLength(2);
  expect(second).toMatchObject({ baseId: first!.id, night: true });
  expect(mediaOn(first!.folder)).toEqual(['a.mov', 'b.mov']);
  expect(mediaOn(second!.folder)).toEqual(['c.mov']);

  // Its media are lost, and both nights come back.
  renameSync(path.join(site.root, 'media/fog'), path.join(site.root, 'gone'));
  await site.read(volume);
  for (const [archive, media] of [
    [first!, ['a', 'b']],
    [second!, ['b', 'c']],
  ] as const) {
    const [copy] = await site.db.select().from(archiveCopies).where(eq(archiveCopies.archiveId, archive.id));
    const asked = {
      archiveId: archive.id as ArchiveId,
      copyId: copy!.id,
      volumeId: volume,
      folder: `back ${archive.id}`,
    };
    await addRestore(site.db, { ...asked, now: new Date() });
    await site.runPlan();
    expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
    const at = path.join(site.root, 'media', `back ${archive.id}`);
    const back = readdirSync(at, { recursive: true, encoding: 'utf8' }).filter((name) => name.endsWith('.mov'));
    expect(back.map((name) => path.basename(name, '.mov')).sort()).toEqual(media);
    for (const name of back)
      expect(readFileSync(path.join(at, name), 'utf8')).toBe(`${path.basename(name, '.mov')} `.repeat(30_000));
  }
});

describe('a house in which nothing happened is not looked through again', () => {
  const quiet = async (days: number) => {
    const [rule] = await projectNights(site.db, FOG);
    return quietFolder(site.db, rule!, { now: night(days), mark: await houseMark(site.db) });
  };
  beforeEach(async () => {
    await runAt(night(1));
    expect(await quiet(2)).toBe((await sealed())[0]!.folder);
  });

  test('readings that find nothing leave it so, night after night', async () => {
    await site.read(volume);
    for (const days of [2, 3, 4]) expect(await runAt(night(days))).toMatch(/Nothing of it has changed since/);
    expect(await quiet(5)).toBe((await sealed())[0]!.folder);
    expect(await sealed()).toHaveLength(1);
    // Until everything is due once more.
    expect(await quiet(40)).toBeNull();
  });

  test.each<[string, () => Promise<unknown>]>([
    ['a file that was read as another', async () => (site.put('media/fog/rushes/a.mov', 'new '), site.read(volume))],
    ['a file that is gone', async () => (rmSync(path.join(site.root, 'media/fog/rushes/a.mov')), site.read(volume))],
    ['a document that was read anew', async () => (save('fog.otio', ['a']), site.read(volume))],
    ['a reading under way', () => site.db.insert(readings).values({ volumeId: volume, startedAt: new Date() })],
    ['what a person did', () => setProjectNight(site.db, { projectId: FOG, rule: { ...RULE(), keepDays: 9 } }, by)],
    ['a copy that is damaged', () => site.db.update(copyParts).set({ state: 'damaged' })],
    ['a night that has a gap', () => site.db.update(archives).set({ gaps: 1 })],
    ['a night that was let go', () => site.db.update(archives).set({ state: 'let go' })],
  ])('but for %s', async (_what, happens) => {
    await happens();
    expect(await quiet(2)).toBeNull();
    site.checked = false;
  });

  test('what a reading found after it was looked through, and before it was killed, is seen', async () => {
    await site.db.insert(readings).values({ volumeId: volume, startedAt: new Date() });
    expect(await runAt(night(2))).toMatch(/Nothing of it has changed/);
    site.put('media/fog/rushes/a.mov', 'changed '.repeat(9000));
    await site.read(volume);
    // It had written that down already, and the next found nothing more.
    await site.db.update(readings).set({ added: 0, changed: 0, gone: 0 });
    expect(await runAt(night(3))).toMatch(/^Begun/);
    site.checked = false;
  });

  test('what a reading found that was under way when it was looked through is seen', async () => {
    const [{ insertId }] = await site.db.insert(readings).values({ volumeId: volume, startedAt: new Date() });
    expect(await runAt(night(2))).toMatch(/Nothing of it has changed/);
    site.put('media/fog/rushes/a.mov', 'changed '.repeat(9000));
    await site.read(volume);
    await site.db.update(readings).set({ finishedAt: new Date(), changed: 1 }).where(eq(readings.id, insertId));
    expect(await quiet(3)).toBeNull();
    expect(await runAt(night(3))).toMatch(/^Begun/);
  });
});

test('two workers that look at once begin one night', async () => {
  await site.look();
  const begun = await Promise.all([archiveAtNight(site.db, night(1)), archiveAtNight(site.db, night(1))]);
  expect(begun.sort()).toEqual([0, 1]);
});

test('after so many days everything is written anew, and nothing before is needed for it', async () => {
  await setProjectNight(site.db, { projectId: FOG, rule: { ...RULE(), anewDays: 1 } }, by);
  await runAt(night(1));
  save('fog.otio', ['b']);
  await site.read(volume);
  expect(await runAt(night(3))).toMatch(/everything anew/);
  expect((await sealed()).map((one) => one.baseId)).toEqual([null, null]);
});

test('old nights are let go when no younger one needs them, and never the newest or one under legal hold', async () => {
  const rule = (anewDays: number, keepDays: number) =>
    setProjectNight(site.db, { projectId: FOG, rule: { ...RULE(), anewDays, keepDays } }, by);
  await rule(1, 0);
  await runAt(night(1));
  save('fog.otio', ['b']);
  await site.read(volume);
  await runAt(night(3));
  const folders = async (state: 'sealed' | 'let go') =>
    (await site.db.select().from(archives).where(eq(archives.state, state))).map((one) => one.id);
  expect(await folders('sealed')).toEqual([1, 2]);
  expect((await projectNights(site.db, FOG))[0]).toMatchObject({
    written: { anew: { nights: 2 }, added: { nights: 0 } },
  });
  await rule(30, 5);
  // Held: it stays however old it is.
  await setHold(site.db, 1 as ArchiveId, 'a dispute', by);
  await runAt(night(20));
  expect(await folders('let go')).toEqual([]);
  await setHold(site.db, 1 as ArchiveId, null, by);
  await runAt(night(22));
  expect(await folders('let go')).toEqual([1]);
  expect(await folders('sealed')).toEqual([2]);
  // Nothing of it was erased.
  expect(readdirSync(path.join(site.root, 'kd-1')).filter((name) => name.endsWith('_night'))).toHaveLength(2);
});

test('of a chain one night a week stays and all that it needs; the next builds on, and what stays comes back', async () => {
  await runAt(night(1));
  const media = ['a', 'b'];
  // The same week: a night that only its document changed in, one with a new recording, and more of the first sort.
  const monday = 8 - ((new Date(Date.now()).getDay() + 6) % 7);
  for (let i = 0; i < 5; i++) {
    if (i === 1) {
      site.put('media/fog/rushes/late.mov', 'late '.repeat(20_000));
      media.push('late');
    }
    save('fog.otio', [...media, ...Array.from({ length: i + 1 }, () => 'a')]);
    await site.read(volume);
    expect(await runAt(night(monday + i))).toMatch(/the rest lies in/);
  }
  expect((await sealed()).map((one) => one.id)).toEqual([1, 2, 3, 4, 5, 6]);
  // Nights are told by when they were sealed.
  for (let i = 0; i < 5; i++)
    await site.db
      .update(archives)
      .set({ sealedAt: night(monday + i) })
      .where(eq(archives.id, 2 + i));
  await setProjectNight(site.db, { projectId: FOG, rule: { ...RULE(), anewDays: 90, allDays: 10 } }, by);
  await setHold(site.db, 5 as ArchiveId, 'a dispute', by);
  expect(await runAt(night(monday + 30))).toMatch(/Nothing of it has changed/);
  const left = await sealed();
  // 2 only changed a document, 3 has the recording, 4 and 5 changed a document, 6 is the last.
  expect(left.map((one) => [one.id, one.baseId])).toEqual([
    [1, null],
    [3, 1],
    [5, 3],
    [6, 5],
  ]);
  save('fog.otio', ['late', 'a']);
  await site.read(volume);
  expect(await runAt(night(monday + 32))).toMatch(/the rest lies in/);
  rmSync(path.join(site.root, 'media/fog'), { recursive: true });
  await site.read(volume);
  for (const { id, folder } of await sealed()) {
    const [copy] = await site.db.select().from(archiveCopies).where(eq(archiveCopies.archiveId, id));
    await addRestore(site.db, {
      ...{ archiveId: id as ArchiveId, copyId: copy!.id, volumeId: volume, folder: `back ${id}`, now: new Date() },
    });
    await site.runPlan();
    expect([folder, await site.workOff()]).toMatchObject([folder, { state: 'done', trouble: null }]);
    const back = readdirSync(path.join(site.root, 'media', `back ${id}`), { recursive: true, encoding: 'utf8' });
    const wanted = id === 1 ? ['a', 'b'] : id === 7 ? ['a', 'late'] : ['a', 'b', 'late'];
    expect([
      id,
      back
        .filter((name) => name.endsWith('.mov'))
        .map((name) => path.basename(name, '.mov'))
        .sort(),
    ]).toEqual([id, wanted]);
  }
});

test('a carrier that is away is said, and the night after it is made up for', async () => {
  await runAt(night(1));
  save('fog.otio', ['a']);
  await site.read(volume);
  renameSync(path.join(site.root, 'kd-1'), path.join(site.root, 'on a shelf'));
  expect(await runAt(night(2))).toMatch(/nothing was done/);
  expect(await sealed()).toHaveLength(1);
  renameSync(path.join(site.root, 'on a shelf'), path.join(site.root, 'kd-1'));
  expect(await runAt(night(3))).toMatch(/Begun/);
  expect(await sealed()).toHaveLength(2);
});

test('a project that is not in work is left alone, a project without media says why, and the calendar tells', async () => {
  const { works } = await tonightOf(site.db, new Date());
  expect(works.find((work) => work.key === `project ${FOG}`)).toMatchObject({ isDue: true, needs: ['kd-1'] });
  await site.db.update(projects).set({ state: 'delivered' }).where(eq(projects.id, FOG));
  await site.look();
  expect(await archiveAtNight(site.db, night(1))).toBe(0);
  await site.db.update(projects).set({ state: 'in work' }).where(eq(projects.id, FOG));
  rmSync(path.join(site.root, 'media/fog/rushes'), { recursive: true });
  rmSync(path.join(site.root, 'media/fog/fog.otio'));
  await site.read(volume);
  expect(await runAt(night(2))).toMatch(/Nothing was added/);
});

test('what it wants is in the ledger and can be undone; one copy of a night is what is meant', async () => {
  await runAt(night(1));
  expect((await archiveRows(site.db))[0]).toMatchObject({ short: null });
  // It is no archive of a finished project: nothing is built on it, and the project is not told as archived.
  expect(await earlierArchives(site.db, FOG)).toEqual([]);
  expect((await projectRows(site.db))[0]).toMatchObject({ archived: false });
  const [receipt] = await site.db
    .select()
    .from(receipts)
    .where(eq(receipts.action, 'nights of a project changed'))
    .orderBy(desc(receipts.id));
  expect(receipt!.title).toMatch(/Fog: archived each night on kd-1, everything anew every 30 days/);
  await undoReceipt(site.db, receipt!.id, by);
  expect(await projectNights(site.db)).toEqual([]);
  await expect(
    setProjectNight(site.db, { projectId: FOG, rule: { ...RULE(), carrierId: 99 as CarrierId } }, by),
  ).rejects.toThrow(/no such carrier/);
});

test('a night that is too short ends when people come, keeps what it wrote, and goes on the next night', async () => {
  for (let i = 0; i < 30; i++) site.put(`media/fog/rushes/n${i}.mov`, `n${i} `.repeat(2000));
  save('fog.otio', ['a', 'b', ...Array.from({ length: 30 }, (_, i) => `n${i}`)]);
  await site.read(volume);
  // Five o'clock comes after a few files.
  let asked = 0;
  const [late, morning] = [night(1), new Date(night(1).getTime() + 2.5 * 3_600_000)];
  site.clock = () => (asked++ < 8 ? late : morning);
  await site.look();
  expect(await archiveAtNight(site.db, late)).toBe(1);
  const worker = site.worker();
  const job = async () => (await site.db.select().from(jobs).orderBy(desc(jobs.id)).limit(1))[0]!;
  await until(async () => (await job()).notBefore !== null && (await job()).state === 'queued');
  expect(await job()).toMatchObject({ phase: 'waits for the next night', trouble: null });
  expect((await job()).notBefore!.getHours()).toBe(1);
  expect((await job()).notBefore!.getTime()).toBeGreaterThan(morning.getTime());
  const written = (await site.db.select().from(copyFiles)).filter((row) => row.state === 'read back');
  expect(written.length).toBeGreaterThan(0);
  expect(written.length).toBeLessThan(30);
  await worker.stop();
  expect(await sealed()).toEqual([]);

  // The next night goes on with it, and begins no other.
  await site.look();
  expect(await archiveAtNight(site.db, night(2))).toBe(0);
  expect((await projectNights(site.db, FOG))[0]!.ran!.said).toMatch(/was not done when the night ended, and goes on/);
  site.clock = () => night(2);
  await site.db.update(jobs).set({ notBefore: null });
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  const [one] = await sealed();
  expect(one).toMatchObject({ night: true, gaps: 0 });
  expect(mediaOn(one!.folder)).toHaveLength(32);
});

test('projects have hours of their own: begun in them, ended by them, and none on other days', async () => {
  const day = new Date(night(1).getTime() + 9 * 3_600_000);
  await setNightHours(
    site.db,
    { ...USUAL_HOURS, own: { projects: { from: day.getHours(), to: day.getHours() + 1, days: [day.getDay()] } } },
    by,
  );
  await site.look();
  expect(await archiveAtNight(site.db, night(1))).toBe(0);
  expect(await archiveAtNight(site.db, day)).toBe(1);
  // Its hours are over before anybody took it up.
  site.clock = () => new Date(day.getTime() + 2 * 3_600_000);
  const worker = site.worker();
  const job = async () => (await site.db.select().from(jobs).orderBy(desc(jobs.id)).limit(1))[0]!;
  await until(async () => (await job()).notBefore !== null && (await job()).state === 'queued');
  expect((await job()).notBefore!.getTime()).toBe(day.getTime() + 7 * 86_400_000);
  await worker.stop();
  expect(await archiveAtNight(site.db, new Date(day.getTime() + 86_400_000))).toBe(0);
});

test('what somebody begins by day, and what is no night, goes on by day', async () => {
  site.clock = () => night(1);
  await site.look();
  expect(await archiveAtNight(site.db, night(1))).toBe(1);
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  const day = new Date(night(1).getTime() + 9 * 3_600_000);
  site.clock = () => day;
  site.put('media/fog/rushes/c.mov', 'c '.repeat(30_000));
  await site.read(volume);
  await addArchive(site.db, { projectId: FOG, carrierIds: [carrier], folder: 'fog_by_day', now: night(1) });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
});

test('what a night writes goes by no faster than the house wants it to', async () => {
  site.put('media/fog/rushes/c.mov', Buffer.alloc(3_000_000, 'c'));
  save('fog.otio', ['a', 'b', 'c']);
  await site.read(volume);
  await setProjectNight(site.db, { projectId: FOG, rule: { ...RULE(), mostMBps: 2 } }, by);
  const began = Date.now();
  expect(await runAt(night(1))).toMatch(/everything anew/);
  // Two files at once share it: a megabyte a second for the large one.
  expect(Date.now() - began).toBeGreaterThan(2900);
  const [receipt] = await site.db
    .select()
    .from(receipts)
    .where(eq(receipts.action, 'nights of a project changed'))
    .orderBy(desc(receipts.id));
  expect(receipt!.title).toContain('2 MB/s at most');
});
