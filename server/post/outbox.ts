// Messages on their way: put down in the transaction of whoever has something to tell, and sent afterwards by any process, one at a
// time, again and later where it does not work. A process that dies while it sends leaves the message to the next: it may then arrive
// twice, with the same number, and never not at all.
import { and, asc, desc, eq, isNull, lte, sql } from 'drizzle-orm';
import type { Database, Db } from '../db/connect.ts';
import { inTransaction } from '../db/connect.ts';
import { messages } from '../db/schema/post.ts';

export type Message = typeof messages.$inferSelect;
export type NewMessage = Pick<Message, 'by' | 'kind' | 'about' | 'subject' | 'body'>;
/** Sends one; throws why it could not. */
export type Send = (message: Message) => Promise<void>;

const MINUTE_MS = 60_000;
/** After how many a message is tried again, from the first failure on. */
const RETRY_MINUTES: readonly number[] = [1, 5, 15, 60, 180, 360, 720, 1440];
/** Longer than any try takes. */
const ON_ITS_WAY_MS = 3 * MINUTE_MS;
const AT_ONCE = 20;
const KEPT_DAYS = 90;

/** Puts messages down; what was told already is not put down again. Gives how many are new. */
export async function putDown(db: Db, all: readonly NewMessage[], now: Date): Promise<number> {
  let fresh = 0;
  for (const one of all) {
    const [{ affectedRows }] = await db
      .insert(messages)
      .ignore()
      .values({
        ...one,
        about: one.about.slice(0, 450),
        subject: one.subject.replaceAll(/\s+/g, ' ').slice(0, 500),
        madeAt: now,
        dueAt: now,
      });
    fresh += affectedRows;
  }
  return fresh;
}

const waits = and(isNull(messages.sentAt), isNull(messages.gaveUpAt));

/** Sends what is due. Gives how many went out. */
export async function sendDue(db: Database, send: Send, now: Date): Promise<number> {
  const due = await db
    .select()
    .from(messages)
    .where(and(waits, lte(messages.dueAt, now)))
    // Mails first: what is posted may be thousands, to somebody who does not answer.
    .orderBy(asc(messages.by), asc(messages.id))
    .limit(AT_ONCE);
  let sent = 0;
  for (const message of due) {
    if (!(await isMine(db, message, now))) continue;
    const trouble = await send(message).then(
      () => null,
      (error: unknown) => (error instanceof Error ? error.message : String(error)),
    );
    if (trouble === null) sent++;
    await inTransaction(db, (tx) =>
      tx
        .update(messages)
        .set(outcome(message.tries, trouble, now))
        .where(eq(messages.id, message.id)),
    );
  }
  return sent;
}

/** Of two processes that would send it one does. */
async function isMine(db: Database, message: Message, now: Date): Promise<boolean> {
  return inTransaction(db, async (tx) => {
    const [{ affectedRows }] = await tx
      .update(messages)
      .set({ tries: message.tries + 1, dueAt: new Date(now.getTime() + ON_ITS_WAY_MS) })
      .where(and(eq(messages.id, message.id), eq(messages.tries, message.tries), waits));
    return affectedRows === 1;
  });
}

function outcome(triesBefore: number, trouble: string | null, now: Date): Partial<Message> {
  if (trouble === null) return { sentAt: now, trouble: null };
  const minutes = RETRY_MINUTES[triesBefore];
  const why = trouble.slice(0, 500);
  return minutes === undefined
    ? { gaveUpAt: now, trouble: why }
    : { dueAt: new Date(now.getTime() + minutes * MINUTE_MS), trouble: why };
}

/** Where nothing is sent in a way any more, what waits or could not be sent that way goes: nobody is to hear of it again. */
export async function dropUnsent(tx: Db, by: Message['by']): Promise<void> {
  await tx.delete(messages).where(and(eq(messages.by, by), isNull(messages.sentAt)));
}

/** Old ones go; whether the same was told is asked of newer ones only. */
export async function forgetOld(db: Database, now: Date): Promise<void> {
  const before = new Date(now.getTime() - KEPT_DAYS * 86_400_000);
  await inTransaction(db, (tx) => tx.delete(messages).where(lte(messages.madeAt, before)));
}

export interface PostState {
  lastSentMs: number | null;
  waiting: number;
  gaveUp: number;
  /** Of the last message that could not be sent since one could. */
  trouble: string | null;
}

export async function postState(db: Db): Promise<PostState> {
  const [sums] = await db
    .select({
      lastSentMs: sql<Date | null>`MAX(${messages.sentAt})`.mapWith(messages.sentAt),
      waiting: sql`COALESCE(SUM(${messages.sentAt} IS NULL AND ${messages.gaveUpAt} IS NULL), 0)`.mapWith(Number),
      gaveUp: sql`COALESCE(SUM(${messages.gaveUpAt} IS NOT NULL), 0)`.mapWith(Number),
    })
    .from(messages);
  const [last] = await db
    .select({ trouble: messages.trouble })
    .from(messages)
    .where(and(isNull(messages.sentAt), sql`${messages.trouble} IS NOT NULL`))
    .orderBy(desc(messages.id))
    .limit(1);
  const { lastSentMs, waiting, gaveUp } = sums!;
  return { lastSentMs: lastSentMs?.getTime() ?? null, waiting, gaveUp, trouble: last?.trouble ?? null };
}

const LATE_MS = 30 * MINUTE_MS;

/** Why nothing arrives; null while one did since, or nothing has waited long. */
export async function postTrouble(db: Db, now: Date): Promise<string | null> {
  const [late] = await db
    .select({ trouble: messages.trouble })
    .from(messages)
    .where(
      and(
        isNull(messages.sentAt),
        lte(messages.madeAt, new Date(now.getTime() - LATE_MS)),
        sql`${messages.trouble} IS NOT NULL AND NOT EXISTS (SELECT 1 FROM messages m WHERE m.\`by\` = ${messages}.\`by\` AND m.sent_at > ${messages.madeAt})`,
      ),
    )
    .orderBy(desc(messages.id))
    .limit(1);
  return late?.trouble ?? null;
}

/** The latest, for people. */
export const lastMessages = (db: Db, most: number): Promise<Message[]> =>
  db.select().from(messages).orderBy(desc(messages.id)).limit(most);
