// A decision that was put off is told again on its day, and whoever put it off said why.
import { TestSite } from '#test/site.ts';
import { receipts } from '../db/schema/receipts.ts';
import { bringBack, postpone, postponedNow } from './postponed.ts';

let site: TestSite;
const DAY_MS = 86_400_000;
const by = () => ({ who: 'Mara', now: new Date() });
const asked = (days: number, reason = 'the disk comes on Monday') => ({
  ...{ key: 'full 3', what: 'loft-1 scratch is full in 3 days', reason },
  until: new Date(Date.now() + days * DAY_MS),
});

beforeEach(async () => {
  site = await TestSite.open();
});
afterEach(() => site.close());

test('it waits until its day, and no longer', async () => {
  expect(await postpone(site.db, asked(3), by())).toMatch(/^Put off until .*: loft-1 scratch is full in 3 days$/);
  expect([...(await postponedNow(site.db, new Date())).values()]).toMatchObject([
    { key: 'full 3', reason: 'the disk comes on Monday', who: 'Mara' },
  ]);
  expect((await postponedNow(site.db, new Date(Date.now() + 4 * DAY_MS))).size).toBe(0);
  await postpone(site.db, asked(30, 'it comes later'), by());
  expect([...(await postponedNow(site.db, new Date())).values()]).toMatchObject([{ reason: 'it comes later' }]);
  expect(await bringBack(site.db, 'full 3', by())).toBe('No longer put off: loft-1 scratch is full in 3 days');
  expect((await postponedNow(site.db, new Date())).size).toBe(0);
  expect((await site.db.select().from(receipts)).map((row) => [row.action, row.facts.reason])).toEqual([
    ['decision put off', 'the disk comes on Monday'],
    ['decision put off', 'it comes later'],
    ['decision brought back', 'it comes later'],
  ]);
});

test('without a day to come, a reason, or anything to bring back, nothing changes', async () => {
  await expect(postpone(site.db, asked(-1), by())).rejects.toThrow('still to come');
  await expect(postpone(site.db, { ...asked(1), until: null }, by())).rejects.toThrow('still to come');
  await expect(postpone(site.db, asked(400), by())).rejects.toThrow('a year at most');
  await expect(postpone(site.db, asked(1, ' '), by())).rejects.toThrow('Say why it can wait');
  await expect(bringBack(site.db, 'full 3', by())).rejects.toThrow('is not put off');
  expect(await site.db.select().from(receipts)).toEqual([]);
});
