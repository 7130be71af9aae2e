// Jobs as the tray shows them, and asking for a volume to be read.
import { and, desc, eq, inArray, isNull, notInArray, or, sql } from 'drizzle-orm';
import type { FolderId, JobId, VolumeId } from '#core/model.ts';
import { idList } from '../db/conditions.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { folders } from '../db/schema/catalogue.ts';
import { jobs, jobStores } from '../db/schema/jobs.ts';
import { volumes } from '../db/schema/stores.ts';
import { volumeSums } from '../db/schema/sums.ts';
import { openQuestions, type Question } from '../runtime/questions.ts';
import { enqueue, type Job } from '../runtime/queue.ts';
import { storesOfReading } from '../readings/reading-work.ts';
import { Refused } from '../runtime/refused.ts';
import { begunMs } from './night-hours.ts';

export interface JobRow {
  jobId: JobId;
  kind: Job['kind'];
  title: string;
  state: Job['state'];
  phase: string;
  unit: 'bytes' | 'files';
  done: number;
  total: number;
  rate: number;
  cancelAsked: boolean;
  trouble: string | null;
  who: string;
  createdMs: number;
  finishedMs: number | null;
  /** What no worker reaches now, and it cannot begin without. */
  waitsFor: Awaited[];
  /** It waits for what takes its time, and is looked at again by itself. */
  isPutOff: boolean;
  /** What it asks of people; it waits for their answer. */
  question: Question | null;
}

/** A volume or carrier that somebody has to connect. */
export interface Awaited {
  store: 'volume' | 'carrier';
  id: number;
  name: string;
  /** Where to look for it: its place, or who has it; empty of a volume. */
  where: string;
}

/** What runs or waits, and the last that ended. */
export async function jobRows(db: Database, ended = 12): Promise<JobRow[]> {
  const open = await db
    .select()
    .from(jobs)
    .where(and(inArray(jobs.state, ['queued', 'running']), eq(jobs.quiet, false)))
    .orderBy(jobs.id);
  const past = await db
    .select()
    .from(jobs)
    .where(and(inArray(jobs.state, ['done', 'failed', 'cancelled']), eq(jobs.quiet, false)))
    .orderBy(desc(jobs.id))
    .limit(ended);
  const awaited = await awaitedBy(
    db,
    open.filter((job) => job.state === 'queued').map((job) => job.id),
  );
  const asked = await openQuestions(
    db,
    open.map((job) => job.id),
  );
  return [...open, ...past].map((job) => ({
    isPutOff: job.state === 'queued' && job.notBefore !== null && job.notBefore.getTime() > Date.now(),
    question: job.cancelAsked ? null : (asked.get(job.id) ?? null),
    waitsFor: awaited.get(job.id) ?? [],
    jobId: job.id as JobId,
    kind: job.kind,
    title: job.title,
    state: job.state,
    phase: job.phase,
    unit: job.unit,
    done: job.done,
    total: job.total,
    rate: job.rate,
    cancelAsked: job.cancelAsked,
    trouble: job.trouble,
    who: job.who,
    createdMs: job.createdAt.getTime(),
    finishedMs: job.finishedAt?.getTime() ?? null,
  }));
}

/** Stores that are not in reach, by the job that needs them. */
async function awaitedBy(db: Database, jobIds: readonly number[]): Promise<Map<number, Awaited[]>> {
  if (jobIds.length === 0) return new Map();
  const [rows] = (await db.execute(sql`
    SELECT s.job_id AS jobId, 'carrier' AS store, c.id, c.name, IF(c.lent_to IS NULL, c.place, CONCAT('lent to ', c.lent_to)) AS \`where\`
      FROM job_stores s JOIN carriers c ON c.id = s.store_id AND c.state <> 'reachable' WHERE s.store = 'carrier' AND s.job_id IN ${idList(jobIds)}
    UNION ALL SELECT s.job_id, 'volume', v.id, v.name, '' FROM job_stores s JOIN volumes v ON v.id = s.store_id AND v.state <> 'reachable'
      WHERE s.store = 'volume' AND s.job_id IN ${idList(jobIds)} ORDER BY name`)) as unknown as [
    (Awaited & { jobId: number })[],
  ];
  const found = new Map<number, Awaited[]>();
  for (const { jobId, ...one } of rows)
    found.set(Number(jobId), [...(found.get(Number(jobId)) ?? []), { ...one, id: Number(one.id) }]);
  return found;
}

/** Puts in a reading for each of these volumes that has none waiting or running. */
export async function askToRead(
  db: Database,
  asked: readonly VolumeId[],
  { who, now }: { who: string; now: Date },
): Promise<number> {
  const chosen = await db
    .select()
    .from(volumes)
    .where(
      and(
        isNull(volumes.retiredAt),
        // All stands for all that are there: work for one that is away would wait for it.
        asked.length > 0 ? inArray(volumes.id, [...asked]) : notInArray(volumes.state, ['unreachable', 'swapped']),
      ),
    );
  if (chosen.length === 0) throw new Refused('No volume is chosen that could be read. Nothing was changed.');
  let put = 0;
  for (const volume of chosen) {
    const [waiting] = await db
      .select({ id: jobs.id })
      .from(jobs)
      .innerJoin(jobStores, eq(jobStores.jobId, jobs.id))
      .where(
        sql`${jobs.kind} = 'read volume' AND ${or(eq(jobs.state, 'queued'), eq(jobs.state, 'running'))} AND ${jobStores.store} = 'volume' AND ${jobStores.storeId} = ${volume.id}`,
      );
    if (waiting) continue;
    const [known] = await db
      .select({ files: sql`COALESCE(SUM(${volumeSums.files}), 0)`.mapWith(Number) })
      .from(volumeSums)
      .where(eq(volumeSums.volumeId, volume.id));
    await inTransaction(db, (tx) =>
      enqueue(
        tx,
        {
          kind: 'read volume',
          title: `Read ${volume.name}`,
          params: { volumeId: volume.id, expectedFiles: known!.files },
          who,
          stores: storesOfReading(volume.id),
        },
        now,
      ),
    );
    put++;
  }
  return put;
}

/** Puts in the reading of one folder and what lies below it. */
export async function askToReadFolder(
  db: Database,
  folderId: FolderId,
  { who, now }: { who: string; now: Date },
): Promise<void> {
  const [row] = await db
    .select({ path: folders.path, files: folders.totalFiles, volumeId: volumes.id, volume: volumes.name })
    .from(folders)
    .innerJoin(volumes, eq(volumes.id, folders.volumeId))
    .where(and(eq(folders.id, folderId), isNull(volumes.retiredAt)));
  if (!row) throw new Refused('There is no such folder on a volume in use. Nothing was changed.');
  if (row.path === '') return void (await askToRead(db, [row.volumeId as VolumeId], { who, now }));
  await inTransaction(db, (tx) =>
    enqueue(
      tx,
      {
        kind: 'read volume',
        title: `Read ${row.path} on ${row.volume}`.slice(0, 500),
        params: { volumeId: row.volumeId, folder: row.path, expectedFiles: row.files },
        who,
        stores: storesOfReading(row.volumeId),
      },
      now,
    ),
  );
}

/** Puts in readings of the volumes that are reachable and were last read longer ago than they should be. */
export async function askForDue(db: Database, reached: readonly number[], now: Date): Promise<number> {
  if (reached.length === 0 || (await begunMs(db, 'readings', now)) === null) return 0;
  const due = await db
    .select({ id: volumes.id })
    .from(volumes)
    .where(
      and(
        inArray(volumes.id, [...reached]),
        isNull(volumes.retiredAt),
        sql`${volumes.readEveryHours} IS NOT NULL AND (${volumes.readAt} IS NULL OR ${volumes.readAt} > ${now} + INTERVAL 1 HOUR OR ${volumes.readAt} < ${now} - INTERVAL ${volumes.readEveryHours} HOUR)`,
      ),
    );
  if (due.length === 0) return 0;
  return askToRead(
    db,
    due.map((volume) => volume.id as VolumeId),
    { who: 'the schedule', now },
  );
}
