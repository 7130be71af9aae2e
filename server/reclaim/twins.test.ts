// The same file twice: found, offered where another stays, set aside, and gone for good only with its like read beside it.
import { existsSync, linkSync, readFileSync, rmSync, statSync, unlinkSync, utimesSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { size } from '#core/wording/amounts.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { aside } from '../db/schema/aside.ts';
import { files } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { fileSums, worth } from '../db/schema/worth.ts';
import { currentAssessment } from '../db/worth.ts';
import { currentPlan, runPlan } from '../plan/plan.ts';
import { addChosen } from '../steps/chosen.ts';
import { addArchive } from '../steps/archive.ts';
import { addKeepOther } from '../steps/keep-other.ts';
import { addAsideRemoval } from '../steps/remove-aside.ts';
import { assess } from './assess.ts';
import { lines } from './lines.ts';
import { askToCompare, twinPairs } from './twins.ts';

let site: TestSite;
let media: VolumeId;
let carry: VolumeId;
const now = () => new Date();
const SOON = 30_000;
const ALL = { only: [], projectId: null, inWork: true };
const big = (letter: string) => `${letter}${'.'.repeat(300_000)}${letter}`;

beforeEach(async () => {
  site = await TestSite.open();
  media = await site.volume('media');
  carry = await site.volume('carry');
  site.put('media/fog/rushes/a.mov', big('a'));
  site.put('carry/card/a copy.mov', big('a'));
  // Of its size and with its ends, and yet another.
  const other = Buffer.from(big('a'));
  other[150_000] = 0x21;
  site.put('carry/card/nearly.mov', other);
  site.put('carry/card/other.mov', big('b'));
  site.put('media/fog/small.mov', 'x'.repeat(9000));
  site.put('carry/small.mov', 'x'.repeat(9000));
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov']));
  await site.read(media, carry);
});
afterEach(() => site.close());

const at = (name: string) => path.join(site.root, name);
async function work() {
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
}
async function compare() {
  await site.look();
  await askToCompare(site.db, { who: 'Mara', now: now() });
  await work();
  expect((await site.db.select().from(jobs)).at(-1)!.state).toBe('done');
  await assess(site.db);
}
const pairs = async () =>
  (await twinPairs(site.db, (await currentAssessment(site.db))!.run)).map(({ goes, stays }) => [
    `${goes.volume}/${goes.path}`,
    `${stays.volume}/${stays.path}`,
  ]);
async function run(typed?: string) {
  const plan = await currentPlan(site.db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: now(), typed };
  await site.look();
  expect(await runPlan(site.db, asked)).toMatchObject({ ok: true });
  await work();
}
async function setTwinsAside() {
  await compare();
  const all = await lines(
    site.db,
    { only: [], projectId: null, inWork: true },
    { group: 'same twice', cutDay: SOON, most: 10 },
  );
  await addChosen(site.db, { keys: all.map((line) => line.key), cutDay: SOON, now: now() });
  await run();
  return (await site.db.select().from(aside).where(eq(aside.state, 'aside'))).map((row) => row.id);
}

test('what is the same to the byte on another volume is found; what a timeline uses stays', async () => {
  await compare();
  expect((await pairs()).sort()).toEqual([
    ['carry/card/a copy.mov', 'media/fog/rushes/a.mov'],
    [expect.stringMatching(/small\.mov$/), expect.stringMatching(/small\.mov$/)],
  ]);
  const sums = await site.db.select().from(fileSums);
  // The other letter is told apart by its ends: of it no more was read.
  expect(sums.filter((row) => row.xxh64 === null)).toHaveLength(1);
  const levels = await site.db.select({ level: worth.level }).from(worth).where(eq(worth.what, 'same twice'));
  expect(levels).toEqual([{ level: 2 }, { level: 2 }]);
});

test('a hard link is one file, and what changed since is compared anew', async () => {
  linkSync(at('media/fog/rushes/a.mov'), at('media/fog/rushes/a again.mov'));
  await site.read(media);
  await compare();
  expect((await pairs()).flat().filter((name) => name.includes('again'))).toEqual([]);
  const copy = at('carry/card/a copy.mov');
  const { mtime } = statSync(copy);
  writeFileSync(copy, big('c').slice(0, -1) + 'a');
  utimesSync(copy, mtime, mtime);
  await site.read(carry);
  await assess(site.db);
  expect((await pairs()).flat()).not.toContain('carry/card/a copy.mov');
  await compare();
  expect((await pairs()).flat()).not.toContain('carry/card/a copy.mov');
});

test('second copies go for good where their like is read beside them', async () => {
  const ids = await setTwinsAside();
  expect(ids).toHaveLength(2);
  expect([existsSync(at('carry/card/a copy.mov')), existsSync(at('media/fog/rushes/a.mov'))]).toEqual([false, true]);
  await addAsideRemoval(site.db, { ids, what: 'second copies', now: now() });
  await run();
  expect(await site.db.select().from(aside).where(eq(aside.state, 'aside'))).toEqual([]);
  expect(readFileSync(at('media/fog/rushes/a.mov'), 'utf8')).toBe(big('a'));
});

test.each([
  [
    'rots under the same facts',
    (like: string, stats: { atime: Date; mtime: Date }) => {
      const bytes = readFileSync(like);
      bytes[10] = 0x23;
      writeFileSync(like, bytes);
      utimesSync(like, stats.atime, stats.mtime);
    },
  ],
  ['is gone', (like: string) => unlinkSync(like)],
  ['is shorter', (like: string) => writeFileSync(like, 'a')],
])('where the like %s, the second copy stays', async (_what, spoil) => {
  const ids = await setTwinsAside();
  const like = at('media/fog/rushes/a.mov');
  await addAsideRemoval(site.db, { ids, what: 'second copies', now: now() });
  spoil(like, statSync(like));
  await run();
  const left = await site.db.select().from(aside).where(eq(aside.state, 'aside'));
  expect(left.map((row) => row.path)).toEqual(['card/a copy.mov']);
  expect(readFileSync(at(`carry/${left[0]!.asidePath}`), 'utf8')).toBe(big('a'));
  const [held] = await site.db.select().from(stepItems).where(eq(stepItems.state, 'held'));
  expect(held!.reason).toBe('no good copy');
});

test('where the like was set aside or removed itself, nothing proves it any more', async () => {
  const ids = await setTwinsAside();
  unlinkSync(at('media/fog/rushes/a.mov'));
  unlinkSync(at('media/fog/small.mov'));
  for (const name of ['carry/small.mov']) if (existsSync(at(name))) unlinkSync(at(name));
  await site.read(media, carry);
  expect((await site.db.select().from(files)).filter((file) => file.goneAt === null && file.name === 'a.mov')).toEqual(
    [],
  );
  await addAsideRemoval(site.db, { ids, what: 'second copies', now: now() });
  const plan = await currentPlan(site.db);
  await site.look();
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: now() };
  expect(await runPlan(site.db, asked)).toMatchObject({ ok: false, trouble: { code: 'stopped by findings' } });
});

describe('twice on one volume', () => {
  /** Of the only copies the size is typed. */
  const ONE = size(300_002);

  beforeEach(async () => {
    rmSync(at('carry/card/a copy.mov'));
    site.put('media/fog/old/a again.mov', big('a'));
    // One black still of a sequence that nobody uses is as another of it, and one piece of a recording as one elsewhere.
    for (const n of ['1001', '1002', '1003'])
      site.put(`media/fog/scan/f.${n}.dpx`, (n === '1003' ? 'y' : 'z').repeat(8000));
    await site.read(media, carry);
    await compare();
  });
  const level3 = async () =>
    (await site.db.select().from(worth).where(eq(worth.level, 3))).filter((row) => row.what === 'same twice');

  test('one may go as the only copy of its volume, what belongs to a unit stays with it', async () => {
    expect((await pairs()).filter((pair) => !pair[0]!.endsWith('small.mov'))).toEqual([
      ['media/fog/old/a again.mov', 'media/fog/rushes/a.mov'],
    ]);
    expect(await level3()).toMatchObject([{ reason: 'twice on its volume' }]);
  });

  const setAside = async () => {
    const all = await lines(site.db, ALL, { group: 'same twice', cutDay: SOON, most: 10 });
    const keys = all.filter((line) => line.level === 3).map((line) => line.key);
    await addChosen(site.db, { keys, cutDay: SOON, now: now() });
    await run(ONE);
    const rows = await site.db.select().from(aside).where(eq(aside.state, 'aside'));
    expect(rows.map((row) => [row.path, row.level])).toEqual([['fog/old/a again.mov', 3]]);
    return rows.map((row) => row.id);
  };

  test('it goes for good once the other is read beside it', async () => {
    const ids = await setAside();
    await addAsideRemoval(site.db, { ids, what: 'second copies', now: now() });
    await run(ONE);
    expect(await site.db.select().from(aside).where(eq(aside.state, 'aside'))).toEqual([]);
    expect(readFileSync(at('media/fog/rushes/a.mov'), 'utf8')).toBe(big('a'));
  });

  test.each([
    ['is gone', () => unlinkSync(at('media/fog/rushes/a.mov'))],
    [
      'rots under the same facts',
      () => {
        const { atime, mtime } = statSync(at('media/fog/rushes/a.mov'));
        writeFileSync(at('media/fog/rushes/a.mov'), big('a').replace('..', '.!'));
        utimesSync(at('media/fog/rushes/a.mov'), atime, mtime);
      },
    ],
  ])('where the other %s, it stays', async (_what, spoil) => {
    const ids = await setAside();
    await addAsideRemoval(site.db, { ids, what: 'second copies', now: now() });
    spoil();
    await run(ONE);
    const [left] = await site.db.select().from(aside).where(eq(aside.state, 'aside'));
    expect(readFileSync(at(`media/${left!.asidePath}`), 'utf8')).toBe(big('a'));
    expect((await site.db.select().from(stepItems)).at(-1)).toMatchObject({ state: 'held', reason: 'no good copy' });
  });

  test('turned round: documents name the other first', async () => {
    const [pair] = (await twinPairs(site.db, (await currentAssessment(site.db))!.run)).filter(({ stays }) =>
      stays.path.endsWith('a.mov'),
    );
    await addKeepOther(site.db, { pairs: [[pair!.stays.fileId, pair!.goes.fileId]], now: now() });
    await run(ONE);
    expect(readFileSync(at('media/fog/old/a again.mov'), 'utf8')).toBe(big('a'));
    expect(readFileSync(at('media/fog/fog v2.otio'), 'utf8')).toMatch(/old.a( |%20)again.mov/);
    expect(await site.db.select().from(aside)).toMatchObject([{ path: 'fog/rushes/a.mov', level: 3 }]);
  });

  test('a copy that shares its blocks with the other frees nothing, and is not offered', async () => {
    await site.db.update(fileSums).set({ sharedBytes: 303_104 });
    await assess(site.db);
    expect(await level3()).toEqual([]);
  });
});

test('turned round: documents name the other first, then the one that was to stay is set aside', async () => {
  await compare();
  const [pair] = (await twinPairs(site.db, (await currentAssessment(site.db))!.run)).filter(({ stays }) =>
    stays.path.endsWith('a.mov'),
  );
  const added = await addKeepOther(site.db, { pairs: [[pair!.stays.fileId, pair!.goes.fileId]], now: now() });
  expect(added).toMatchObject({ files: 1 });
  await run();
  expect(existsSync(at('media/fog/rushes/a.mov'))).toBe(false);
  expect(readFileSync(at('carry/card/a copy.mov'), 'utf8')).toBe(big('a'));
  expect(readFileSync(at('media/fog/fog v2.otio'), 'utf8')).toContain('carry/card/a%20copy.mov');
  expect(await site.db.select().from(aside)).toMatchObject([{ path: 'fog/rushes/a.mov', level: 2, state: 'aside' }]);
  // What nobody compared, or is one file, is refused.
  await expect(addKeepOther(site.db, { pairs: [[pair!.goes.fileId, pair!.goes.fileId]], now: now() })).rejects.toThrow(
    /not the same/,
  );
});

test('turned round, and the other changed meanwhile: nothing goes, no document is written', async () => {
  await compare();
  const [pair] = (await twinPairs(site.db, (await currentAssessment(site.db))!.run)).filter(({ stays }) =>
    stays.path.endsWith('a.mov'),
  );
  await addKeepOther(site.db, { pairs: [[pair!.stays.fileId, pair!.goes.fileId]], now: now() });
  const rotten = Buffer.from(big('a'));
  rotten[200_000] = 0x21;
  const { atime, mtime } = statSync(at('carry/card/a copy.mov'));
  writeFileSync(at('carry/card/a copy.mov'), rotten);
  utimesSync(at('carry/card/a copy.mov'), atime, mtime);
  await run();
  expect(readFileSync(at('media/fog/rushes/a.mov'), 'utf8')).toBe(big('a'));
  expect(existsSync(at('media/fog/fog v2.otio'))).toBe(false);
  expect((await site.db.select().from(stepItems)).map((item) => [item.state, item.reason])).toEqual([
    ['held', 'no good copy'],
  ]);
});

test('what an archive has under another name has a verified copy, and goes for good once that is read beside it', async () => {
  const carrier = await site.carrier('kd-1');
  await addArchive(site.db, { projectId: 1 as ProjectId, carrierIds: [carrier], folder: 'fog_1', now: now() });
  await run();
  // Only the archive and a stray copy have it; the stray has another name and another time.
  unlinkSync(at('media/fog/rushes/a.mov'));
  await site.read(media, carry);
  await site.db.update(projects).set({ state: 'archived' });
  await compare();
  const told = async () =>
    (await site.db.select().from(worth)).filter((row) => row.sizeBytes === 300_002).map((row) => [row.what, row.level]);
  expect((await told()).sort()).toEqual([
    ['nobody’s', 2],
    ['nobody’s', 3],
    ['nobody’s', 3],
  ]);
  const keys = (await lines(site.db, ALL, { group: 'nobody’s', cutDay: SOON, most: 10 }))
    .filter((line) => line.level === 2)
    .map((line) => line.key);
  await addChosen(site.db, { keys, cutDay: SOON, now: now() });
  await run();
  const [lies] = await site.db.select().from(aside);
  expect(lies).toMatchObject({ path: 'card/a copy.mov', level: 2 });
  await addAsideRemoval(site.db, { ids: [lies!.id], what: 'a copy', now: now() });
  await run();
  expect((await site.db.select().from(aside))[0]!.state).toBe('removed');
  expect(existsSync(at('kd-1/fog_1'))).toBe(true);
});
