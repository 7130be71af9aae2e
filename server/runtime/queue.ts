// Jobs as rows: put in, leased by a worker, kept alive by its heartbeat, ended once. A worker whose lease ran out finds
// out at its next heartbeat and stops; another one goes on where the journal ends.
import { randomUUID } from 'node:crypto';
import { and, eq, sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import type { JobId } from '#core/model.ts';
import { type Database, type Db, withConnection } from '../db/connect.ts';
import { jobs, jobStores } from '../db/schema/jobs.ts';

export type Job = typeof jobs.$inferSelect;
export type JobKind = Job['kind'];

export interface NewJob {
  kind: JobKind;
  title: string;
  params: Record<string, unknown>;
  who: string;
  stepId?: number;
  volumes: readonly number[];
  carriers?: readonly number[];
}

export async function enqueue(db: Db, job: NewJob, now: Date): Promise<JobId> {
  const { volumes, carriers = [], ...row } = job;
  const [{ insertId }] = await db.insert(jobs).values({ ...row, createdAt: now });
  const stores = [
    ...[...new Set(volumes)].map((storeId) => ({ jobId: insertId, store: 'volume' as const, storeId })),
    ...[...new Set(carriers)].map((storeId) => ({ jobId: insertId, store: 'carrier' as const, storeId })),
  ];
  if (stores.length > 0) await db.insert(jobStores).values(stores);
  return insertId as JobId;
}

export interface Claimer {
  worker: string;
  reached: { volumes: readonly number[]; carriers: readonly number[] };
  leaseSeconds: number;
  now: Date;
}

/**
 * Leases the oldest job that this worker can do: queued, or running with a lease that ran out; on stores it reaches.
 * Two jobs never write to one carrier at a time, and one volume is read by one reader at a time.
 */
export async function claimJob(db: Database, { worker, reached, leaseSeconds, now }: Claimer): Promise<Job | null> {
  const lease = randomUUID();
  const none = [-1];
  const id = await withConnection(db, async (connection) => {
    const [rows] = await connection.query<RowDataPacket[]>(
      `SELECT j.id FROM jobs j
       WHERE (j.state = 'queued' OR (j.state = 'running' AND j.lease_until < ?))
         AND NOT EXISTS (SELECT 1 FROM job_stores s WHERE s.job_id = j.id AND ((s.store = 'volume' AND s.store_id NOT IN (?)) OR (s.store = 'carrier' AND s.store_id NOT IN (?))))
         AND NOT EXISTS (SELECT 1 FROM job_stores a JOIN job_stores b ON b.store = a.store AND b.store_id = a.store_id AND b.job_id <> a.job_id JOIN jobs r ON r.id = b.job_id
           WHERE a.job_id = j.id AND r.state = 'running' AND r.lease_until >= ? AND (a.store = 'carrier' OR (j.kind = 'read volume' AND r.kind = 'read volume')))
       ORDER BY j.id LIMIT 1 FOR UPDATE SKIP LOCKED`,
      [now, reached.volumes.length ? reached.volumes : none, reached.carriers.length ? reached.carriers : none, now],
    );
    if (!rows[0]) return null;
    await connection.query(
      "UPDATE jobs SET state = 'running', worker = ?, lease = ?, lease_until = ?, attempts = attempts + 1, started_at = COALESCE(started_at, ?) WHERE id = ?",
      [worker, lease, new Date(now.getTime() + leaseSeconds * 1000), now, rows[0].id],
    );
    return Number(rows[0].id);
  });
  if (id === null) return null;
  const [job] = await db.select().from(jobs).where(eq(jobs.id, id));
  return job ?? null;
}

/** The work is no longer ours: another worker took it after our lease ran out. Nothing more may be written. */
export class LeaseLost extends Error {
  override readonly name = 'LeaseLost';
}

export interface Beat {
  done: number;
  total: number;
  rate: number;
  phase: string;
  unit: 'bytes' | 'files';
}

/** Prolongs the lease and tells progress. Returns whether the job should be cancelled. Throws LeaseLost. */
export async function heartbeat(
  db: Database,
  job: Job,
  beat: Beat,
  leaseSeconds: number,
): Promise<{ cancel: boolean }> {
  const leaseUntil = new Date(Date.now() + leaseSeconds * 1000);
  const [result] = await db
    .update(jobs)
    .set({ ...beat, leaseUntil })
    .where(and(eq(jobs.id, job.id), eq(jobs.lease, job.lease!)));
  if (result.affectedRows === 0) throw new LeaseLost();
  const [row] = await db.select({ cancel: jobs.cancelAsked }).from(jobs).where(eq(jobs.id, job.id));
  return { cancel: row?.cancel ?? false };
}

/** Gives a lease back, if it is still ours, so that the next worker need not wait for it to run out. */
export async function releaseLease(db: Database, job: Job): Promise<void> {
  await db
    .update(jobs)
    .set({ leaseUntil: new Date(0) })
    .where(and(eq(jobs.id, job.id), eq(jobs.lease, job.lease!)));
}

/** Ends a job in the given transaction, if it is still ours. */
export async function endJob(
  tx: Db,
  job: Job,
  end: { state: 'done' | 'failed' | 'cancelled'; trouble?: string },
): Promise<void> {
  const [result] = await tx
    .update(jobs)
    .set({
      state: end.state,
      trouble: end.trouble ?? null,
      finishedAt: new Date(),
      lease: null,
      leaseUntil: null,
      rate: 0,
      ...(end.state === 'done' ? { done: sql`${jobs.total}` } : {}),
    })
    .where(and(eq(jobs.id, job.id), eq(jobs.lease, job.lease!)));
  if (result.affectedRows === 0) throw new LeaseLost();
  if (job.stepId !== null) await endPlanIfDone(tx, job.stepId);
}

async function endPlanIfDone(tx: Db, stepId: number): Promise<void> {
  await tx.execute(sql`
    UPDATE plans p JOIN steps s ON s.plan_id = p.id SET p.state = 'done', p.done_at = UTC_TIMESTAMP(3)
    WHERE s.id = ${stepId} AND p.state = 'running' AND NOT EXISTS (
      SELECT 1 FROM steps t JOIN jobs j ON j.id = t.job_id WHERE t.plan_id = p.id AND j.state IN ('queued', 'running'))`);
}

/** Asks for a job to end early. A queued one ends at once; a running one at its worker's next step. */
export async function cancelJob(db: Database, jobId: JobId): Promise<void> {
  await db.transaction(async (tx) => {
    const [job] = await tx.select().from(jobs).where(eq(jobs.id, jobId)).for('update');
    if (!job) return;
    if (job.state === 'queued') {
      await tx
        .update(jobs)
        .set({ state: 'cancelled', cancelAsked: true, finishedAt: new Date() })
        .where(eq(jobs.id, jobId));
      if (job.stepId !== null) await endPlanIfDone(tx, job.stepId);
    } else if (job.state === 'running') await tx.update(jobs).set({ cancelAsked: true }).where(eq(jobs.id, jobId));
  });
}
