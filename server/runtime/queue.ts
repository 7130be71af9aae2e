// Jobs as rows: put in, leased by a worker, kept alive by its heartbeat, ended once. Time is the database's alone: no
// worker's clock decides whose a job is. Stores are claimed by locking their rows in order of id, so that of all workers
// that look at a store at a time one goes first: shared for looking, alone for changing.
import { randomUUID } from 'node:crypto';
import { and, eq, sql } from 'drizzle-orm';
import type { PoolConnection, RowDataPacket } from 'mysql2/promise';
import type { JobId } from '#core/model.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { jobs, jobStores, type STORES } from '../db/schema/jobs.ts';
import { Refused } from './refused.ts';

export type Job = typeof jobs.$inferSelect;

/** What a job needs, and whether it changes it. A volume's 'catalogue' is what the tables say of its files. */
export interface StoreNeed {
  store: (typeof STORES)[number];
  id: number;
  mode: 'look' | 'change';
}

export interface NewJob {
  kind: string;
  title: string;
  params: Record<string, unknown>;
  who: string;
  stepId?: number;
  quiet?: boolean;
  stores: readonly StoreNeed[];
}

/** Within a transaction: a job seen before its stores are written down would be taken by anybody, beside anybody. */
export async function enqueue(tx: Transaction, job: NewJob, now: Date): Promise<JobId> {
  const { stores, ...row } = job;
  const [{ insertId }] = await tx
    .insert(jobs)
    .values({ ...row, title: row.title.slice(0, 500), mark: randomUUID(), createdAt: now });
  const needs = oncePerStore(stores);
  if (needs.length > 0)
    await tx
      .insert(jobStores)
      .values(needs.map(({ store, id, mode }) => ({ jobId: insertId, store, storeId: id, mode })));
  return insertId as JobId;
}

/** Each store once; changing it covers looking at it. */
export function oncePerStore(needs: readonly StoreNeed[]): StoreNeed[] {
  const all = new Map<string, StoreNeed>();
  for (const need of needs) {
    const key = `${need.store} ${need.id}`;
    if (all.get(key)?.mode !== 'change') all.set(key, need);
  }
  return [...all.values()];
}

export interface Claimer {
  worker: string;
  reached: { volumes: readonly number[]; carriers: readonly number[] };
  leaseSeconds: number;
  /** Kinds of carriers that are wound: two that read one at once would wind it to and fro. */
  woundKinds?: readonly string[];
  /** Carriers that are in a drive because this worker read them last: what else is asked of them comes first. */
  inDrive?: readonly number[];
  /** Only this job: of somebody who waits for it, for example the command. */
  only?: JobId;
}

/** Nothing is asked of people and nothing is waited for, or they want it to end: of jobs j. */
const IS_DUE = `(j.cancel_asked = 1 OR ((j.not_before IS NULL OR j.not_before <= UTC_TIMESTAMP(3))
  AND NOT EXISTS (SELECT 1 FROM job_questions q WHERE q.job_id = j.id AND q.answer IS NULL)))`;

/** How many jobs are tried in turn before the worker looks again later: of those whose stores nobody has. */
const CANDIDATES = 20;
const IN_SECONDS = 'UTC_TIMESTAMP(3) + INTERVAL ? MICROSECOND';
const micros = (seconds: number) => Math.round(seconds * 1_000_000);

/** So long what came first may wait for what is asked of a tape that is in a drive. */
const MOST_BEFORE_MINUTES = 60;

/** Several requests for one tape go one after the other, so that it is loaded once; nobody waits for that for ever. */
const IN_DRIVE_FIRST = `(j.created_at > UTC_TIMESTAMP(3) - INTERVAL ${MOST_BEFORE_MINUTES} MINUTE AND NOT EXISTS
  (SELECT 1 FROM job_stores s WHERE s.job_id = j.id AND s.store = 'carrier' AND s.store_id IN (?)))`;

/**
 * Leases the oldest job that this worker can do: queued, or running with a lease that ran out; on stores it reaches and
 * nobody else has. Null where there is none now.
 */
export async function claimJob(db: Database, claimer: Claimer): Promise<Job | null> {
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    `SELECT id, later, busy FROM (
       SELECT x.*, ROW_NUMBER() OVER (PARTITION BY x.later, x.busy ORDER BY x.id) AS nth FROM (
         SELECT j.id, ${IN_DRIVE_FIRST} AS later, EXISTS (${hasStoresOf('j.id')}) AS busy FROM jobs j
         WHERE (j.state = 'queued' OR (j.state = 'running' AND j.lease_until < UTC_TIMESTAMP(3))) AND ${IS_DUE} ${claimer.only ? 'AND j.id = ?' : ''}
           AND NOT EXISTS (SELECT 1 FROM job_stores s WHERE s.job_id = j.id AND ((s.store = 'carrier' AND s.store_id NOT IN (?)) OR (s.store = 'volume' AND s.store_id NOT IN (?))))) x) y
     WHERE nth <= ${CANDIDATES} AND NOT (later AND busy) ORDER BY later, busy, id`,
    [
      claimer.inDrive?.length ? claimer.inDrive : [-1],
      kindsOf(claimer),
      ...(claimer.only ? [claimer.only] : []),
      claimer.reached.carriers.length > 0 ? claimer.reached.carriers : [-1],
      claimer.reached.volumes.length > 0 ? claimer.reached.volumes : [-1],
    ],
  );
  const leased = (row: RowDataPacket) => inTransaction(db, (tx) => lease(tx, Number(row.id), claimer));
  const ahead: RowDataPacket[] = [];
  for (const row of rows) {
    if (Number(row.later) === 1 && ahead.length > 0) {
      if (!(await inTransaction(db, (tx) => couldRun(tx, Number(row.id), claimer)))) continue;
      // What made this one free may have made free what comes before it, which was tried a moment ago.
      for (const before of ahead.splice(0)) {
        const job = await leased(before);
        if (job) return job;
      }
    }
    // What waits for a store that somebody has is not tried: with a night of many on one carrier that would be most of the work.
    const job = Number(row.busy) === 1 ? null : await leased(row);
    if (job) return job;
    if (Number(row.later) === 0) ahead.push(row);
  }
  return null;
}

/** Other living work that has a store of a job's in a way that does not go together with that; asks for kindsOf last. */
const hasStoresOf = (jobId: string): string =>
  `SELECT 1 FROM job_stores a JOIN job_stores b ON b.store = a.store AND b.store_id = a.store_id AND b.job_id <> a.job_id JOIN jobs r ON r.id = b.job_id
   WHERE a.job_id = ${jobId} AND r.state = 'running' AND r.lease_until >= UTC_TIMESTAMP(3) AND (a.mode = 'change' OR b.mode = 'change'
     OR (a.store = 'carrier' AND EXISTS (SELECT 1 FROM carriers c WHERE c.id = a.store_id AND c.kind IN (?))))`;

const kindsOf = ({ woundKinds = [] }: Pick<Claimer, 'woundKinds'>): readonly string[] =>
  woundKinds.length > 0 ? woundKinds : [''];

class StoresBusy extends Error {}

/** Puts a job in and leases it in the same breath; null, and nothing put in, where somebody has its stores. */
export async function claimNew(
  db: Database,
  job: NewJob,
  claimer: Pick<Claimer, 'worker' | 'leaseSeconds' | 'woundKinds'>,
): Promise<Job | null> {
  try {
    return await inTransaction(db, async (tx) => {
      const leased = await lease(tx, await enqueue(tx, job, new Date()), claimer);
      if (!leased) throw new StoresBusy();
      return leased;
    });
  } catch (error) {
    if (error instanceof StoresBusy) return null;
    throw error;
  }
}

/** Locks it and the rows of its stores, where it is there to be taken and they are free. */
async function couldRun(
  { $connection: connection }: Transaction,
  jobId: number,
  { woundKinds }: Pick<Claimer, 'woundKinds'>,
): Promise<{ crashed: boolean } | null> {
  const [rows] = await connection.query<RowDataPacket[]>(
    `SELECT state = 'running' AS crashed FROM jobs WHERE id = ? AND (state = 'queued' OR (state = 'running' AND lease_until < UTC_TIMESTAMP(3))) FOR UPDATE SKIP LOCKED`,
    [jobId],
  );
  if (!rows[0] || !(await storesAreFree(connection, jobId, woundKinds))) return null;
  return { crashed: Number(rows[0].crashed) === 1 };
}

async function lease(
  tx: Transaction,
  jobId: number,
  { worker, leaseSeconds, woundKinds }: Pick<Claimer, 'worker' | 'leaseSeconds' | 'woundKinds'>,
): Promise<Job | null> {
  const { $connection: connection } = tx;
  const free = await couldRun(tx, jobId, { woundKinds });
  if (!free) return null;
  await connection.query(
    `UPDATE jobs SET state = 'running', worker = ?, lease = ?, lease_until = ${IN_SECONDS}, attempts = attempts + 1, crashes = crashes + ?, started_at = COALESCE(started_at, UTC_TIMESTAMP(3)) WHERE id = ?`,
    [worker, randomUUID(), micros(leaseSeconds), Number(free.crashed), jobId],
  );
  const [job] = await tx.select().from(jobs).where(eq(jobs.id, jobId));
  return job ?? null;
}

/**
 * Locks the rows of the stores that a job needs, in order of id, and says whether no other living job has them in a way
 * that does not go together with this one's. Whoever asks next waits until the transaction ends, and then sees this one.
 */
async function storesAreFree(
  connection: PoolConnection,
  jobId: number,
  woundKinds: readonly string[] = [],
): Promise<boolean> {
  for (const [table, stores] of [
    ['volumes', "('volume', 'catalogue')"],
    ['carriers', "('carrier')"],
  ])
    await connection.query(
      `SELECT id FROM ${table} WHERE id IN (SELECT store_id FROM job_stores WHERE job_id = ? AND store IN ${stores}) ORDER BY id FOR UPDATE`,
      [jobId],
    );
  const [others] = await connection.query<RowDataPacket[]>(`${hasStoresOf('?')} LIMIT 1`, [
    jobId,
    kindsOf({ woundKinds }),
  ]);
  return others.length === 0 && (woundKinds.length === 0 || (await drivesAreFree(connection, jobId)));
}

/**
 * Together with what runs it needs no more carriers of a library than that has drives: else they would be changed in them to and
 * fro. What alone needs more than there are is let begin, and says itself what it lacks.
 */
async function drivesAreFree(connection: PoolConnection, jobId: number): Promise<boolean> {
  const [libraries] = await connection.query<RowDataPacket[]>(
    `SELECT JSON_VALUE(c.facts, '$.sharing.drivesOf') AS library, MAX(CAST(JSON_VALUE(c.facts, '$.sharing.drives') AS UNSIGNED)) AS drives,
       SUM(j.id = ?) AS own, SUM(j.id <> ?) AS others, COUNT(DISTINCT c.id) AS together
     FROM job_stores s JOIN jobs j ON j.id = s.job_id JOIN carriers c ON c.id = s.store_id
     WHERE s.store = 'carrier' AND (j.id = ? OR (j.state = 'running' AND j.lease_until >= UTC_TIMESTAMP(3)))
     GROUP BY library HAVING library IS NOT NULL`,
    [jobId, jobId, jobId],
  );
  return libraries.every(
    ({ drives, own, others, together }) =>
      Number(own) === 0 || Number(others) === 0 || Number(together) <= Math.max(1, Number(drives)),
  );
}

/** The work is no longer ours: another worker took it after our lease ran out. Nothing more may be written. */
export class LeaseLost extends Error {
  override readonly name = 'LeaseLost';
}

/**
 * The work waits, for an answer or for what takes its time: nothing of it has ended, nothing that it wrote is thrown away, and
 * whoever takes it next goes on where it was.
 */
export class Waits extends Error {
  override readonly name = 'Waits';
}

/**
 * Locks the job's row and makes sure that it is ours: the first statement of everything that a job writes. A lease that
 * ran out is renewed through the same door by which jobs are claimed. Throws LeaseLost.
 */
export async function holdLease(tx: Transaction, job: Job, leaseSeconds: number): Promise<void> {
  const { $connection: connection } = tx;
  const [rows] = await connection.query<RowDataPacket[]>(
    `SELECT lease_until >= UTC_TIMESTAMP(3) AS fresh FROM jobs WHERE id = ? AND lease = ? AND state = 'running' FOR UPDATE`,
    [job.id, job.lease],
  );
  if (!rows[0] || (!Number(rows[0].fresh) && !(await storesAreFree(connection, job.id)))) throw new LeaseLost();
  await connection.query(`UPDATE jobs SET lease_until = ${IN_SECONDS} WHERE id = ?`, [micros(leaseSeconds), job.id]);
}

export interface Beat {
  done: number;
  total: number;
  rate: number;
  phase: string;
  unit: 'bytes' | 'files';
}

/** Prolongs the lease and tells progress. Returns whether the job should be cancelled. Throws LeaseLost. */
export function heartbeat(db: Database, job: Job, beat: Beat, leaseSeconds: number): Promise<{ cancel: boolean }> {
  return inTransaction(db, async (tx) => {
    await holdLease(tx, job, leaseSeconds);
    await tx.update(jobs).set(beat).where(eq(jobs.id, job.id));
    const [row] = await tx.select({ cancel: jobs.cancelAsked }).from(jobs).where(eq(jobs.id, job.id));
    return { cancel: row?.cancel ?? false };
  });
}

/** Throws LeaseLost unless the job is ours, and stays so for `forMs` more. One look, no lock: right before a file is touched. */
export async function assertLease(db: Database, job: Job, forMs = 0): Promise<void> {
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    `SELECT 1 FROM jobs WHERE id = ? AND lease = ? AND state = 'running' AND lease_until >= UTC_TIMESTAMP(3) + INTERVAL ? MICROSECOND`,
    [job.id, job.lease, forMs * 1000],
  );
  if (rows.length === 0) throw new LeaseLost();
}

/** Something was finished: what gets on is not what ends its workers, so their crashes count anew. */
export const noteProgress = (tx: Db, job: Job): Promise<unknown> =>
  tx.update(jobs).set({ crashes: 0 }).where(eq(jobs.id, job.id));

/** Gives a job back, if it is still ours, so that the next worker need not wait for the lease to run out. */
export async function releaseJob(db: Database, job: Job): Promise<void> {
  await db
    .update(jobs)
    .set({ state: 'queued', lease: null, leaseUntil: null, rate: 0 })
    .where(and(eq(jobs.id, job.id), eq(jobs.lease, job.lease!), eq(jobs.state, 'running')));
}

export interface Ending {
  state: 'done' | 'failed' | 'cancelled';
  trouble?: string;
}

/** Ends a job in the given transaction, if it is still ours. */
export async function endJob(tx: Db, job: Job, end: Ending): Promise<void> {
  const [result] = await tx
    .update(jobs)
    .set({
      state: end.state,
      trouble: end.trouble ?? null,
      finishedAt: sql`UTC_TIMESTAMP(3)`,
      lease: null,
      leaseUntil: null,
      rate: 0,
      ...(end.state === 'done' ? { done: sql`${jobs.total}` } : {}),
    })
    .where(and(eq(jobs.id, job.id), eq(jobs.lease, job.lease!), eq(jobs.state, 'running')));
  if (result.affectedRows === 0) throw new LeaseLost();
  if (job.stepId !== null) await endPlanIfDone(tx, job.stepId);
}

async function endPlanIfDone(tx: Db, stepId: number): Promise<void> {
  await tx.execute(sql`
    UPDATE plans p JOIN steps s ON s.plan_id = p.id SET p.state = 'done', p.done_at = UTC_TIMESTAMP(3)
    WHERE s.id = ${stepId} AND p.state = 'running' AND NOT EXISTS (
      SELECT 1 FROM steps t JOIN jobs j ON j.id = t.job_id WHERE t.plan_id = p.id AND j.state IN ('queued', 'running'))`);
}

/**
 * Asks for a job to end early. One that nobody began ends at once; one that was begun is ended by a worker, which first
 * puts back what is on its way. Throws Refused where there is nothing to end.
 */
export async function cancelJob(db: Database, jobId: JobId): Promise<'ended' | 'asked'> {
  return inTransaction(db, async (tx) => {
    const [job] = await tx.select().from(jobs).where(eq(jobs.id, jobId)).for('update');
    if (!job) throw new Refused('There is no such work. Nothing was changed.');
    if (job.state !== 'queued' && job.state !== 'running')
      throw new Refused(`"${job.title}" has ended already. Nothing was changed.`);
    if (job.startedAt === null && job.state === 'queued') {
      await tx
        .update(jobs)
        .set({ state: 'cancelled', cancelAsked: true, finishedAt: sql`UTC_TIMESTAMP(3)` })
        .where(eq(jobs.id, jobId));
      if (job.stepId !== null) await endPlanIfDone(tx, job.stepId);
      return 'ended';
    }
    await tx.update(jobs).set({ cancelAsked: true }).where(eq(jobs.id, jobId));
    return 'asked';
  });
}
