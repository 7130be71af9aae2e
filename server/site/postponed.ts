// Decisions that somebody put off on purpose, with a day and a reason. They are told again from that day on, and go on being true
// meanwhile.
import { eq, sql } from 'drizzle-orm';
import { day } from '#core/wording/amounts.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { postponed } from '../db/schema/site.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';

export interface Postponed {
  key: string;
  what: string;
  untilMs: number;
  reason: string;
  who: string;
}

interface By {
  who: string;
  now: Date;
}

const DAY_MS = 86_400_000;
const LONGEST_DAYS = 366;

/** Those whose day has not come, by the key of each. */
export async function postponedNow(db: Db, now: Date): Promise<Map<string, Postponed>> {
  const rows = await db
    .select()
    .from(postponed)
    .where(sql`${postponed.until} > ${now}`);
  return new Map(
    rows.map(({ decision, until, ...row }) => [decision, { ...row, key: decision, untilMs: until.getTime() }]),
  );
}

/** Puts a decision off. Throws Refused where the day has come, is too far, or nothing is said. */
export async function postpone(
  db: Database,
  { key, what, until, reason }: { key: string; what: string; until: Date | null; reason: string },
  { who, now }: By,
): Promise<string> {
  if (until === null || until <= now) throw new Refused('Say a day that is still to come. Nothing was changed.');
  if (until.getTime() > now.getTime() + LONGEST_DAYS * DAY_MS)
    throw new Refused('A decision waits for a year at most. Say a nearer day. Nothing was changed.');
  if (reason.trim() === '')
    throw new Refused('Say why it can wait: whoever looks at it next wants to know. Nothing was changed.');
  const title = `Put off until ${day(until.getTime())}: ${what}`;
  await inTransaction(db, async (tx) => {
    const row = { what: what.slice(0, 500), until, reason, who };
    await tx
      .insert(postponed)
      .values({ decision: key, ...row })
      .onDuplicateKeyUpdate({ set: row });
    await note(tx, { title, reason, action: 'decision put off', key }, { who, now });
  });
  return title;
}

/** Tells it again at once. */
export async function bringBack(db: Database, key: string, by: By): Promise<string> {
  return inTransaction(db, async (tx) => {
    const [row] = await tx.select().from(postponed).where(eq(postponed.decision, key));
    if (!row) throw new Refused('That decision is not put off. Nothing was changed.');
    await tx.delete(postponed).where(eq(postponed.decision, key));
    const title = `No longer put off: ${row.what}`;
    await note(tx, { title, reason: row.reason, action: 'decision brought back' }, by);
    return title;
  });
}

const note = (
  tx: Parameters<typeof writeReceipt>[0],
  { title, reason, action, key }: { title: string; reason: string; action: string; key?: string },
  { who, now }: By,
) =>
  writeReceipt(tx, {
    ...{ at: now, who, action, title: title.slice(0, 500), files: 0, bytes: 0, held: 0 },
    ...{ facts: { reason, ...(key === undefined ? {} : { key }) }, itemsSha256: itemsHash([]) },
  });
