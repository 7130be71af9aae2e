// The ledger is looked through by what people remember, and what was changed from outside shows on the page that it is on.
import { sql } from 'drizzle-orm';
import { TestSite } from '#test/site.ts';
import { inTransaction } from '../db/connect.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { brokenAmong, brokenByNow } from './chain.ts';
import { EVERY_RECEIPT, pageOfReceipts, receiptChoices } from './ledger.ts';

let site: TestSite;
const DAY_MS = 86_400_000;
const FIRST_DAY = 20_000;

beforeEach(async () => {
  site = await TestSite.open();
});
afterEach(() => site.close());

const write = (n: number, more: Partial<{ who: string; action: string; projectId: number }> = {}) =>
  inTransaction(site.db, (tx) =>
    writeReceipt(tx, {
      ...{ at: new Date((FIRST_DAY + n) * DAY_MS + 1000), who: 'Mara', action: 'files moved', title: `Fog 100% ${n}` },
      ...{ files: n, bytes: n, held: 0, facts: {}, itemsSha256: itemsHash([]), ...more },
    }),
  );

test('a word, a project, a person, what was done and a day each narrow it, together as well, page by page', async () => {
  await site.db
    .insert(projects)
    .values({ name: 'Fog', slug: 'fog', state: 'in work', stateSince: new Date(), origin: 'folder' });
  for (let n = 0; n < 6; n++)
    await write(n, { ...(n % 2 ? { who: 'Ida', projectId: 1 } : {}), ...(n > 3 ? { action: 'archive sealed' } : {}) });
  const of = async (narrow: Partial<typeof EVERY_RECEIPT>, before: number | null = null, size = 100) =>
    (await pageOfReceipts(site.db, before, { size, of: { ...EVERY_RECEIPT, ...narrow } })).map((row) => row.files);
  expect(await of({})).toEqual([5, 4, 3, 2, 1, 0]);
  expect(await of({ who: 'Ida' })).toEqual([5, 3, 1]);
  expect(await of({ projectId: 1, action: 'archive sealed' })).toEqual([5]);
  expect(await of({ words: ['fog', '100%'] })).toHaveLength(6);
  expect(await of({ words: ['%4'] })).toEqual([]);
  expect(
    await of({ day: { from: new Date((FIRST_DAY + 2) * 86_400_000), to: new Date((FIRST_DAY + 3) * 86_400_000) } }),
  ).toEqual([2]);
  const [first] = await pageOfReceipts(site.db, null, { size: 1, of: { ...EVERY_RECEIPT, who: 'Ida' } });
  expect(await of({ who: 'Ida' }, first!.id, 1)).toEqual([3]);
  expect(await receiptChoices(site.db)).toEqual({
    ...{
      projects: [{ projectId: 1, name: 'Fog' }],
      people: ['Ida', 'Mara'],
      actions: ['archive sealed', 'files moved'],
    },
  });
});

test('what is changed behind the ledger’s back shows at once on its page, and in the whole when that is looked through anew', async () => {
  site.checked = false;
  for (let n = 0; n < 5; n++) await write(n);
  const now = Date.now();
  expect([...(await brokenByNow(site.db, now))]).toEqual([]);
  await write(5);
  expect([...(await brokenByNow(site.db, now))]).toEqual([]);
  const triggers = (await site.db.execute(sql`SHOW TRIGGERS LIKE 'receipts'`)) as unknown as [{ Trigger: string }[]];
  for (const { Trigger } of triggers[0]) await site.db.execute(sql.raw(`DROP TRIGGER \`${Trigger}\``));
  await site.db
    .update(receipts)
    .set({ bytes: 999 })
    .where(sql`id = 3`);
  const page = await pageOfReceipts(site.db, null);
  expect([...(await brokenAmong(site.db, page))]).toEqual([3]);
  expect([...(await brokenAmong(site.db, page.slice(0, 2)))]).toEqual([]);
  await site.db.delete(receipts).where(sql`id = 2`);
  expect([...(await brokenAmong(site.db, await pageOfReceipts(site.db, null)))].sort()).toEqual([3]);
  // Ten minutes later it is looked through in the background, and the next who asks is told.
  await brokenByNow(site.db, now + 11 * 60_000);
  let told: number[] = [];
  for (let i = 0; i < 50 && told.length === 0; i++) {
    await new Promise((resolve) => setTimeout(resolve, 50));
    told = [...(await brokenByNow(site.db, now + 11 * 60_000 + 1))];
  }
  expect(told).toEqual([3]);
});
