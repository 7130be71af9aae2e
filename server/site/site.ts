// What the site as a whole is called, and by which clock its days and nights go.
import { eq, inArray } from 'drizzle-orm';
import { z } from 'zod';
import { isZone, setHouseZone } from '#core/house-time.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';

const NAME = 'name';
const ZONE = 'time zone';

export const houseFacts = z.object({
  name: z.string(),
  /** Of the IANA time zone database; empty: the clock of the machine. */
  zone: z.string(),
});
export type House = z.infer<typeof houseFacts>;

const put = (db: Db | Transaction, key: string, value: string) =>
  db.insert(site).values({ key, value }).onDuplicateKeyUpdate({ set: { value } });

export const nameSite = (db: Database, name: string): Promise<unknown> => put(db, NAME, name);

export async function siteName(db: Db): Promise<string> {
  const [row] = await db.select().from(site).where(eq(site.key, NAME));
  return row?.value ?? '';
}

export async function houseOf(db: Db): Promise<House> {
  const rows = await db
    .select()
    .from(site)
    .where(inArray(site.key, [NAME, ZONE]));
  const said = new Map(rows.map(({ key, value }) => [key, value]));
  return { name: said.get(NAME) ?? '', zone: said.get(ZONE) ?? '' };
}

/** Names the house and says by which clock it lives, with a receipt of what that was before. Throws Refused for a zone that there is not. */
export async function setHouse(db: Database, house: House, { who, now }: { who: string; now: Date }): Promise<void> {
  if (house.zone !== '' && !isZone(house.zone))
    throw new Refused(
      `There is no time zone called “${house.zone}”. Choose one of the list, like Europe/Lisbon. Nothing was saved.`,
    );
  await inTransaction(db, async (tx) => {
    const before = await houseOf(tx);
    await put(tx, NAME, house.name);
    await put(tx, ZONE, house.zone);
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'house changed', title: 'The name or the time zone of the house was changed' },
      ...{ files: 0, bytes: 0, held: 0, facts: { before, after: house }, itemsSha256: itemsHash([]) },
    });
  });
  setHouseZone(house.zone || null);
}

/** Has this process live by the clock of the house: asked where it begins, and again from time to time. */
export async function followHouseTime(db: Db): Promise<string> {
  const { zone } = await houseOf(db);
  setHouseZone(zone || null);
  return zone;
}
