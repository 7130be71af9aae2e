// Which assessment counts, and files that leave it: whoever takes files away takes them out of it in the same transaction.
import { eq } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import type { Db, Transaction } from './connect.ts';
import { inSlices } from './holdings.ts';
import { site } from './schema/site.ts';

const KEY = 'assessment';

export interface Assessment {
  run: number;
  atMs: number;
  /** What the catalogue had when it was made; see server/reclaim/assess.ts. */
  marks: string;
  tookMs: number;
}

/** The assessment that counts; null before the first. */
export async function currentAssessment(db: Db): Promise<Assessment | null> {
  const [row] = await db.select().from(site).where(eq(site.key, KEY));
  return row ? (JSON.parse(row.value) as Assessment) : null;
}

export async function setAssessment(tx: Transaction, assessment: Assessment): Promise<void> {
  const value = JSON.stringify(assessment);
  await tx.insert(site).values({ key: KEY, value }).onDuplicateKeyUpdate({ set: { value } });
}

export async function forgetWorth(tx: Transaction, fileIds: readonly number[]): Promise<void> {
  const current = await currentAssessment(tx);
  if (!current) return;
  const { $connection: connection } = tx;
  for (const ids of inSlices(fileIds)) {
    const [sums] = await connection.query<RowDataPacket[]>(
      'SELECT what, volume_id, project_id, level, COUNT(*) AS files, SUM(size_bytes) AS bytes FROM worth WHERE run = ? AND file_id IN (?) GROUP BY 1, 2, 3, 4 ORDER BY 1, 2, 3, 4',
      [current.run, ids],
    );
    if (sums.length === 0) continue;
    await connection.query('DELETE FROM worth WHERE run = ? AND file_id IN (?)', [current.run, ids]);
    for (const sum of sums)
      await connection.query(
        'UPDATE worth_sums SET files = files - ?, bytes = bytes - ? WHERE run = ? AND what = ? AND volume_id = ? AND project_id = ? AND level = ?',
        [sum.files, sum.bytes, current.run, sum.what, sum.volume_id, sum.project_id, sum.level],
      );
    await connection.query('DELETE FROM worth_sums WHERE run = ? AND files = 0', [current.run]);
  }
}
