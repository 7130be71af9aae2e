// How fast archives were written and read back here, from the sealed ones; a cautious guess before there is any.
import { sql } from 'drizzle-orm';
import { and, eq } from 'drizzle-orm';
import type { Db } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';

const GUESS = { write: 200e6, readBack: 400e6 };

/** Bytes a second. A finished job's total counts every byte twice, once written and once read back. */
export async function measuredRates(db: Db): Promise<{ write: number; readBack: number; measured: boolean }> {
  const rows = await db
    .select({
      bytes: jobs.total,
      seconds: sql`TIMESTAMPDIFF(MICROSECOND, ${jobs.startedAt}, ${jobs.finishedAt}) / 1e6`.mapWith(Number),
    })
    .from(jobs)
    .where(and(eq(jobs.kind, 'archive'), eq(jobs.state, 'done'), eq(jobs.attempts, 1)))
    .orderBy(sql`${jobs.id} DESC`)
    .limit(20);
  const [bytes, seconds] = rows.reduce(([b, s], row) => [b + row.bytes, s + row.seconds], [0, 0]);
  if (bytes === 0 || seconds <= 0) return { ...GUESS, measured: false };
  // Only their sum is measured, so both are given the same rate.
  const rate = bytes / seconds;
  return { write: rate, readBack: rate, measured: true };
}
