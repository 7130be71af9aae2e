// What every page hears: that somebody works, when somebody last did, and that something changed.
import { eq, sql } from 'drizzle-orm';
import { TestSite } from '#test/site.ts';
import { workers } from '../db/schema/stores.ts';
import { signIn, signOut } from '../stores/reach.ts';
import { pulseOf } from './pulse.ts';
import { postpone } from './postponed.ts';

let site: TestSite;
beforeEach(async () => {
  site = await TestSite.open();
});
afterEach(() => site.close());

test('a worker that is silent for long does not count, and when it was last heard is told', async () => {
  expect(await pulseOf(site.db)).toMatchObject({ workers: 0, lastSeenMs: null });
  const id = await signIn(site.db, { name: 'one', machine: 'loft' });
  const now = await pulseOf(site.db);
  expect(now.workers).toBe(1);
  expect(Math.abs(now.lastSeenMs! - Date.now())).toBeLessThan(5_000);
  await site.db
    .update(workers)
    .set({ seenAt: sql`UTC_TIMESTAMP(3) - INTERVAL 10 MINUTE` as unknown as Date })
    .where(eq(workers.id, id));
  const later = await pulseOf(site.db);
  expect(later.workers).toBe(0);
  expect(Math.abs(later.lastSeenMs! - (Date.now() - 600_000))).toBeLessThan(5_000);
  await signOut(site.db, id);
  expect(await pulseOf(site.db)).toMatchObject({ workers: 0, lastSeenMs: null });
});

test('its mark is another once something was written, and the same while nothing was', async () => {
  const before = (await pulseOf(site.db)).mark;
  expect((await pulseOf(site.db)).mark).toBe(before);
  const until = new Date(Date.now() + 86_400_000);
  await postpone(site.db, { key: 'k', what: 'x', until, reason: 'y' }, { who: 'Mara', now: new Date() });
  expect((await pulseOf(site.db)).mark).not.toBe(before);
});
