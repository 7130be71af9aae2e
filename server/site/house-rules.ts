// What the house allows that is off by itself. Kept by key with the site; changed in Settings, with a receipt.
import { eq } from 'drizzle-orm';
import type { Db, Transaction } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';

const EARLIER_READ_BACK = 'earlier read-back hours';

/** For how many hours a read-back stands for one in the step that removes originals; 0: each is read back then. */
export async function earlierReadBackHours(db: Db): Promise<number> {
  const [row] = await db.select().from(site).where(eq(site.key, EARLIER_READ_BACK));
  const hours = Number(row?.value ?? 0);
  return Number.isInteger(hours) && hours > 0 && hours <= 24 * 365 ? hours : 0;
}

export async function setEarlierReadBackHours(tx: Transaction, hours: number): Promise<void> {
  const value = String(hours);
  await tx.insert(site).values({ key: EARLIER_READ_BACK, value }).onDuplicateKeyUpdate({ set: { value } });
}
