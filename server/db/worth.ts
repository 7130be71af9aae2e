// Which assessment counts, and files that leave it: whoever takes files away takes them out of it in the same transaction.
import { eq } from 'drizzle-orm';
import type { Connection, RowDataPacket } from 'mysql2/promise';
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

/** Works the rollups of an assessment out from its files: all of them, or the lines of some folders and what hangs on them. */
export async function sumWorth(connection: Connection, run: number, folderIds?: readonly number[]): Promise<void> {
  const some = folderIds ? ' AND folder_id IN (?)' : '';
  const given = folderIds ? [run, folderIds] : [run];
  await connection.query(
    `INSERT INTO worth_lines (run, what, volume_id, folder_id, project_id, level, reason, files, bytes, day)
     SELECT run, what, MIN(volume_id), folder_id, project_id, level, reason, COUNT(*), SUM(size_bytes), MAX(day) FROM worth WHERE run = ?${some}
     GROUP BY run, folder_id, what, project_id, level, reason`,
    given,
  );
}

export async function forgetWorth(tx: Transaction, fileIds: readonly number[]): Promise<void> {
  const current = await currentAssessment(tx);
  if (!current) return;
  const { $connection: connection } = tx;
  const { run } = current;
  for (const ids of inSlices(fileIds)) {
    const [rows] = await connection.query<RowDataPacket[]>(
      'SELECT DISTINCT folder_id AS id FROM worth WHERE run = ? AND file_id IN (?)',
      [run, ids],
    );
    if (rows.length === 0) continue;
    const folders = rows.map((row) => Number(row.id));
    await connection.query('DELETE FROM worth WHERE run = ? AND file_id IN (?)', [run, ids]);
    await addToSums(connection, { run, folders, sign: -1 });
    await connection.query('DELETE FROM worth_lines WHERE run = ? AND folder_id IN (?)', [run, folders]);
    await sumWorth(connection, run, folders);
    await addToSums(connection, { run, folders, sign: 1 });
    await connection.query('DELETE FROM worth_sums WHERE run = ? AND files = 0', [run]);
  }
}

/** Adds what the lines of these folders say, or takes it away. */
async function addToSums(
  connection: Connection,
  { run, folders, sign }: { run: number; folders: readonly number[]; sign: 1 | -1 },
): Promise<void> {
  await connection.query(
    `INSERT INTO worth_sums (run, what, volume_id, project_id, level, files, bytes)
     SELECT run, what, volume_id, project_id, level, ? * SUM(files), ? * SUM(bytes) FROM worth_lines WHERE run = ? AND folder_id IN (?)
     GROUP BY run, what, volume_id, project_id, level
     ON DUPLICATE KEY UPDATE files = worth_sums.files + VALUES(files), bytes = worth_sums.bytes + VALUES(bytes)`,
    [sign, sign, run, folders],
  );
}

/** The same for lines of folders that hold no file. */
export async function forgetFolderLines(tx: Transaction, folderIds: readonly number[]): Promise<void> {
  const current = await currentAssessment(tx);
  if (!current) return;
  const { $connection: connection } = tx;
  const { run } = current;
  for (const folders of inSlices(folderIds)) {
    await addToSums(connection, { run, folders, sign: -1 });
    await connection.query('DELETE FROM worth_lines WHERE run = ? AND folder_id IN (?)', [run, folders]);
  }
  await connection.query('DELETE FROM worth_sums WHERE run = ? AND files = 0', [run]);
}
