// The ledger is one chain, however many write to it at once.
import { TestSite } from '#test/site.ts';
import { inTransaction } from '../db/connect.ts';
import { brokenReceipts, itemsHash, writeReceipt } from './receipts.ts';

let site: TestSite;
beforeEach(async () => {
  site = await TestSite.open();
});
afterEach(() => site.close());

test('receipts that are written at once follow each other, also the very first', async () => {
  const one = (n: number) =>
    inTransaction(site.db, async (tx) => {
      await writeReceipt(tx, {
        ...{ at: new Date(1_700_000_000_000 + n), who: 'Mara', action: 'project restored', title: `receipt ${n}` },
        ...{ files: 0, bytes: 0, held: 0, facts: {}, itemsSha256: itemsHash([]) },
      });
      // The rest of the work's last transaction.
      await new Promise((resolve) => setTimeout(resolve, 5));
    });
  for (let round = 0; round < 3; round++) await Promise.all(Array.from({ length: 8 }, (_, n) => one(round * 8 + n)));
  expect(await brokenReceipts(site.db)).toEqual([]);
});
