// Rules at night: what they take, what they leave, their limits, and what they say of themselves.
import { readdirSync, rmSync, utimesSync } from 'node:fs';
import path from 'node:path';
import type { VolumeId } from '#core/model.ts';
import type { CacheRule } from '#core/reclaim/rules.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { aside } from '../db/schema/aside.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { samples } from '../db/schema/sums.ts';
import { dropRule, keptRules, type NewRule, replayOf, saveRule } from '../reclaim/cache-rules.ts';
import { setHouseRules } from '../site/house-rules.ts';
import { volumes } from '../db/schema/stores.ts';
import { isWithin, USUAL_NIGHT } from '#core/nights/hours.ts';
import { runDueRules } from './night.ts';
import { dueAside, emptyDueAside } from './night-aside.ts';

let site: TestSite;
let volume: VolumeId;
const by = () => ({ who: 'Mara', now: new Date() });
const DAY = 86_400;
/** Three in the morning, in two days: what is new now is no longer of today. */
const night = (() => {
  const date = new Date(Date.now() + 2 * DAY * 1000);
  date.setHours(3, 0, 0, 0);
  return date;
})();
const noon = new Date(night.getTime() + 9 * 3_600_000);

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('scratch');
  for (let i = 1; i <= 9; i++) {
    const at = site.put(`scratch/cache/${i}.frm`, '.'.repeat(1000));
    const then = Date.now() / 1000 - i * 10 * DAY;
    utimesSync(at, then, then);
  }
  const kept = site.put('scratch/cache/keep/x.frm', '.'.repeat(1000));
  utimesSync(kept, 1e9, 1e9);
  const named = site.put('scratch/cache/named.mov', '.'.repeat(1000));
  utimesSync(named, 1e9, 1e9);
  site.put('scratch/fog/fog.otio', otio('Fog', ['../cache/named.mov']));
  await site.read(volume);
});
afterEach(() => site.close());

const rule = (of: CacheRule, more: Partial<NewRule> = {}): NewRule => ({
  volumeId: volume,
  projectId: null,
  rule: of,
  except: ['cache/keep'],
  atNight: true,
  mostBytes: 1e12,
  ...more,
});
const left = () => readdirSync(path.join(site.root, 'scratch/cache')).sort();
async function runAt(now: Date): Promise<number> {
  await site.look();
  const begun = await runDueRules(site.db, now);
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
  return begun;
}

test('an age takes what is older, and neither exceptions nor what a document names', async () => {
  await saveRule(site.db, rule({ by: 'age', days: 45 }), by());
  expect([isWithin(USUAL_NIGHT, noon), isWithin(USUAL_NIGHT, night)]).toEqual([false, true]);
  expect(await runAt(noon)).toBe(0);
  expect(await runAt(night)).toBe(1);
  // In two days four of them are not 45 days old.
  expect(left()).toEqual(['1.frm', '2.frm', '3.frm', '4.frm', 'keep', 'named.mov']);
  expect(readdirSync(path.join(site.root, 'scratch/cache/keep'))).toEqual(['x.frm']);
  const [kept] = await keptRules(site.db);
  expect(kept).toMatchObject({ words: 'caches on scratch not changed for 45 days' });
  expect(kept!.said).toMatch(/^Took 5\.00.kB in 5 files at most\.$/);
  expect((await site.db.select().from(receipts)).map((row) => [row.action, row.who, row.files])).toEqual([
    ['cache rule saved', 'Mara', 0],
    ['caches removed', 'the night rules', 5],
  ]);
  // Once a night.
  expect(await runAt(new Date(night.getTime() + 3_600_000))).toBe(0);
});

test('a cap takes the least recently changed until it is met, and no more in a night than it may', async () => {
  // Ten files of caches; what a document names is told as cache too, and stays.
  await saveRule(site.db, rule({ by: 'cap', capBytes: 7500 }), by());
  expect(await runAt(night)).toBe(1);
  expect(left()).toEqual(['1.frm', '2.frm', '3.frm', '4.frm', '5.frm', 'keep', 'named.mov']);
  const [first] = await keptRules(site.db);
  await dropRule(site.db, first!.ruleId, by());
  await saveRule(site.db, rule({ by: 'cap', capBytes: 0 }, { mostBytes: 2500 }), by());
  expect(await runAt(night)).toBe(1);
  expect(left()).toEqual(['1.frm', '2.frm', '3.frm', 'keep', 'named.mov']);
});

test('a rule that finds nothing, or whose volume is away, says so and does nothing', async () => {
  await saveRule(site.db, rule({ by: 'age', days: 4000 }, { except: ['cache'] }), by());
  expect(await runAt(night)).toBe(0);
  expect((await keptRules(site.db))[0]!.said).toBe('Nothing was over it.');
  await dropRule(site.db, 1, by());
  await expect(dropRule(site.db, 1, by())).rejects.toThrow(/gone already/);
  await saveRule(site.db, rule({ by: 'age', days: 1 }), by());
  rmSync(path.join(site.root, 'scratch'), { recursive: true });
  expect(await runAt(night)).toBe(0);
  expect((await keptRules(site.db))[0]!.said).toMatch(/scratch cannot be reached, so nothing was done/);
  await saveRule(site.db, rule({ by: 'age', days: 1 }, { atNight: false }), by());
  expect(await runAt(new Date(night.getTime() + 14 * 3_600_000))).toBe(0);
});

test('a rule is played over the samples that readings left', async () => {
  const today = Math.floor(Date.now() / (DAY * 1000));
  await site.db.delete(samples);
  await site.db.insert(samples).values(
    Array.from({ length: 30 }, (_, i) => ({
      volumeId: volume,
      day: today - 30 + i,
      projectId: 0,
      kind: 'cache' as const,
      files: 1,
      bytes: Math.min(10, i + 1) * 100,
    })),
  );
  const played = await replayOf(site.db, { volumeId: volume, projectId: null, rule: { by: 'age', days: 5 } });
  expect(played).toMatchObject({ removedBytes: 1000, mostBytes: 1000, mostRuledBytes: 600 });
  expect(played.days).toHaveLength(30);
});

test('what is set aside goes by itself where the house says so: after its days, or where a volume runs short; never the only copies', async () => {
  const house = {
    ...{ readBackHours: 0, trustUnseen: false, copies: { copies: 2, places: 1 } },
    shelf: { readBackMonths: 0, carrierYears: 0 },
  };
  const days = (n: number) => new Date(night.getTime() - n * 86_400_000);
  const row = (id: number, level: 2 | 3, sizeBytes: number, at: Date) => ({
    itemId: id,
    stepId: 1,
    fileId: id,
    volumeId: volume,
    projectId: null,
    kind: 'source' as const,
    path: `${id}.mov`,
    asidePath: `.keramion/aside/x/${id}.mov`,
    sizeBytes,
    modifiedUs: 1,
    level,
    reason: 'no timeline uses it',
    at,
  });
  site.checked = false;
  await site.db
    .insert(aside)
    .values([
      row(1, 2, 10e9, days(50)),
      row(2, 3, 10e9, days(49)),
      row(3, 2, 10e9, days(20)),
      row(4, 2, 10e9, days(5)),
    ]);
  const due = async (rule: { days: number; shortBytes: number }) => {
    const ids = await dueAside(site.db, rule, night);
    const rows = await site.db.select().from(aside);
    return ids.map((id) => rows.find((one) => one.id === id)!.fileId);
  };
  expect(await due({ days: 0, shortBytes: 0 })).toEqual([]);
  expect(await due({ days: 30, shortBytes: 0 })).toEqual([1]);
  await site.db.update(volumes).set({ freeBytes: 5e9, state: 'reachable' });
  // 5 GB free: two of 10 GB make 20 GB free and more.
  expect(await due({ days: 0, shortBytes: 20e9 })).toEqual([1, 3]);
  expect(await due({ days: 10, shortBytes: 12e9 })).toEqual([1, 3]);
  expect(await due({ days: 0, shortBytes: 5e9 })).toEqual([]);
  // Off by itself, by day, and once a night.
  expect(await emptyDueAside(site.db, night)).toBe(0);
  await setHouseRules(site.db, { ...house, aside: { days: 30, shortBytes: 0 } }, by());
  expect(await emptyDueAside(site.db, noon)).toBe(0);
  // Nothing proves a copy of it: the step does not begin, and it lies there still.
  expect(await emptyDueAside(site.db, night)).toBe(0);
  expect((await site.db.select().from(aside)).every((one) => one.state === 'aside')).toBe(true);
});
