// The house says what it is called and by which clock it lives; every process goes by it.
import { houseZone, machineZone, setHouseZone, startOfDay } from '#core/house-time.ts';
import { exactTime } from '#core/wording/amounts.ts';
import { TestSite } from '#test/site.ts';
import { isWithin, USUAL_NIGHT } from '#core/nights/hours.ts';
import { receipts } from '../db/schema/receipts.ts';
import { EVERY_RECEIPT, pageOfReceipts } from '../ledger/ledger.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { inTransaction } from '../db/connect.ts';
import { followHouseTime, houseOf, setHouse } from './site.ts';

let site: TestSite;
const by = () => ({ who: 'Mara', now: new Date() });

beforeEach(async () => {
  site = await TestSite.open();
});
afterEach(async () => {
  setHouseZone(null);
  await site.close();
});

test('until it says so, the clock of the machine; then its own, in every process that asks', async () => {
  expect(await followHouseTime(site.db)).toBe('');
  expect(houseZone()).toBe(machineZone());
  await setHouse(site.db, { name: 'Saltpan House', zone: 'Asia/Tokyo' }, by());
  expect(exactTime(Date.parse('2026-11-30T16:00:00Z'))).toBe('1 Dec 2026, 01:00:00 UTC+9');
  setHouseZone(null);
  expect(await followHouseTime(site.db)).toBe('Asia/Tokyo');
  expect([
    isWithin(USUAL_NIGHT, new Date('2026-11-30T17:00:00Z')),
    isWithin(USUAL_NIGHT, new Date('2026-11-30T02:00:00Z')),
  ]).toEqual([true, false]);
  expect(await houseOf(site.db)).toEqual({ name: 'Saltpan House', zone: 'Asia/Tokyo' });
  const [receipt] = await site.db.select().from(receipts);
  expect(receipt!.facts).toMatchObject({ before: { name: '', zone: '' }, after: { zone: 'Asia/Tokyo' } });
  await setHouse(site.db, { name: 'Saltpan House', zone: '' }, by());
  expect(houseZone()).toBe(machineZone());
});

test('a zone that there is not is refused and changes nothing', async () => {
  await expect(setHouse(site.db, { name: 'Other', zone: 'Mars/Olympus' }, by())).rejects.toThrow(
    'There is no time zone called “Mars/Olympus”.',
  );
  expect(await houseOf(site.db)).toEqual({ name: '', zone: '' });
  expect(await site.db.select().from(receipts)).toEqual([]);
});

test('a day of the ledger is the day of the house', async () => {
  await setHouse(
    site.db,
    { name: '', zone: 'America/New_York' },
    { who: 'Mara', now: new Date('2026-11-20T12:00:00Z') },
  );
  for (const at of ['2026-11-30T04:59:59Z', '2026-11-30T05:00:00Z', '2026-12-01T04:59:59Z', '2026-12-01T05:00:00Z'])
    await inTransaction(site.db, (tx) =>
      writeReceipt(tx, {
        ...{ at: new Date(at), who: 'Mara', action: 'x', title: at },
        ...{ files: 0, bytes: 0, held: 0, facts: {}, itemsSha256: itemsHash([]) },
      }),
    );
  const day = { from: startOfDay('2026-11-30'), to: startOfDay('2026-12-01') };
  const page = await pageOfReceipts(site.db, null, { size: 10, of: { ...EVERY_RECEIPT, day } });
  expect(page.map(({ title }) => title)).toEqual(['2026-12-01T04:59:59Z', '2026-11-30T05:00:00Z']);
});
