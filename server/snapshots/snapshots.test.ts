// Snapshots of documents: whole or not there, on another volume, thinned by the rule, put beside and never over. And attacked: a
// document that is being written, one that is broken, a worker that was killed, a copy that rotted, a place that
// takes nothing. A volume that is full is met by the faults (steps/faults.test.ts).
import { existsSync, readdirSync, readFileSync, rmSync, utimesSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { type ProjectSnapshots, projectSnapshots, type SnapshotRule, snapshotRule } from '#core/snapshots/snapshots.ts';
import { otio, TestSite } from '#test/site.ts';
import { askToCheck, lastCheck } from '../check/check.ts';
import { jobs } from '../db/schema/jobs.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { snapshotContents, snapshots } from '../db/schema/snapshots.ts';
import { volumes } from '../db/schema/stores.ts';
import { comparedWithNow } from './comparing.ts';
import { undoReceipt } from '../ledger/undo.ts';
import { keptOf, linesOf, snapshotWorries } from './line.ts';
import { askToPutBeside } from './put-beside.ts';
import { projectSnapshotRules, setProjectSnapshots, setSnapshotRule } from './rule.ts';
import { askForSnapshots } from './taking.ts';

let site: TestSite;
let media: VolumeId;
let safe: VolumeId;
const FOG = 1 as ProjectId;
const DOCUMENT = 'media/fog/fog.otio';
const CLIPS = ['a', 'b', 'c', 'd'].map((name) => `rushes/${name}.mov`);
const BEGIN = Date.UTC(2026, 10, 2, 8);
const MINUTE = 60_000;
const TIMERS = [
  ...(['hrtime', 'nextTick', 'performance', 'queueMicrotask', 'setImmediate', 'clearImmediate'] as const),
  ...(['setInterval', 'clearInterval', 'setTimeout', 'clearTimeout'] as const),
];

beforeEach(async () => {
  site = await TestSite.open();
  for (const clip of CLIPS) site.put(`media/fog/${clip}`, clip);
  write(2, BEGIN);
  media = await site.volume('media');
  safe = await site.volume('safe');
  await site.read(media);
  await setRule({});
});
afterEach(() => site.close());

const at = (...parts: string[]) => path.join(site.root, ...parts);
const setRule = (rule: Partial<SnapshotRule>) =>
  setSnapshotRule(site.db, snapshotRule.parse({ volumeId: safe, everyMinutes: 10, ...rule }), {
    ...{ who: 'Mara', now: new Date() },
  });
/** The document as somebody saved it then, with so many of its clips. */
function write(used: number, ms: number, text = otio('Fog', CLIPS, CLIPS.slice(0, used))): void {
  site.put(DOCUMENT, text);
  utimesSync(at(DOCUMENT), ms / 1000, ms / 1000);
}
const reached = () =>
  new Map<number, string>([
    [media, at('media')],
    [safe, at('safe')],
  ]);
/** Looks as a worker does at that time, and has the work done: only the day is another, timers run as ever. */
async function pass(ms: number): Promise<number[]> {
  jest.useFakeTimers({ now: ms, doNotFake: TIMERS });
  try {
    const begun = await askForSnapshots(site.db, reached(), { now: new Date(ms) });
    if (begun.length > 0) await site.workOff();
    return begun;
  } finally {
    jest.useRealTimers();
  }
}
const kept = () => site.db.select().from(snapshots).orderBy(snapshots.id);
const filesBelow = (folder: string): string[] =>
  existsSync(folder)
    ? readdirSync(folder, { recursive: true, withFileTypes: true })
        .filter((entry) => entry.isFile())
        .map((entry) => path.join(entry.parentPath, entry.name))
        .sort()
    : [];
const onDisk = () => filesBelow(at('safe/.keramion/snapshots'));
/** What is in the table is on the disk, byte for byte, and nothing else is. */
async function expectTrue(): Promise<void> {
  const rows = await kept();
  expect(rows.every((row) => row.state === 'kept')).toBe(true);
  expect(onDisk()).toEqual(rows.map((row) => at('safe', row.path)).sort());
  for (const row of rows) expect(readFileSync(at('safe', row.path))).toHaveLength(row.sizeBytes);
}

test('a document that changed is kept as it was, at most every so many minutes, and told by what it says', async () => {
  expect(await pass(BEGIN + MINUTE)).toEqual([media]);
  expect(await pass(BEGIN + 2 * MINUTE)).toEqual([]);
  const first = readFileSync(at(DOCUMENT));
  write(3, BEGIN + 3 * MINUTE);
  expect(await pass(BEGIN + 4 * MINUTE)).toEqual([]);
  expect(await pass(BEGIN + 12 * MINUTE)).toEqual([media]);
  await expectTrue();
  expect(readFileSync(at('safe', (await kept())[0]!.path))).toEqual(first);
  await site.read(media);
  const [line] = await linesOf(site.db, FOG);
  expect(line).toMatchObject({ name: 'fog.otio', isThere: true });
  expect(line!.snapshots.map(({ since, untilNow }) => ({ since, untilNow }))).toEqual([
    { since: ['Cut is less than a second longer'], untilNow: [] },
    { since: null, untilNow: ['Cut is less than a second longer'] },
  ]);
  expect((await keptOf(site.db, FOG)).count).toBe(2);
  // Part by part, the document as it was last read beside each of them; of another project's there is nothing to tell.
  const [older, newer] = await kept();
  expect(await comparedWithNow(site.db, FOG, newer!.id)).toMatchObject([{ name: 'Cut', is: 'same', changes: [] }]);
  const [cut] = (await comparedWithNow(site.db, FOG, older!.id))!;
  expect(cut).toMatchObject({ name: 'Cut', is: 'changed', kept: 2 });
  expect(cut!.changes).toMatchObject([{ media: expect.stringMatching(/^c/), then: null }]);
  expect(await comparedWithNow(site.db, 99 as ProjectId, older!.id)).toBeNull();
  // Saved again as it was: nothing new.
  write(3, BEGIN + 30 * MINUTE);
  expect(await pass(BEGIN + 31 * MINUTE)).toEqual([media]);
  expect(await kept()).toHaveLength(2);
  expect(await pass(BEGIN + 60 * MINUTE)).toEqual([]);
  // They are nobody's files to a reading, and no work to the tidying.
  await site.read(safe);
  expect(onDisk()).toHaveLength(2);
});

test('what its program saved by itself is on the line of its document, told where it shares a disk with it', async () => {
  const saved = (name: string, hours: number) => {
    site.put(name, 'x');
    utimesSync(at(name), BEGIN / 1000 + hours * 3600, BEGIN / 1000 + hours * 3600);
  };
  saved('media/fog/autosaves/fog.01.otio', 1);
  saved('media/fog/autosaves/fog.02.otio', 2);
  saved('media/fog/autosaves/other.otio', 3);
  await site.read(media);
  await pass(BEGIN + MINUTE);
  const [line, ...more] = await linesOf(site.db, FOG);
  expect(more).toEqual([]);
  expect(line!.snapshots).toHaveLength(1);
  expect(line!.autosaves.map(({ name, isBesideIt, modifiedMs }) => [name, isBesideIt, modifiedMs - BEGIN])).toEqual([
    ['fog.02.otio', true, 2 * 3_600_000],
    ['fog.01.otio', true, 3_600_000],
  ]);
  // A document of which nothing else is kept has a line of them alone.
  await site.db.delete(snapshots);
  expect((await linesOf(site.db, FOG)).map(({ autosaves, snapshots: own }) => [autosaves.length, own.length])).toEqual([
    [2, 0],
  ]);
});

test('what is being written, is broken or is gone is left; what was kept before stays', async () => {
  await pass(BEGIN + MINUTE);
  const now = Date.now();
  write(3, now);
  await pass(now);
  expect(await kept()).toHaveLength(1);
  write(0, BEGIN + 5 * MINUTE, '{"OTIO_SCHEMA": "Timeline.1", "tracks": ');
  expect(await pass(BEGIN + 20 * MINUTE)).toEqual([media]);
  await expectTrue();
  expect(await kept()).toHaveLength(1);
  // Not every minute again: it is as it was.
  expect(await pass(BEGIN + 21 * MINUTE)).toEqual([]);
  rmSync(at(DOCUMENT));
  expect(await pass(BEGIN + 22 * MINUTE)).toEqual([]);
  await expectTrue();
});

test('only documents of projects in work, and none of what lies beside its snapshots', async () => {
  await site.db.update(projects).set({ state: 'delivered' });
  expect(await pass(BEGIN + MINUTE)).toEqual([]);
  await site.db.update(projects).set({ state: 'in work' });
  await setRule({ volumeId: media });
  expect(await pass(BEGIN + MINUTE)).toEqual([]);
  expect(await snapshotWorries(site.db, BEGIN)).toMatchObject([{ what: 'Documents of Fog have no snapshots' }]);
  await setRule({ volumeId: null });
  expect(await pass(BEGIN + MINUTE)).toEqual([]);
  await expect(setRule({ volumeId: 99 as VolumeId })).rejects.toThrow(/no such volume/);
});

test('what a snapshot that is gone took of its media goes with it', async () => {
  await setRule({ newest: 1, hours: 0, days: 0, weeks: 0, months: 0 });
  for (let i = 0; i < 3; i++) {
    write((i % 2) + 2, BEGIN + i * 20 * MINUTE);
    await pass(BEGIN + i * 20 * MINUTE + MINUTE);
  }
  const rows = await kept();
  expect(rows).toHaveLength(1);
  expect((await site.db.select().from(snapshotContents)).map((row) => row.snapshotId)).toEqual([rows[0]!.id]);
});

test('they are thinned by the rule, and the newest never goes', async () => {
  await setRule({ everyMinutes: 1, newest: 2, hours: 3, days: 0, weeks: 0, months: 0 });
  for (let i = 0; i < 10; i++) {
    write(1 + (i % 4), BEGIN + i * 20 * MINUTE);
    await pass(BEGIN + i * 20 * MINUTE + MINUTE);
  }
  await expectTrue();
  const left = (await kept()).map(({ takenAt }) => (takenAt.getTime() - BEGIN - MINUTE) / MINUTE / 20);
  // The newest two, and the first of each of the last three hours.
  expect(left).toEqual([3, 6, 8, 9]);
});

test('a worker that was killed anywhere leaves nothing that says whole and is not', async () => {
  await pass(BEGIN + MINUTE);
  const [row] = await kept();
  // Killed before it was kept, with its file there; and before its file was.
  site.put('safe/.keramion/snapshots/half', 'half');
  const half = { ...row!, id: undefined, state: 'being kept' as const };
  await site.db.insert(snapshots).values([
    { ...half, path: '.keramion/snapshots/half' },
    { ...half, path: '.keramion/snapshots/never written' },
  ]);
  // And while one went.
  site.put('safe/.keramion/snapshots/going', 'going');
  await site.db.insert(snapshots).values({ ...half, state: 'going', path: '.keramion/snapshots/going' });
  write(4, BEGIN + 20 * MINUTE);
  await pass(BEGIN + 31 * MINUTE);
  expect(await kept()).toHaveLength(2);
  await expectTrue();
});

test('where nothing can be kept it is told, tried again after a while, and forgotten when it works', async () => {
  site.put('safe/.keramion/snapshots', 'a file where the folder should be');
  expect(await pass(BEGIN + MINUTE)).toEqual([media]);
  expect(await kept()).toEqual([]);
  expect((await snapshotWorries(site.db, BEGIN + 2 * MINUTE)).map(({ what }) => what)).toContain(
    'Snapshots of documents fail',
  );
  expect(await pass(BEGIN + 5 * MINUTE)).toEqual([]);
  expect(await pass(BEGIN + 20 * MINUTE)).toEqual([media]);
  rmSync(at('safe/.keramion/snapshots'));
  expect(await pass(BEGIN + 40 * MINUTE)).toEqual([media]);
  await expectTrue();
  expect(await kept()).toHaveLength(1);
  expect(await snapshotWorries(site.db, BEGIN + 41 * MINUTE)).toEqual([]);
});

test('snapshots on another volume of the same disk are told: one that dies takes both', async () => {
  await pass(BEGIN + MINUTE);
  expect(await snapshotWorries(site.db, BEGIN + 2 * MINUTE)).toEqual([]);
  // As the system says it, which has one file system for both.
  await site.db.update(volumes).set({ disk: '', device: 7 });
  expect(await snapshotWorries(site.db, BEGIN + 2 * MINUTE)).toMatchObject([
    {
      what: 'Snapshots of Fog lie on the disk of its documents',
      detail: expect.stringMatching(/^media and safe are/) as string,
    },
  ]);
  await site.db.update(volumes).set({ disk: 'Array one' });
  expect(await snapshotWorries(site.db, BEGIN + 2 * MINUTE)).toHaveLength(1);
});

test('a snapshot is put beside its document as the next version, once, and never over anything', async () => {
  await pass(BEGIN + MINUTE);
  const first = readFileSync(at(DOCUMENT));
  write(4, BEGIN + 20 * MINUTE);
  site.put('media/fog/fog v2.otio', 'theirs, and no document');
  const [row] = await kept();
  const by = { who: 'Mara', now: new Date() };
  await askToPutBeside(site.db, row!.id, by);
  await site.workOff();
  expect(readFileSync(at('media/fog/fog v3.otio'))).toEqual(first);
  expect(readFileSync(at('media/fog/fog v2.otio'), 'utf8')).toBe('theirs, and no document');
  await askToPutBeside(site.db, row!.id, by);
  await site.workOff();
  expect(readdirSync(at('media/fog')).filter((name) => name.includes('otio'))).toHaveLength(3);
  const written = (await site.db.select().from(receipts)).filter((one) => one.action === 'snapshot put beside');
  expect(written[0]).toMatchObject({ projectId: FOG, files: 1, who: 'Mara' });
  // It is known at once.
  expect((await site.db.select().from(jobs)).some((job) => job.kind === 'read volume' && job.state === 'done')).toBe(
    true,
  );
  // One that rotted is refused, and nothing is written.
  writeFileSync(at('safe', row!.path), 'rotten');
  rmSync(at('media/fog/fog v3.otio'));
  await askToPutBeside(site.db, row!.id, by);
  await site.workOff();
  const failed = (await site.db.select().from(jobs)).filter((job) => job.state === 'failed');
  expect(failed[0]!.trouble).toMatch(/does not read as it was taken\. Nothing was written/);
  expect(existsSync(at('media/fog/fog v3.otio'))).toBe(false);
  await expect(askToPutBeside(site.db, 999, by)).rejects.toThrow(/no such snapshot/);
});

test('a document that changed and was not kept for hours is a worry, and no longer one when it was', async () => {
  await pass(BEGIN + MINUTE);
  expect(await snapshotWorries(site.db, BEGIN + 3 * MINUTE)).toEqual([]);
  write(4, BEGIN + 20 * MINUTE);
  await site.read(media);
  expect(await snapshotWorries(site.db, BEGIN + 21 * MINUTE)).toEqual([]);
  expect(await snapshotWorries(site.db, BEGIN + 600 * MINUTE)).toMatchObject([
    { what: 'The last snapshot of Fog is older than its documents', projectId: FOG },
  ]);
  await pass(BEGIN + 601 * MINUTE);
  expect(await snapshotWorries(site.db, BEGIN + 602 * MINUTE)).toEqual([]);
});

test('a second place has a line of its own: it goes on without the other, and every moment is told once', async () => {
  const spare = await site.volume('spare');
  const both = () => new Map([...reached(), [spare, at('spare')]]);
  const passOn = async (ms: number, on: Map<number, string>) => {
    jest.useFakeTimers({ now: ms, doNotFake: TIMERS });
    try {
      const begun = await askForSnapshots(site.db, on, { now: new Date(ms) });
      if (begun.length > 0) await site.workOff();
      return begun;
    } finally {
      jest.useRealTimers();
    }
  };
  await expect(setRule({ alsoVolumeId: safe })).rejects.toThrow('has to be another volume than the first');
  await expect(setRule({ volumeId: null, alsoVolumeId: spare })).rejects.toThrow('Nothing was saved');
  await expect(setRule({ alsoVolumeId: 999 })).rejects.toThrow('There is no such volume');
  await setRule({ alsoVolumeId: spare });
  expect((await site.db.select().from(receipts)).at(-1)!.title).toBe('Snapshots of documents go to safe and spare');
  expect(await passOn(BEGIN + MINUTE, both())).toEqual([media, media]);
  const first = readFileSync(at(DOCUMENT));
  // The second is away; then there again, and has what is new by then.
  write(3, BEGIN + 20 * MINUTE);
  await site.read(media);
  expect(await passOn(BEGIN + 21 * MINUTE, reached())).toEqual([media]);
  expect(await snapshotWorries(site.db, BEGIN + 600 * MINUTE)).toMatchObject([
    { what: 'The last snapshot of Fog on spare is older than its documents', isBroken: true },
  ]);
  const moments = async () => (await linesOf(site.db, FOG))[0]!.snapshots.map(({ on, since }) => [on, since === null]);
  expect(await moments()).toEqual([
    ['safe', false],
    ['safe and spare', true],
  ]);
  write(4, BEGIN + 700 * MINUTE);
  await site.read(media);
  expect(await passOn(BEGIN + 701 * MINUTE, both())).toEqual([media, media]);
  expect(await moments()).toEqual([
    ['safe and spare', false],
    ['safe', false],
    ['safe and spare', true],
  ]);
  expect((await keptOf(site.db, FOG)).count).toBe(3);
  expect(await snapshotWorries(site.db, BEGIN + 702 * MINUTE)).toEqual([]);
  const own = (await kept()).filter((row) => row.onVolumeId === spare);
  expect(own).toHaveLength(2);
  expect(readFileSync(at('spare', own[0]!.path))).toEqual(first);
  // Where the documents lie on the first, they have theirs on the second.
  await setRule({ volumeId: media, alsoVolumeId: spare });
  write(2, BEGIN + 800 * MINUTE);
  await site.read(media);
  expect(await passOn(BEGIN + 801 * MINUTE, both())).toEqual([media]);
  expect(await snapshotWorries(site.db, BEGIN + 802 * MINUTE)).toEqual([]);
});

test('a project has its own rule: how often, how long, or none; it is undone from its receipt', async () => {
  const by = { who: 'Mara', now: new Date() };
  const own = (rule: Partial<ProjectSnapshots> | null) =>
    setProjectSnapshots(site.db, { projectId: FOG, rule: rule && projectSnapshots.parse(rule) }, by);
  expect(await own({ everyMinutes: 60, newest: 1, hours: 0, days: 0, weeks: 0, months: 0 })).toBe(
    'at most every 60 minutes',
  );
  expect(await pass(BEGIN + MINUTE)).toEqual([media]);
  write(3, BEGIN + 20 * MINUTE);
  // The house would by now.
  expect(await pass(BEGIN + 30 * MINUTE)).toEqual([]);
  expect(await pass(BEGIN + 62 * MINUTE)).toEqual([media]);
  // And would have kept both.
  expect(await kept()).toHaveLength(1);
  await expectTrue();
  expect(await own({ isOff: true })).toBe('none are made');
  write(4, BEGIN + 100 * MINUTE);
  await site.read(media);
  expect(await pass(BEGIN + 200 * MINUTE)).toEqual([]);
  expect(await snapshotWorries(site.db, BEGIN + 900 * MINUTE)).toEqual([]);
  expect(await kept()).toHaveLength(1);
  const told = (await site.db.select().from(receipts)).at(-1)!;
  expect(told).toMatchObject({ title: 'Snapshots of Fog: none are made', projectId: FOG });
  await undoReceipt(site.db, told.id, by);
  expect((await projectSnapshotRules(site.db)).get(FOG)).toMatchObject({ everyMinutes: 60, isOff: false });
  await expect(undoReceipt(site.db, told.id, by)).rejects.toThrow('It was changed again since');
  expect(await own(null)).toBe('as the house says');
  expect(await pass(BEGIN + 201 * MINUTE)).toEqual([media]);
  expect(await kept()).toHaveLength(2);
  await expect(setProjectSnapshots(site.db, { projectId: 99 as ProjectId, rule: null }, by)).rejects.toThrow(
    'There is no such project',
  );
});

test('the check reads every snapshot: one that rotted, and one that is gone, are told by name', async () => {
  await pass(BEGIN + 10 * MINUTE);
  write(3, BEGIN + 30 * MINUTE);
  await pass(BEGIN + 40 * MINUTE);
  const found = async () => {
    await askToCheck(site.db, { who: 'Mara', now: new Date() });
    expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
    return (await lastCheck(site.db))!.findings.filter((one) => one.in === 'snapshots').map((one) => one.detail);
  };
  expect(await found()).toEqual([]);
  const [first, second] = await kept();
  writeFileSync(at('safe', first!.path), 'x'.repeat(first!.sizeBytes));
  rmSync(at('safe', second!.path));
  expect(await found()).toEqual([
    `safe: the snapshot of fog.otio in ${second!.path} is not there any more`,
    `safe: the snapshot of fog.otio in ${first!.path} is not what was taken`,
  ]);
});
