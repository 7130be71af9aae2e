// How fast archives were written and read back here, and media encoded anew; a cautious guess before there is any.
import { and, eq, like, sql } from 'drizzle-orm';
import { z } from 'zod';
import { type Encoding, GUESSED_PACE } from '#core/archive/encoding.ts';
import type { Rates } from '#core/archive/selection.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { archiveFiles, archives } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { site } from '../db/schema/site.ts';

const GUESS = { write: 200e6, readBack: 400e6 };

/** Bytes a second. A finished job's total counts every byte twice, once written and once read back. Those that encoded something took longer. */
export async function measuredRates(db: Db): Promise<Rates & { measured: boolean }> {
  const [encode, rows] = await Promise.all([
    encodingPaces(db),
    db
      .select({
        bytes: jobs.total,
        seconds: sql`TIMESTAMPDIFF(MICROSECOND, ${jobs.startedAt}, ${jobs.finishedAt}) / 1e6`.mapWith(Number),
      })
      .from(jobs)
      .where(
        and(
          ...[eq(jobs.kind, 'archive'), eq(jobs.state, 'done'), eq(jobs.attempts, 1)],
          sql`NOT EXISTS (SELECT 1 FROM ${archives} a JOIN ${archiveFiles} f ON f.archive_id = a.id AND f.role = 'encoded' WHERE a.job_id = ${jobs}.id)`,
        ),
      )
      .orderBy(sql`${jobs.id} DESC`)
      .limit(20),
  ]);
  const [bytes, seconds] = rows.reduce(([b, s], row) => [b + row.bytes, s + row.seconds], [0, 0]);
  if (bytes === 0 || seconds <= 0) return { ...GUESS, encode, measured: false };
  // Only their sum is measured, so both are given the same rate.
  const rate = bytes / seconds;
  return { write: rate, readBack: rate, encode, measured: true };
}

const PACE = 'encoding took ';
const pace = z.object({ work: z.number().positive(), seconds: z.number().positive() });
/** What is older than as much counts half with every new one: machines change. */
const REMEMBERS_SECONDS = 3600;

async function encodingPaces(db: Db): Promise<Record<Encoding, number>> {
  const rows = await db
    .select()
    .from(site)
    .where(like(site.key, `${PACE}%`));
  const known = new Map(rows.map(({ key, value }) => [key, pace.safeParse(JSON.parse(value)).data]));
  const of = (encoding: Encoding): number => {
    const measured = known.get(PACE + encoding);
    return measured ? measured.work / measured.seconds : GUESSED_PACE[encoding];
  };
  return { lossless: of('lossless'), viewing: of('viewing') };
}

/** Something was encoded, and took so long. */
export async function addEncodingPace(
  tx: Transaction,
  encoding: Encoding,
  now: { work: number; seconds: number },
): Promise<void> {
  if (now.work <= 0 || now.seconds <= 0) return;
  const key = PACE + encoding;
  const [row] = await tx.select().from(site).where(eq(site.key, key)).for('update');
  const before = row ? pace.safeParse(JSON.parse(row.value)).data : undefined;
  const weight = before && before.seconds > REMEMBERS_SECONDS ? 0.5 : 1;
  const value = JSON.stringify({
    work: now.work + (before?.work ?? 0) * weight,
    seconds: now.seconds + (before?.seconds ?? 0) * weight,
  });
  await tx.insert(site).values({ key, value }).onDuplicateKeyUpdate({ set: { value } });
}
