// What is told without being asked: the morning once a day, what cannot wait for it once, and every receipt to whoever listens. Run
// once a minute by every worker and by the web process, which alone can tell that no worker is left.
import { and, eq, isNull, lt, sql } from 'drizzle-orm';
import { alertMail, morningMail } from '#core/wording/post.ts';
import { inHouse, isoDay } from '#core/house-time.ts';
import { ago } from '#core/wording/amounts.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { alerts, messages } from '../db/schema/post.ts';
import { receipts } from '../db/schema/receipts.ts';
import { site } from '../db/schema/site.ts';
import { siteMark } from '../db/site-mark.ts';
import { houseDecisions } from '../nights/decisions.ts';
import { morningOf } from '../nights/morning.ts';
import { postponedNow } from '../site/postponed.ts';
import { pulseOf } from '../site/pulse.ts';
import { followHouseTime, siteName } from '../site/site.ts';
import { forgetOld, type NewMessage, putDown, sendDue } from './outbox.ts';
import { type PostRule, postRuleOf, sendsMail } from './post-rule.ts';
import { type Secrets, secretsIn, sender } from './send.ts';

interface Urgent {
  key: string;
  what: string;
  detail: string;
}

/** Puts down what is to be told by now, and sends what is due. Gives how many messages went out. */
export async function tellByItself(
  db: Database,
  now: Date,
  { secrets = secretsIn() }: { secrets?: Secrets } = {},
): Promise<number> {
  await followHouseTime(db);
  const rule = await postRuleOf(db);
  if (!sendsMail(rule) && rule.webhook === '') return 0;
  const house = await siteName(db);
  await tellMorning(db, { rule, house, now });
  if (rule.alerts) await tellAlerts(db, { rule, house, now });
  if (rule.webhook !== '') await tellReceipts(db, { house, now });
  await forgetOld(db, now);
  return sendDue(db, sender(rule, { mark: await siteMark(db), secrets }), now);
}

interface Telling {
  rule: PostRule;
  house: string;
  now: Date;
}

/** The same to everybody who wants to hear it. */
function toAll(
  rule: PostRule,
  {
    kind,
    about,
    mail,
    facts,
  }: Pick<NewMessage, 'kind' | 'about'> & { mail: { subject: string; text: string }; facts: object },
): NewMessage[] {
  const { subject, text } = mail;
  return [
    ...(sendsMail(rule) ? [{ by: 'mail' as const, kind, about, subject, body: text }] : []),
    ...(rule.webhook === ''
      ? []
      : [{ by: 'webhook' as const, kind, about, subject, body: JSON.stringify({ event: kind, subject, ...facts }) }]),
  ];
}

async function tellMorning(db: Database, { rule, house, now }: Telling): Promise<void> {
  if (inHouse(now).getHours() < rule.hour) return;
  const about = `morning ${isoDay(now.getTime())}`;
  const [told] = await db.select({ id: messages.id }).from(messages).where(eq(messages.about, about)).limit(1);
  if (told) return;
  const [morning, every, later] = await Promise.all([
    morningOf(db, now),
    houseDecisions(db, now),
    postponedNow(db, now),
  ]);
  const decisions = every.filter(({ key }) => !later.has(key));
  const { address } = rule;
  const mail = morningMail(morning, { house, address, decisions, nowMs: now.getTime() });
  const facts = { house, atMs: now.getTime(), morning, decisions };
  await inTransaction(db, (tx) => putDown(tx, toAll(rule, { kind: 'morning', about, mail, facts }), now));
}

/** One that comes back so soon is the same still. */
const SAME_MS = 6 * 3_600_000;
const FORGOTTEN_MS = 7 * 86_400_000;
const SILENT_MS = 5 * 60_000;

async function urgentNow(db: Database, now: Date): Promise<Urgent[]> {
  const [every, later, pulse] = await Promise.all([houseDecisions(db, now), postponedNow(db, now), pulseOf(db)]);
  const silence = pulse.lastSeenMs === null ? null : now.getTime() - pulse.lastSeenMs;
  const nobody: Urgent[] =
    pulse.workers === 0 && silence !== null && silence >= SILENT_MS
      ? [
          {
            key: 'no worker',
            what: `No worker has answered since ${ago(pulse.lastSeenMs!, now.getTime())}`,
            detail:
              'Nothing is read, removed, archived or kept until one runs again: start it on a machine that reaches the volumes',
          },
        ]
      : [];
  return [...every.filter((one) => one.isUrgent === true), ...nobody].filter(({ key }) => !later.has(key));
}

async function tellAlerts(db: Database, { rule, house, now }: Telling): Promise<void> {
  const urgent = await urgentNow(db, now);
  for (const one of urgent) await inTransaction(db, (tx) => tellAlert(tx, one, { rule, house, now }));
  await inTransaction(db, async (tx) => {
    const true_ = urgent.map(({ key }) => key.slice(0, 400));
    const isOver = true_.length === 0 ? undefined : sql`${alerts.decision} NOT IN ${true_}`;
    await tx
      .update(alerts)
      .set({ endedAt: now })
      .where(and(isNull(alerts.endedAt), isOver));
    await tx.delete(alerts).where(lt(alerts.endedAt, new Date(now.getTime() - FORGOTTEN_MS)));
  });
}

/** Told when it begins; not again while it lasts, nor where it was over for a moment only. */
async function tellAlert(tx: Transaction, { key, what, detail }: Urgent, { rule, house, now }: Telling): Promise<void> {
  const decision = key.slice(0, 400);
  const [{ affectedRows }] = await tx.insert(alerts).ignore().values({ decision, since: now });
  const [known] = await tx.select().from(alerts).where(eq(alerts.decision, decision)).for('update');
  if (affectedRows === 0) {
    if (!known || known.endedAt === null) return;
    const isSame = now.getTime() - known.endedAt.getTime() < SAME_MS;
    await tx
      .update(alerts)
      .set({ endedAt: null, ...(isSame ? {} : { since: now }) })
      .where(eq(alerts.decision, decision));
    if (isSame) return;
  }
  const mail = alertMail({ what, detail, sinceMs: now.getTime() }, { house, address: rule.address });
  const about = `alert ${now.toISOString()} ${decision}`;
  await putDown(
    tx,
    toAll(rule, { kind: 'alert', about, mail, facts: { house, key, what, detail, atMs: now.getTime() } }),
    now,
  );
}

const POSTED = 'posted receipts';
const MOST_RECEIPTS = 200;

/** Every receipt from when posting began. What is told and up to where goes down together. */
async function tellReceipts(db: Database, { house, now }: Omit<Telling, 'rule'>): Promise<void> {
  await inTransaction(db, async (tx) => {
    const [cursor] = await tx.select().from(site).where(eq(site.key, POSTED)).for('update');
    if (!cursor) {
      const [last] = await tx.select({ id: sql`COALESCE(MAX(${receipts.id}), 0)`.mapWith(Number) }).from(receipts);
      await tx
        .insert(site)
        .ignore()
        .values({ key: POSTED, value: String(last!.id) });
      return;
    }
    const rows = await tx
      .select()
      .from(receipts)
      .where(sql`${receipts.id} > ${Number(cursor.value)}`)
      .orderBy(receipts.id)
      .limit(MOST_RECEIPTS);
    if (rows.length === 0) return;
    await putDown(
      tx,
      rows.map((row) => receiptMessage(row, house)),
      now,
    );
    await tx
      .update(site)
      .set({ value: String(rows.at(-1)!.id) })
      .where(eq(site.key, POSTED));
  });
}

const receiptMessage = (row: typeof receipts.$inferSelect, house: string): NewMessage => ({
  ...{ by: 'webhook', kind: 'event', about: `receipt ${row.id}`, subject: row.title },
  body: JSON.stringify({
    ...{ event: 'receipt', house, receipt: row.id, atMs: row.at.getTime(), who: row.who, action: row.action },
    ...{ title: row.title, projectId: row.projectId, files: row.files, bytes: row.bytes, held: row.held },
  }),
});

/** Sends a message to see whether one arrives. Throws what the server says. */
export async function sendTest(
  db: Db,
  by: 'mail' | 'webhook',
  { who, now, secrets = secretsIn() }: { who: string; now: Date; secrets?: Secrets },
): Promise<void> {
  const [rule, house, mark] = [await postRuleOf(db), await siteName(db as Database), await siteMark(db)];
  const subject = `${house}: a test from Keramion`;
  const text = `${who} asked Keramion to send this, to see whether it arrives.\n`;
  const body = by === 'mail' ? text : JSON.stringify({ event: 'test', house, subject, who, atMs: now.getTime() });
  const message = { id: 0, by, kind: 'test' as const, about: 'test', subject, body, madeAt: now, dueAt: now };
  await sender(rule, { mark: `${mark}.test.${now.getTime()}`, secrets })({
    ...message,
    ...{ tries: 0, sentAt: null, gaveUpAt: null, trouble: null },
  });
}

/** Tells once a minute, one round after the other; what goes wrong is said to `trouble` and tried again. */
export function startTelling(db: Database, trouble: (error: unknown) => void): { stop(): void } {
  let isBusy = false;
  const tell = () => {
    if (isBusy) return;
    isBusy = true;
    tellByItself(db, new Date())
      .catch(trouble)
      .finally(() => (isBusy = false));
  };
  const timer = setInterval(tell, 60_000);
  timer.unref();
  tell();
  return { stop: () => clearInterval(timer) };
}
