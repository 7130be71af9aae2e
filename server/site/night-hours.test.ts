// The hours of what happens by itself: what is begun in them, once; what was missed; and taking a change of them back.
import { mkdirSync } from 'node:fs';
import path from 'node:path';
import { desc, eq } from 'drizzle-orm';
import { type Hours, houseHours, USUAL_HOURS } from '#core/nights/hours.ts';
import type { VolumeId } from '#core/model.ts';
import { TestSite } from '#test/site.ts';
import { backupRule, ownBackupWork, setOwnBackupRule } from '../backup/own-backup.ts';
import { askForDueCheck, checkWork } from '../check/check.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { volumes } from '../db/schema/stores.ts';
import { undoReceipt } from '../ledger/undo.ts';
import { tonightOf } from '../nights/tonight.ts';
import { backUpAtNight } from '../plan/at-night.ts';
import { nightHours, setNightHours } from './night-hours.ts';
import { askForDue } from './work.ts';

let site: TestSite;
let volume: VolumeId;
const HOUR = 3_600_000;
const WEEKEND: Hours = { from: 8, to: 20, days: [0, 6] };
const by = { who: 'Mara', now: new Date() };
/** 28 November 2026 is a Saturday. */
const at = (text: string) => new Date(`2026-${text}`);

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  site.put('media/a.mov', 'a');
  await site.read(volume);
  mkdirSync(path.join(site.root, 'backups'));
  await setOwnBackupRule(site.db, { ...backupRule.parse({}), folder: path.join(site.root, 'backups') }, by);
});
afterEach(() => site.close());

/** Everything that was asked for has been done, at that moment. */
async function done(now: Date): Promise<void> {
  const value = JSON.stringify({
    ...{ atMs: now.getTime(), file: 'x', bytes: 1, kept: 1, provenMs: null, wrong: [], trouble: null },
  });
  await site.db.$pool.query(
    "INSERT INTO site (`key`, value) VALUES ('last own backup', ?) ON DUPLICATE KEY UPDATE value = VALUES(value)",
    [value],
  );
  await site.db.update(jobs).set({ state: 'done', finishedAt: now });
}
const asked = async (kind: string) => site.db.$count(jobs, eq(jobs.kind, kind));
const own = (hours: Partial<typeof USUAL_HOURS.own>) => setNightHours(site.db, { ...USUAL_HOURS, own: hours }, by);

test('a backup is begun in its hours alone, once in them however long they are', async () => {
  await own({ backup: { from: 18, to: 8, days: [0, 1, 2, 3, 4, 5, 6] } });
  await done(at('11-27T18:30:00'));
  for (const [now, begins] of [
    ['11-28T17:59:00', false],
    ['11-28T18:00:00', true],
    ['11-28T23:00:00', false],
    // Thirteen hours later it is the same night.
    ['11-29T07:30:00', false],
    ['11-29T12:00:00', false],
    ['11-29T18:01:00', true],
  ] as const) {
    expect([now, await backUpAtNight(site.db, at(now))]).toEqual([now, begins]);
    if (begins) await done(at(now));
  }
});

test('of a machine that slept for a week one is made up for, once, at whatever hour it wakes', async () => {
  await done(at('11-20T03:00:00'));
  expect(await backUpAtNight(site.db, at('11-28T14:00:00'))).toBe(true);
  // It could not be made: it is tried again in the night, not every minute.
  await site.db.update(jobs).set({ state: 'failed', finishedAt: at('11-28T14:00:30') });
  expect(await backUpAtNight(site.db, at('11-28T14:01:00'))).toBe(false);
  expect(await backUpAtNight(site.db, at('11-29T01:00:00'))).toBe(true);
  expect(await asked(ownBackupWork.kind)).toBe(2);
});

test('one that is made on weekends is not missed in between, and late after two of them', async () => {
  await own({ backup: WEEKEND });
  await done(at('11-29T08:10:00'));
  for (const now of ['11-30T09:00:00', '12-02T03:00:00', '12-04T23:00:00'])
    expect(await backUpAtNight(site.db, at(now))).toBe(false);
  expect(await backUpAtNight(site.db, at('12-05T08:00:00'))).toBe(true);
});

test('a clock that was months ahead and was set right keeps nothing from being done', async () => {
  await done(at('11-20T03:00:00'));
  expect(await backUpAtNight(site.db, new Date('2027-06-01T03:00:00'))).toBe(true);
  await done(at('11-20T03:00:00'));
  expect(await backUpAtNight(site.db, at('11-29T03:00:00'))).toBe(true);
});

test('readings and checks wait for their hours where they have any', async () => {
  await site.db.update(volumes).set({ readEveryHours: 6, readAt: at('11-20T03:00:00') });
  await own({ readings: WEEKEND, check: WEEKEND });
  const [friday, saturday] = [at('11-27T12:00:00'), at('11-28T12:00:00')];
  expect(await askForDue(site.db, [volume], friday)).toBe(0);
  await askForDueCheck(site.db, friday);
  expect(await asked(checkWork.kind)).toBe(0);
  expect(await askForDue(site.db, [volume], saturday)).toBe(1);
  await askForDueCheck(site.db, saturday);
  expect(await asked(checkWork.kind)).toBe(1);
});

test('tonight tells each kind with its own hours, and what never meets does not stand in anybody’s way', async () => {
  await own({ 'read backs': WEEKEND });
  const told = await tonightOf(site.db, at('11-27T12:00:00'));
  expect([told.fromMs, told.noonMs]).toEqual([at('11-28T01:00:00').getTime(), at('11-27T12:00:00').getTime()]);
  const of = (key: string) => told.works.find((work) => work.key === key)!;
  expect(of('backup')).toMatchObject({
    when: 'each night, between 1:00 and 5:00',
    span: { fromMs: told.fromMs, toMs: told.toMs },
    isOn: true,
  });
  expect(of('read back')).toMatchObject({
    span: { fromMs: at('11-28T08:00:00').getTime(), toMs: at('11-28T20:00:00').getTime() },
    isOn: false,
  });
  expect(of('snapshots').span).toBeNull();
  // What has its hours on another day is not told as of this night.
  await own({ backup: WEEKEND });
  const early = await tonightOf(site.db, at('11-25T12:00:00'));
  expect(early.works.find((work) => work.key === 'backup')).toMatchObject({
    ...{ isDue: false, isOn: true, meets: [] },
    wouldDo: expect.stringMatching(/^nothing tonight; on 28 Nov 2026: writes/) as string,
  });
});

test('a change is in the ledger and is taken back from there, unless somebody changed it again', async () => {
  const changed = houseHours.parse({ night: { from: 22, to: 6, days: [5, 1, 1] } });
  await setNightHours(site.db, changed, by);
  expect(await nightHours(site.db)).toEqual({ night: { from: 22, to: 6, days: [1, 5] }, own: {} });
  const [receipt] = await site.db.select().from(receipts).orderBy(desc(receipts.id)).limit(1);
  expect(receipt).toMatchObject({ action: 'hours changed', facts: { before: USUAL_HOURS, after: changed } });
  await undoReceipt(site.db, receipt!.id, { who: 'Mara', now: new Date(by.now.getTime() + HOUR) });
  expect(await nightHours(site.db)).toEqual(USUAL_HOURS);
  await expect(undoReceipt(site.db, receipt!.id, by)).rejects.toThrow('changed again since');
  // What cannot be read is what was usual: nothing that happens by itself stops for that.
  await site.db.$pool.query("UPDATE site SET value = '{\"night\": 5}' WHERE `key` = 'hours of what happens by itself'");
  expect(await nightHours(site.db)).toEqual(USUAL_HOURS);
});
