// What the last night came to: what was done by itself and by people, what went wrong and why, what waits for whom, and how sure the
// shelf is. From the ledger and from the work that ended; nothing is guessed.
import { and, desc, eq, gte, inArray, lt, sql } from 'drizzle-orm';
import type { Span } from '#core/nights/hours.ts';
import { sinceEvening } from '#core/nights/nights.ts';
import type { Tally } from '#core/wording/nights.ts';
import { archiveRows } from '../archives/shelf.ts';
import { lastOwnBackup, ownBackupRule } from '../backup/own-backup.ts';
import { lastCheck } from '../check/check.ts';
import type { Database, Db } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { snapshots } from '../db/schema/snapshots.ts';
import { NIGHT_RULES } from '../plan/night.ts';
import { keptRules } from '../reclaim/cache-rules.ts';
import { type Awaited, jobRows } from '../site/work.ts';

/** Who does what nobody asked for. */
export const BY_ITSELF = [NIGHT_RULES, 'the schedule', 'Keramion'];

export interface Done {
  receiptId: number;
  atMs: number;
  who: string;
  byItself: boolean;
  action: string;
  title: string;
  files: number;
  bytes: number;
  held: number;
}

export interface Failed {
  atMs: number;
  who: string;
  title: string;
  why: string;
}

export interface Morning extends Span {
  /** The latest, as many as are told. */
  done: Done[];
  /** All of them, by what they were. */
  tally: (Tally & { freedBytes: number })[];
  readings: { volumes: number };
  snapshots: { documents: number; snapshots: number };
  failed: Failed[];
  waiting: { title: string; for: Awaited[] }[];
  removedBytes: number;
  freedBytes: number;
  shelf: { archives: number; sure: number; damaged: number; short: number; oldestReadBackMs: number | null };
  backup: { isWanted: boolean; atMs: number | null; provenMs: number | null };
  check: { atMs: number; findings: number } | null;
}

const MOST = 200;
/** For good: what is set aside still takes its room. */
const REMOVING = ['caches removed', 'files removed', 'set-aside files removed for good', 'originals removed'];

export async function morningOf(db: Database, now: Date): Promise<Morning> {
  const span = sinceEvening(now);
  const [done, tally, failed, read, kept, waiting, shelf, backup, rule, check] = await Promise.all([
    doneIn(db, span),
    tallyIn(db, span),
    failedIn(db, span),
    readIn(db, span),
    snapshotsIn(db, span),
    jobRows(db, 0),
    shelfOf(db),
    lastOwnBackup(db),
    ownBackupRule(db),
    lastCheck(db),
  ]);
  return {
    ...span,
    done,
    tally,
    readings: read,
    snapshots: kept,
    failed,
    waiting: waiting.filter((job) => job.waitsFor.length > 0).map(({ title, waitsFor }) => ({ title, for: waitsFor })),
    removedBytes: tally.reduce((sum, one) => sum + (REMOVING.includes(one.action) ? one.bytes : 0), 0),
    freedBytes: tally.reduce((sum, one) => sum + one.freedBytes, 0),
    shelf,
    backup: { isWanted: rule.folder !== '', atMs: backup?.atMs ?? null, provenMs: backup?.provenMs ?? null },
    check: check && { atMs: check.atMs, findings: check.repaired ? 0 : check.findings.length },
  };
}

const within = (
  column: typeof receipts.at | typeof jobs.finishedAt | typeof snapshots.takenAt,
  { fromMs, toMs }: Span,
) => and(gte(column, new Date(fromMs)), lt(column, new Date(toMs + 1)));

async function tallyIn(db: Db, span: Span): Promise<Morning['tally']> {
  return db
    .select({
      action: receipts.action,
      receipts: sql`COUNT(*)`.mapWith(Number),
      bytes: sql`COALESCE(SUM(${receipts.bytes}), 0)`.mapWith(Number),
      freedBytes: sql`COALESCE(SUM(JSON_VALUE(${receipts.facts}, '$.freed.allocatedBytes')), 0)`.mapWith(Number),
    })
    .from(receipts)
    .where(within(receipts.at, span))
    .groupBy(receipts.action)
    .orderBy(receipts.action);
}

/** The latest first. */
async function doneIn(db: Db, span: Span): Promise<Done[]> {
  const rows = await db.select().from(receipts).where(within(receipts.at, span)).orderBy(desc(receipts.id)).limit(MOST);
  return rows.map(({ id, at, who, action, title, files, bytes, held }) => ({
    ...{ receiptId: id, atMs: at.getTime(), who, action, title, files, bytes, held },
    byItself: BY_ITSELF.includes(who),
  }));
}

/** Work that did not come to its end, and rules that could not begin. */
async function failedIn(db: Db, span: Span): Promise<Failed[]> {
  const rows = await db
    .select()
    .from(jobs)
    .where(and(eq(jobs.state, 'failed'), within(jobs.finishedAt, span)))
    .orderBy(desc(jobs.id))
    .limit(MOST);
  const rules = (await keptRules(db)).filter(
    ({ ranAtMs, said }) => ranAtMs !== null && ranAtMs >= span.fromMs && said !== null && !said.startsWith('Took '),
  );
  return [
    ...rows.map(({ finishedAt, who, title, trouble }) => ({
      ...{ atMs: finishedAt!.getTime(), who, title },
      why: trouble ?? 'It did not say why.',
    })),
    ...rules.map(({ ranAtMs, words, said }) => ({ atMs: ranAtMs!, who: NIGHT_RULES, title: words, why: said! })),
  ];
}

async function readIn(db: Db, span: Span): Promise<{ volumes: number }> {
  const [row] = await db
    .select({ n: sql`COUNT(*)`.mapWith(Number) })
    .from(jobs)
    .where(and(eq(jobs.kind, 'read volume'), eq(jobs.state, 'done'), within(jobs.finishedAt, span)));
  return { volumes: row!.n };
}

async function snapshotsIn(db: Db, span: Span): Promise<{ documents: number; snapshots: number }> {
  const [row] = await db
    .select({
      documents: sql`COUNT(DISTINCT ${snapshots.fileId})`.mapWith(Number),
      snapshots: sql`COUNT(*)`.mapWith(Number),
    })
    .from(snapshots)
    .where(and(inArray(snapshots.state, ['kept', 'going']), within(snapshots.takenAt, span)));
  return row!;
}

/** An archive is sure where it has the copies that the house wants, and every one of them was read back whole. */
async function shelfOf(db: Database): Promise<Morning['shelf']> {
  const sealed = (await archiveRows(db)).filter((row) => row.state === 'sealed');
  const good = sealed.flatMap((row) => row.copies.filter((copy) => copy.state === 'good'));
  const times = good.map((copy) => copy.readBackMs ?? 0);
  const isDamaged = (row: (typeof sealed)[number]) => row.copies.some((copy) => copy.state === 'damaged');
  return {
    archives: sealed.length,
    sure: sealed.filter((row) => row.short === null && !isDamaged(row)).length,
    damaged: sealed.filter(isDamaged).length,
    short: sealed.filter((row) => row.short !== null).length,
    oldestReadBackMs: times.length === 0 ? null : Math.min(...times) || null,
  };
}
