// Works every sum out anew from what it sums, and compares. What differs is told row by row and can be put right: the
// files themselves are what counts. Called by the check, and after every test that works on a site.
import { sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import type { ProjectId } from '#core/model.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { inSlices, lockFolders, refreshHoldings } from '../db/holdings.ts';
import { projects } from '../db/schema/projects.ts';
import { projectSums, strays } from '../db/schema/sums.ts';
import { recomputeProjectSumsIn } from '../readings/project-sums.ts';

export interface Difference {
  /** Which sum: the name of its table. */
  sum: string;
  /** Whose, in words, with what it is and what it should be. */
  detail: string;
}

const MOST_TOLD = 50;

/** Keys of a rollup, and where its rows come from. */
const ROLLUPS = [
  {
    sum: 'folder_holdings',
    key: 'folder_id, kind, project_id, day',
    from: 'SELECT folder_id, kind, COALESCE(project_id, 0) AS project_id, FLOOR(modified_us / 86400000000) AS day, COUNT(*) AS files, SUM(size_bytes) AS bytes FROM files WHERE gone_at IS NULL GROUP BY 1, 2, 3, 4',
  },
  {
    sum: 'aside_sums',
    key: 'step_id, volume_id, level',
    from: "SELECT step_id, volume_id, level, COUNT(*) AS files, SUM(size_bytes) AS bytes FROM aside WHERE state = 'aside' GROUP BY 1, 2, 3",
  },
  // Empty folders have no file to be summed: their lines stand for themselves.
  {
    sum: 'worth_lines',
    key: 'run, folder_id, what, project_id, level, reason',
    from: "SELECT run, folder_id, what, project_id, level, reason, COUNT(*) AS files, SUM(size_bytes) AS bytes FROM worth WHERE run = (SELECT JSON_VALUE(value, '$.run') FROM site WHERE `key` = 'assessment') GROUP BY 1, 2, 3, 4, 5, 6 UNION ALL SELECT run, folder_id, what, project_id, level, reason, files, bytes FROM worth_lines WHERE what = 'empty folders'",
  },
  {
    sum: 'worth_sums',
    key: 'run, what, volume_id, project_id, level',
    from: "SELECT run, what, volume_id, project_id, level, COUNT(*) AS files, SUM(size_bytes) AS bytes FROM worth WHERE run = (SELECT JSON_VALUE(value, '$.run') FROM site WHERE `key` = 'assessment') GROUP BY 1, 2, 3, 4, 5 UNION ALL SELECT run, what, volume_id, project_id, level, SUM(files), SUM(bytes) FROM worth_lines WHERE what = 'empty folders' GROUP BY 1, 2, 3, 4, 5",
  },
  {
    sum: 'volume_holdings',
    key: 'volume_id, project_id, kind, day',
    from: 'SELECT volume_id, project_id, kind, day, SUM(files) AS files, SUM(bytes) AS bytes FROM folder_holdings GROUP BY 1, 2, 3, 4',
  },
  {
    sum: 'volume_sums',
    key: 'volume_id, project_id, kind',
    from: 'SELECT volume_id, project_id, kind, SUM(files) AS files, SUM(bytes) AS bytes FROM folder_holdings GROUP BY 1, 2, 3',
  },
  {
    sum: 'volume_days',
    key: 'volume_id, day',
    from: 'SELECT volume_id, day, SUM(files) AS files, SUM(bytes) AS bytes FROM folder_holdings GROUP BY 1, 2',
  },
] as const;

/** Every sum that is not what it should be. With `repair` it is made so, in one transaction. */
export async function checkSums(db: Database, { repair = false } = {}): Promise<Difference[]> {
  return inTransaction(db, async (tx) => {
    const found: Difference[] = [];
    for (const rollup of ROLLUPS) {
      const rows = await differingRows(tx, rollup);
      if (repair && rows.length > 0) await repairRollup(tx, rollup, rows);
      found.push(...rows.slice(0, MOST_TOLD).map((row) => told(rollup.sum, row)));
    }
    found.push(...(await checkTotals(tx, repair)));
    found.push(...(await checkFound(tx, repair)));
    found.push(...(await checkProjects(tx, repair)));
    return found;
  });
}

const told = (sum: string, { files, bytes, ...key }: RowDataPacket): Difference => ({
  sum,
  detail: `${Object.entries(key)
    .map(([column, value]) => `${column} ${value}`)
    .join(', ')}: off by ${Number(files)} files and ${Number(bytes)} bytes`,
});

/** Rows of which the rollup and what it sums do not say the same: by how much there should be more. */
async function differingRows(tx: Transaction, { sum, key, from }: (typeof ROLLUPS)[number]): Promise<RowDataPacket[]> {
  const [rows] = await tx.$connection.query<RowDataPacket[]>(
    `SELECT ${key}, SUM(files) AS files, SUM(bytes) AS bytes FROM (
       SELECT * FROM (${from}) should UNION ALL SELECT ${key}, -files, -bytes FROM ${sum}) both_ GROUP BY ${key}
     HAVING SUM(files) <> 0 OR SUM(bytes) <> 0 OR COUNT(*) < 2`,
  );
  return rows;
}

async function repairRollup(tx: Transaction, { sum, key, from }: (typeof ROLLUPS)[number], rows: RowDataPacket[]) {
  if (sum === 'folder_holdings') {
    const ids = [...new Set(rows.map((row) => Number(row.folder_id)))];
    await lockFolders(tx.$connection, ids);
    await refreshHoldings(tx.$connection, ids);
    return;
  }
  await tx.$connection.query(`DELETE FROM ${sum}`);
  await tx.$connection.query(`INSERT INTO ${sum} (${key}, files, bytes) ${from}`);
}

/** Totals of folders: what lies in each and in everything below it. */
async function checkTotals(tx: Transaction, repair: boolean): Promise<Difference[]> {
  const [rows] = await tx.$connection.query<RowDataPacket[]>(
    `SELECT f.id, f.parent_id AS parentId, f.path, f.depth, f.total_files AS files, f.total_bytes AS bytes, COALESCE(h.files, 0) AS ownFiles, COALESCE(h.bytes, 0) AS ownBytes
     FROM folders f LEFT JOIN (SELECT folder_id, SUM(files) AS files, SUM(bytes) AS bytes FROM folder_holdings GROUP BY folder_id) h ON h.folder_id = f.id
     ORDER BY f.depth DESC`,
  );
  const should = new Map(
    rows.map((row) => [Number(row.id), { files: Number(row.ownFiles), bytes: Number(row.ownBytes) }]),
  );
  for (const row of rows) {
    const parent = row.parentId === null ? undefined : should.get(Number(row.parentId));
    const own = should.get(Number(row.id))!;
    if (!parent) continue;
    parent.files += own.files;
    parent.bytes += own.bytes;
  }
  const wrong = rows.filter((row) => {
    const sum = should.get(Number(row.id))!;
    return sum.files !== Number(row.files) || sum.bytes !== Number(row.bytes);
  });
  if (repair)
    for (const some of inSlices(wrong, 500)) {
      const values = some
        .map((row) => {
          const sum = should.get(Number(row.id))!;
          return `SELECT ${Number(row.id)} AS id, ${sum.files} AS f, ${sum.bytes} AS b`;
        })
        .join(' UNION ALL ');
      await tx.$connection.query(
        `UPDATE folders JOIN (${values}) AS d ON d.id = folders.id SET folders.total_files = d.f, folders.total_bytes = d.b`,
      );
    }
  return wrong.slice(0, MOST_TOLD).map((row) => {
    const sum = should.get(Number(row.id))!;
    return {
      sum: 'folders',
      detail: `${row.path || 'the top'}: ${Number(row.files)} files and ${Number(row.bytes)} bytes, should be ${sum.files} and ${sum.bytes}`,
    };
  });
}

/** How many files of each medium are found. What a document bundles has no rows of its own. */
async function checkFound(tx: Transaction, repair: boolean): Promise<Difference[]> {
  const should = `SELECT m.id, m.name, m.found, COUNT(f.id) AS n FROM media m JOIN media_targets t ON t.media_id = m.id LEFT JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL GROUP BY m.id, m.name, m.found HAVING m.found <> n`;
  const [rows] = await tx.$connection.query<RowDataPacket[]>(should);
  if (repair && rows.length > 0)
    await tx.$connection.query(`UPDATE media m JOIN (${should}) x ON x.id = m.id SET m.found = x.n`);
  return rows
    .slice(0, MOST_TOLD)
    .map((row) => ({ sum: 'media', detail: `${row.name}: ${row.found} files found, should be ${row.n}` }));
}

/** Sums of projects: worked out anew, compared with what was there, and left as they were unless they are to be repaired. */
async function checkProjects(tx: Transaction, repair: boolean): Promise<Difference[]> {
  const snapshot = async () => {
    const sums = await tx.select().from(projectSums).orderBy(projectSums.projectId);
    const away = await tx.select().from(strays).orderBy(strays.projectId, strays.kind, strays.volumeId);
    return [
      ...sums.map((row) => ['project_sums', JSON.stringify(row)] as const),
      ...away.map((row) => ['strays', JSON.stringify(row)] as const),
    ];
  };
  await tx.execute(sql`SAVEPOINT project_sums`);
  const before = await snapshot();
  const ids = (await tx.select({ id: projects.id }).from(projects)).map((row) => row.id as ProjectId);
  await recomputeProjectSumsIn(tx, ids);
  const after = await snapshot();
  if (!repair) await tx.execute(sql`ROLLBACK TO SAVEPOINT project_sums`);
  const was = new Set(before.map(([, row]) => row));
  const is = new Set(after.map(([, row]) => row));
  return [
    ...before.filter(([, row]) => !is.has(row)).map(([sum, row]) => ({ sum, detail: `${row} should not be` })),
    ...after.filter(([, row]) => !was.has(row)).map(([sum, row]) => ({ sum, detail: `${row} should be` })),
  ];
}
