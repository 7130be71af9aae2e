// What the morning tells is what the ledger and the work say; what tonight tells is what the night then does.
import { rmSync, utimesSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { askToReadBackAll } from '../archives/read-back.ts';
import { setOwnBackupRule } from '../backup/own-backup.ts';
import { jobs } from '../db/schema/jobs.ts';
import { volumes } from '../db/schema/stores.ts';
import { runDueRules } from '../plan/night.ts';
import { saveRule } from '../reclaim/cache-rules.ts';
import { houseRules, setHouseRules } from '../site/house-rules.ts';
import { askToRead } from '../site/work.ts';
import { addArchive } from '../steps/archive.ts';
import { morningOf } from './morning.ts';
import { tonightOf } from './tonight.ts';

let site: TestSite;
let volume: VolumeId;
const DAY_MS = 86_400_000;
const by = () => ({ who: 'Mara', now: new Date() });
const night = (() => {
  const date = new Date(Date.now() + DAY_MS);
  date.setHours(3, 0, 0, 0);
  return date;
})();
const at = (...parts: string[]) => path.join(site.root, ...parts);
const works = async (now = new Date()) =>
  new Map((await tonightOf(site.db, now)).works.map((work) => [work.key.replace(/ \d+$/, ''), work]));

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('scratch');
  for (let i = 1; i <= 6; i++) {
    const then = Date.now() / 1000 - i * 10 * 86_400;
    utimesSync(site.put(`scratch/cache/${i}.frm`, '.'.repeat(10_000)), then, then);
  }
  site.put('scratch/fog/a.mov', 'x'.repeat(50_000));
  site.put('scratch/fog/fog.otio', otio('Fog', ['a.mov']));
  await site.read(volume);
});
afterEach(() => site.close());

test('before anything is set nothing is promised, and a morning without a night says so', async () => {
  const all = await works();
  expect([...all.values()].map((work) => [work.key, work.isDue, work.took])).toEqual(
    ['aside', 'read back', 'backup', 'readings', 'check', 'snapshots'].map((key) => [key, false, []]),
  );
  expect(all.get('backup')).toMatchObject({ when: 'off', wouldDo: 'nothing: no folder is named for it' });
  expect(await morningOf(site.db, new Date())).toMatchObject({
    ...{ done: [], failed: [], waiting: [], freedBytes: 0, check: null },
    shelf: { archives: 0, sure: 0, damaged: 0, short: 0, oldestReadBackMs: null },
  });
});

test('a rule does what was told of it, and the morning has what it freed and how long it took', async () => {
  const rule = { volumeId: volume, projectId: null, rule: { by: 'age' as const, days: 25 }, except: [] };
  await saveRule(site.db, { ...rule, atNight: true, mostBytes: 1e12 }, by());
  await saveRule(site.db, { ...rule, atNight: false, mostBytes: 1e12 }, by());
  const before = (await works()).get('rule')!;
  expect(before).toMatchObject({
    wouldDo: 'removes 40.0 kB of caches at most',
    isDue: true,
    needs: ['scratch'],
    took: [],
  });
  await site.look();
  expect(await runDueRules(site.db, night)).toBe(1);
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  await site.read(volume);
  const after = (await works()).get('rule')!;
  expect(after).toMatchObject({ wouldDo: 'nothing is over it', isDue: false, took: [{ ended: 'done' }] });
  const morning = await morningOf(site.db, new Date());
  expect(morning.freedBytes).toBeGreaterThan(30_000);
  expect(morning.done.map(({ action, byItself, files }) => [action, byItself, files])).toEqual([
    ['caches removed', true, 4],
    ['cache rule saved', false, 0],
    ['cache rule saved', false, 0],
  ]);
  // What was done the day before is of another morning.
  expect((await morningOf(site.db, new Date(Date.now() + 2 * DAY_MS))).done).toEqual([]);
});

test('what fails is told with its reason, what is damaged makes the shelf less sure, and what needs one volume meets', async () => {
  const carrierIds = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  await site.look();
  await addArchive(site.db, {
    ...{ projectId: 1 as ProjectId, carrierIds, folder: 'fog_1', scope: USUAL_SCOPE, now: new Date() },
  });
  await site.runPlan();
  await site.workOff();
  await setHouseRules(site.db, { ...(await houseRules(site.db)), copies: { copies: 2, places: 1 } }, by());
  expect((await morningOf(site.db, new Date())).shelf).toMatchObject({ archives: 1, sure: 1, damaged: 0 });
  writeFileSync(at('kd-1/fog_1/data/media/Rushes/a.mov'), 'rot');
  await askToReadBackAll(site.db, 1, { ...by(), on: 'kd-1' });
  await site.workOff();
  const morning = await morningOf(site.db, new Date());
  expect(morning.failed).toMatchObject([{ who: 'Mara', why: expect.stringContaining('is damaged') as string }]);
  expect(morning.shelf).toMatchObject({ archives: 1, sure: 0, damaged: 1 });

  await site.db.update(volumes).set({ readEveryHours: 12 });
  const rule = { volumeId: volume, projectId: null, rule: { by: 'age' as const, days: 25 }, except: [] };
  await saveRule(site.db, { ...rule, atNight: true, mostBytes: 1e12 }, by());
  const all = await works(new Date(Date.now() + DAY_MS));
  expect(all.get('readings')).toMatchObject({ isDue: true, wouldDo: 'reads scratch' });
  expect(all.get('rule')!.meets).toEqual(['Volumes read again needs scratch too']);
});

test('what waits for a carrier is told with where it is, and the backup with where it goes', async () => {
  await setOwnBackupRule(site.db, { folder: at('backups'), newest: 3, days: 0, weeks: 0, months: 0 }, by());
  expect((await works()).get('backup')).toMatchObject({ isDue: true, wouldDo: `writes to ${at('backups')}` });
  rmSync(at('scratch/.keramion'), { recursive: true });
  await askToRead(site.db, [volume], by());
  await site.look();
  expect((await morningOf(site.db, new Date())).waiting).toMatchObject([{ for: [{ name: 'scratch' }] }]);
  expect((await site.db.select().from(jobs)).at(-1)).toMatchObject({ state: 'queued' });
});
