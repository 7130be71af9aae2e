// What the house allows that is off by itself. Kept by key with the site; changed in Settings, with a receipt.
import { eq } from 'drizzle-orm';
import { type CopiesRule, USUAL_COPIES } from '#core/archive/copies.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';

const EARLIER_READ_BACK = 'earlier read-back hours';

/** For how many hours a read-back stands for one in the step that removes originals; 0: each is read back then. */
export async function earlierReadBackHours(db: Db): Promise<number> {
  const [row] = await db.select().from(site).where(eq(site.key, EARLIER_READ_BACK));
  const hours = Number(row?.value ?? 0);
  return Number.isInteger(hours) && hours > 0 && hours <= 24 * 365 ? hours : 0;
}

const UNSEEN_PROGRAMS = 'unseen programs are trusted';

/** Whether files may go although there are programs whose open files the worker cannot see; off by itself. */
export async function trustsUnseenPrograms(db: Db): Promise<boolean> {
  const [row] = await db.select().from(site).where(eq(site.key, UNSEEN_PROGRAMS));
  return row?.value === 'yes';
}

async function setTrustsUnseenPrograms(tx: Transaction, trusts: boolean): Promise<void> {
  const value = trusts ? 'yes' : 'no';
  await tx.insert(site).values({ key: UNSEEN_PROGRAMS, value }).onDuplicateKeyUpdate({ set: { value } });
}

async function setEarlierReadBackHours(tx: Transaction, hours: number): Promise<void> {
  const value = String(hours);
  await tx.insert(site).values({ key: EARLIER_READ_BACK, value }).onDuplicateKeyUpdate({ set: { value } });
}

const ASIDE_DAYS = 'set aside for days';
const ASIDE_SHORT = 'set aside until free bytes';

async function numberOf(db: Db, key: string): Promise<number> {
  const [row] = await db.select().from(site).where(eq(site.key, key));
  const value = Number(row?.value ?? 0);
  return Number.isSafeInteger(value) && value > 0 ? value : 0;
}

async function setNumber(tx: Transaction, key: string, number: number): Promise<void> {
  const value = String(number);
  await tx.insert(site).values({ key, value }).onDuplicateKeyUpdate({ set: { value } });
}

/** When what is set aside goes at night by itself, where its copy is proved: after so many days, or on a volume with less free. */
export interface AsideRule {
  /** 0: never. */
  days: number;
  /** 0: however full a volume is. */
  shortBytes: number;
}

export const asideRule = async (db: Db): Promise<AsideRule> => ({
  days: await numberOf(db, ASIDE_DAYS),
  shortBytes: await numberOf(db, ASIDE_SHORT),
});

const COPIES = 'wanted copies';
const PLACES = 'wanted places';

/** How many good copies an archive is to have, and in how many places. */
export async function copiesRule(db: Db): Promise<CopiesRule> {
  const [copies, places] = [await numberOf(db, COPIES), await numberOf(db, PLACES)];
  return { copies: copies || USUAL_COPIES.copies, places: places || USUAL_COPIES.places };
}

const READ_BACK_MONTHS = 'read back every months';
const CARRIER_YEARS = 'oldest carrier in years';

/** What keeps the shelf whole without anybody asking. */
export interface ShelfRule {
  /** Copies whose last read-back is older are read back at night; 0: only when asked. */
  readBackMonths: number;
  /** Carriers in use for longer are told; 0: none. */
  carrierYears: number;
}

export const shelfRule = async (db: Db): Promise<ShelfRule> => ({
  readBackMonths: await numberOf(db, READ_BACK_MONTHS),
  carrierYears: await numberOf(db, CARRIER_YEARS),
});

export interface HouseRules {
  readBackHours: number;
  trustUnseen: boolean;
  aside: AsideRule;
  copies: CopiesRule;
  shelf: ShelfRule;
}

export const houseRules = async (db: Db): Promise<HouseRules> => ({
  readBackHours: await earlierReadBackHours(db),
  trustUnseen: await trustsUnseenPrograms(db),
  aside: await asideRule(db),
  copies: await copiesRule(db),
  shelf: await shelfRule(db),
});

/** Changes what the house allows, with a receipt that says what from and to. */
export async function setHouseRules(
  db: Database,
  rules: HouseRules,
  { who, now }: { who: string; now: Date },
): Promise<void> {
  await inTransaction(db, async (tx) => {
    const before = await houseRules(tx);
    await setEarlierReadBackHours(tx, rules.readBackHours);
    await setTrustsUnseenPrograms(tx, rules.trustUnseen);
    await setNumber(tx, ASIDE_DAYS, rules.aside.days);
    await setNumber(tx, ASIDE_SHORT, rules.aside.shortBytes);
    await setNumber(tx, COPIES, rules.copies.copies);
    await setNumber(tx, PLACES, rules.copies.places);
    await setNumber(tx, READ_BACK_MONTHS, rules.shelf.readBackMonths);
    await setNumber(tx, CARRIER_YEARS, rules.shelf.carrierYears);
    await writeReceipt(tx, {
      at: now,
      who,
      action: 'house rules changed',
      title: 'What removing files may rely on, or what archives are to have, was changed',
      files: 0,
      bytes: 0,
      held: 0,
      facts: { before, after: rules },
      itemsSha256: itemsHash([]),
    });
  });
}
