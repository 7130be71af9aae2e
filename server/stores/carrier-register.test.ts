// Where carriers are and who has them, with every move in the ledger; and copies read back at night as the house wants it.
import { renameSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { CarrierId, ProjectId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { dueReadBacks } from '../archives/due-read-backs.ts';
import { archiveCopies } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { carriers } from '../db/schema/stores.ts';
import { readBackAtNight } from '../plan/at-night.ts';
import { setHouseRules } from '../site/house-rules.ts';
import { addArchive } from '../steps/archive.ts';
import { carrierPage, carriersToTell, moveCarrier } from './carrier-register.ts';

let site: TestSite;
let own: CarrierId[];
const by = () => ({ who: 'Mara', now: new Date() });
const DAY = 86_400_000;

beforeEach(async () => {
  site = await TestSite.open();
  const media = await site.volume('media');
  own = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  site.put('media/fog/rushes/a.mov', Buffer.alloc(30_000, 'a'));
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov']));
  await site.read(media);
  await addArchive(site.db, { projectId: 1 as ProjectId, carrierIds: own, folder: 'fog_1', now: new Date() });
  await site.runPlan();
  await site.workOff();
});
afterEach(() => site.close());

const HERE = { place: 'cabinet', lentTo: null, dueAt: null, since: null };

test('a carrier is lent, comes back and moves, and the ledger has each', async () => {
  const due = new Date('2026-12-03T00:00:00Z');
  const now = new Date('2026-11-27T10:00:00Z');
  const mara = { who: 'Mara', now };
  expect(await moveCarrier(site.db, own[0]!, { ...HERE, lentTo: 'Ida Holm', dueAt: due }, mara)).toBe(
    'kd-1 lent to Ida Holm, due back on 3 Dec 2026',
  );
  const page = (await carrierPage(site.db, own[0]!))!;
  expect(page).toMatchObject({
    lent: { to: 'Ida Holm', sinceMs: now.getTime(), dueMs: due.getTime() },
    holds: [{ name: 'Fog', folder: 'fog_1', state: 'good', files: 3 }],
    ...{ written: 1, errors: 0 },
    moves: [{ who: 'Mara', title: 'kd-1 lent to Ida Holm, due back on 3 Dec 2026' }],
  });
  expect(await carriersToTell(site.db, 0, new Date(due.getTime() - DAY))).toEqual([]);
  expect(await carriersToTell(site.db, 0, new Date(due.getTime() + 3 * DAY))).toMatchObject([
    { name: 'kd-1', late: { to: 'Ida Holm' }, years: null },
  ]);
  const back = { ...HERE, place: 'bank, box 2', since: new Date('2020-01-05T00:00:00Z') };
  expect(await moveCarrier(site.db, own[0]!, back, mara)).toBe(
    'kd-1 back from Ida Holm, from cabinet to bank, box 2 and in use since 5 Jan 2020',
  );
  expect(await carriersToTell(site.db, 5, now)).toMatchObject([{ name: 'kd-1', late: null, years: 6 }]);
  expect(await carriersToTell(site.db, 0, now)).toEqual([]);
  const moves = await site.db.select().from(receipts).where(eq(receipts.action, 'carrier moved'));
  expect(moves.map((move) => (move.facts as { carrierId: number }).carrierId)).toEqual([own[0], own[0]]);
});

test('what makes no sense is refused with a sentence, and nothing changes', async () => {
  const later = new Date(Date.now() + 5 * DAY);
  for (const [to, words] of [
    [HERE, /That is what is known of kd-1 already/],
    [{ ...HERE, dueAt: later }, /lent to somebody/],
    [{ ...HERE, since: later }, /has not come yet/],
  ] as const)
    await expect(moveCarrier(site.db, own[0]!, to, by())).rejects.toThrow(words);
  await expect(moveCarrier(site.db, 99 as CarrierId, HERE, by())).rejects.toThrow(/no such carrier/);
  expect(await carrierPage(site.db, 99 as CarrierId)).toBeNull();
  expect((await site.db.select().from(receipts)).filter((one) => one.action === 'carrier moved')).toEqual([]);
});

test('copies that were not read for long are read back at night, once, where their carriers are in reach', async () => {
  const night = new Date();
  night.setHours(2, 0, 0, 0);
  const noon = new Date(night.getTime() + 10 * 3_600_000);
  const copies = () => site.db.select().from(archiveCopies).orderBy(archiveCopies.id);
  const old = new Date(night.getTime() - 200 * DAY);
  await site.db.update(archiveCopies).set({ readBackAt: old });
  expect(await dueReadBacks(site.db, night)).toEqual([]);
  const house = {
    ...{ readBackHours: 0, trustUnseen: false, aside: { days: 0, shortBytes: 0 }, copies: { copies: 2, places: 1 } },
    shelf: { readBackMonths: 6, carrierYears: 0 },
  };
  await setHouseRules(site.db, house, by());
  renameSync(path.join(site.root, 'kd-2'), path.join(site.root, 'on a shelf'));
  await site.look();
  expect(await dueReadBacks(site.db, night)).toMatchObject([
    { carrier: 'kd-1', isThere: true },
    { carrier: 'kd-2', place: 'cabinet', isThere: false },
  ]);
  expect(await readBackAtNight(site.db, noon)).toBe(0);
  expect(await readBackAtNight(site.db, night)).toBe(1);
  // Asked again in the same night, nothing more is begun.
  expect(await readBackAtNight(site.db, night)).toBe(0);
  const asked = await site.db.select().from(jobs).where(eq(jobs.kind, 'read back copy'));
  expect(asked).toMatchObject([{ who: 'the night rules', title: 'Read back Fog on kd-1' }]);
  await site.workOff();
  const [first, second] = await copies();
  expect(first!.readBackAt!.getTime()).toBeGreaterThan(old.getTime());
  expect(second!.readBackAt).toEqual(old);
  expect((await dueReadBacks(site.db, night)).map((one) => one.carrier)).toEqual(['kd-2']);
  await site.db.update(carriers).set({ state: 'reachable' });
  // The next night the other is read, and what is in work already is not asked for twice.
  const next = new Date(night.getTime() + DAY);
  expect(await readBackAtNight(site.db, next)).toBe(1);
  expect(await readBackAtNight(site.db, new Date(next.getTime() + 13 * 3_600_000))).toBe(0);
});
