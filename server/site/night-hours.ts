// The hours that the house gives to what happens by itself: kept with the site, changed in Settings with a receipt.
import { eq } from 'drizzle-orm';
import {
  type HourOf,
  hoursFor,
  type HouseHours,
  houseHours,
  isWithin,
  spanOf,
  USUAL_HOURS,
} from '#core/nights/hours.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';

const KEY = 'hours of what happens by itself';

export async function nightHours(db: Db): Promise<HouseHours> {
  const [row] = await db.select().from(site).where(eq(site.key, KEY));
  const parsed = row ? houseHours.safeParse(JSON.parse(row.value)) : null;
  return parsed?.success ? parsed.data : USUAL_HOURS;
}

export async function setNightHours(
  db: Database,
  after: HouseHours,
  { who, now }: { who: string; now: Date },
): Promise<void> {
  await inTransaction(db, async (tx) => {
    const before = await nightHours(tx);
    const value = JSON.stringify(after);
    await tx.insert(site).values({ key: KEY, value }).onDuplicateKeyUpdate({ set: { value } });
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'hours changed', title: 'The hours of what happens by itself were changed' },
      ...{ files: 0, bytes: 0, held: 0, facts: { before, after }, itemsSha256: itemsHash([]) },
    });
  });
}

/** When the hours began that it is in; null where it has to wait for them. What has no hours is always in them. */
export async function begunMs(db: Db, work: HourOf, now: Date): Promise<number | null> {
  const own = hoursFor(await nightHours(db), work);
  if (own === null) return now.getTime();
  return isWithin(own, now) ? spanOf(own, now).fromMs : null;
}
