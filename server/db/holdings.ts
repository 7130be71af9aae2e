// The rollups: bytes and counts by folder, volume, project, kind and day, kept in step with the files in the same
// transaction. Whoever changes file rows calls refreshHoldings for their folders before committing.
import type { Connection, RowDataPacket } from 'mysql2/promise';

export interface Delta {
  files: number;
  bytes: number;
}

const SOME = 2000;

export function* inSlices<T>(list: readonly T[], size = SOME): Generator<T[]> {
  for (let i = 0; i < list.length; i += size) yield list.slice(i, i + size);
}

/** Works the rollups of these folders out anew from their files, and carries the difference to volumes and parents. */
export async function refreshHoldings(connection: Connection, folderIds: readonly number[]): Promise<void> {
  for (const ids of inSlices([...new Set(folderIds)])) {
    const before = await sums(connection, ids);
    await addToVolumes(connection, ids, -1);
    await connection.query('DELETE FROM folder_holdings WHERE folder_id IN (?)', [ids]);
    await connection.query(
      `INSERT INTO folder_holdings (folder_id, kind, project_id, day, volume_id, files, bytes, newest_us, oldest_us, largest_bytes)
       SELECT folder_id, kind, COALESCE(project_id, 0), FLOOR(modified_us / 86400000000) AS touched, MIN(volume_id), COUNT(*), SUM(size_bytes), MAX(modified_us), MIN(modified_us), MAX(size_bytes)
       FROM files WHERE folder_id IN (?) AND gone_at IS NULL GROUP BY folder_id, kind, COALESCE(project_id, 0), touched`,
      [ids],
    );
    await addToVolumes(connection, ids, 1);
    for (const table of ['volume_holdings', 'volume_sums', 'volume_days'])
      await connection.query(
        `DELETE FROM ${table} WHERE files = 0 AND volume_id IN (SELECT DISTINCT volume_id FROM folders WHERE id IN (?))`,
        [ids],
      );
    const after = await sums(connection, ids);
    const deltas = new Map<number, Delta>();
    for (const id of ids) {
      const [a, b] = [before.get(id), after.get(id)];
      const delta = { files: (b?.files ?? 0) - (a?.files ?? 0), bytes: (b?.bytes ?? 0) - (a?.bytes ?? 0) };
      if (delta.files !== 0 || delta.bytes !== 0) deltas.set(id, delta);
    }
    await addToTotals(connection, deltas);
  }
}

async function sums(connection: Connection, ids: readonly number[]): Promise<Map<number, Delta>> {
  const [rows] = await connection.query<RowDataPacket[]>(
    'SELECT folder_id AS id, SUM(files) AS files, SUM(bytes) AS bytes FROM folder_holdings WHERE folder_id IN (?) GROUP BY folder_id',
    [ids],
  );
  return new Map(rows.map((row) => [Number(row.id), { files: Number(row.files), bytes: Number(row.bytes) }]));
}

async function addToVolumes(connection: Connection, ids: readonly number[], sign: 1 | -1): Promise<void> {
  await connection.query(
    `INSERT INTO volume_holdings (volume_id, project_id, kind, day, files, bytes)
     SELECT volume_id, project_id, kind, day, ? * SUM(files), ? * SUM(bytes) FROM folder_holdings WHERE folder_id IN (?) GROUP BY volume_id, project_id, kind, day
     ON DUPLICATE KEY UPDATE files = volume_holdings.files + VALUES(files), bytes = volume_holdings.bytes + VALUES(bytes)`,
    [sign, sign, ids],
  );
  await connection.query(
    `INSERT INTO volume_sums (volume_id, project_id, kind, files, bytes)
     SELECT volume_id, project_id, kind, ? * SUM(files), ? * SUM(bytes) FROM folder_holdings WHERE folder_id IN (?) GROUP BY volume_id, project_id, kind
     ON DUPLICATE KEY UPDATE files = volume_sums.files + VALUES(files), bytes = volume_sums.bytes + VALUES(bytes)`,
    [sign, sign, ids],
  );
  await connection.query(
    `INSERT INTO volume_days (volume_id, day, files, bytes)
     SELECT volume_id, day, ? * SUM(files), ? * SUM(bytes) FROM folder_holdings WHERE folder_id IN (?) GROUP BY volume_id, day
     ON DUPLICATE KEY UPDATE files = volume_days.files + VALUES(files), bytes = volume_days.bytes + VALUES(bytes)`,
    [sign, sign, ids],
  );
}

/** Adds what changed directly in folders to their totals and to those of every folder above. */
export async function addToTotals(
  connection: Connection,
  changed: ReadonlyMap<number, Delta>,
  parentOf?: (id: number) => number | null,
): Promise<void> {
  const all = new Map<number, Delta>();
  let level = new Map(changed);
  while (level.size > 0) {
    const parents = parentOf
      ? new Map([...level.keys()].map((id) => [id, parentOf(id)]))
      : await parentsOf(connection, [...level.keys()]);
    const above = new Map<number, Delta>();
    for (const [id, delta] of level) {
      add(all, id, delta);
      const parent = parents.get(id);
      if (parent !== null && parent !== undefined) add(above, parent, delta);
    }
    level = above;
  }
  for (const part of inSlices([...all])) {
    const values = part.map(([id, d]) => `SELECT ${id} AS id, ${d.files} AS f, ${d.bytes} AS b`).join(' UNION ALL ');
    await connection.query(
      `UPDATE folders JOIN (${values}) AS d ON d.id = folders.id SET folders.total_files = folders.total_files + d.f, folders.total_bytes = folders.total_bytes + d.b`,
    );
  }
}

function add(sums: Map<number, Delta>, id: number, delta: Delta) {
  const sum = sums.get(id);
  if (sum) {
    sum.files += delta.files;
    sum.bytes += delta.bytes;
  } else sums.set(id, { ...delta });
}

async function parentsOf(connection: Connection, ids: readonly number[]): Promise<Map<number, number | null>> {
  const parents = new Map<number, number | null>();
  for (const some of inSlices(ids)) {
    const [rows] = await connection.query<RowDataPacket[]>(
      'SELECT id, parent_id AS parent FROM folders WHERE id IN (?)',
      [some],
    );
    for (const row of rows) parents.set(Number(row.id), row.parent === null ? null : Number(row.parent));
  }
  return parents;
}
