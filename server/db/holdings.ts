// The rollups: bytes and counts by folder, volume, project, kind and day, kept in step with the files in the same
// transaction. Whoever changes file rows locks their folders first (lockFolders) and calls refreshHoldings for them before
// committing: so no two ever sum the same folder from what the other has not committed. Costs follow what changed.
import type { Connection, RowDataPacket } from 'mysql2/promise';

export interface Delta {
  files: number;
  bytes: number;
}

const SOME = 2000;

export function* inSlices<T>(list: readonly T[], size = SOME): Generator<T[]> {
  for (let i = 0; i < list.length; i += size) yield list.slice(i, i + size);
}

/** Locks folders in order of id, as everybody does, so that nobody waits for somebody who waits. */
export async function lockFolders(connection: Connection, folderIds: readonly number[]): Promise<void> {
  for (const ids of inSlices([...new Set(folderIds)].sort((a, b) => a - b)))
    await connection.query('SELECT id FROM folders WHERE id IN (?) ORDER BY id FOR UPDATE', [ids]);
}

/** Sums of one volume, project, kind and day. */
interface Sum extends Delta {
  volumeId: number;
  projectId: number;
  kind: string;
  day: number;
}

/** Works the rollups of these folders out anew from their files, and carries the difference to volumes and parents. */
export async function refreshHoldings(connection: Connection, folderIds: readonly number[]): Promise<void> {
  const all = [...new Set(folderIds)].sort((a, b) => a - b);
  await lockFolders(connection, all);
  for (const ids of inSlices(all)) {
    const before = await sums(connection, ids);
    await connection.query('DELETE FROM folder_holdings WHERE folder_id IN (?)', [ids]);
    await connection.query(
      `INSERT INTO folder_holdings (folder_id, kind, project_id, day, volume_id, files, bytes, newest_us, oldest_us, largest_bytes)
       SELECT folder_id, kind, COALESCE(project_id, 0), FLOOR(modified_us / 86400000000) AS touched, MIN(volume_id), COUNT(*), SUM(size_bytes), MAX(modified_us), MIN(modified_us), MAX(size_bytes)
       FROM files WHERE folder_id IN (?) AND gone_at IS NULL GROUP BY folder_id, kind, COALESCE(project_id, 0), touched`,
      [ids],
    );
    const after = await sums(connection, ids);
    await addToVolumes(connection, changes(before.byKey, after.byKey));
    await addToTotals(connection, differences(before.byFolder, after.byFolder));
  }
}

interface Sums {
  byFolder: Map<number, Delta>;
  byKey: Map<string, Sum>;
}

async function sums(connection: Connection, ids: readonly number[]): Promise<Sums> {
  const [rows] = await connection.query<RowDataPacket[]>(
    'SELECT folder_id AS folderId, volume_id AS volumeId, project_id AS projectId, kind, day, files, bytes FROM folder_holdings WHERE folder_id IN (?)',
    [ids],
  );
  const byFolder = new Map<number, Delta>();
  const byKey = new Map<string, Sum>();
  for (const row of rows) {
    const delta = { files: Number(row.files), bytes: Number(row.bytes) };
    const [volumeId, projectId, day] = [Number(row.volumeId), Number(row.projectId), Number(row.day)];
    addDelta(byFolder, Number(row.folderId), delta);
    const key = `${volumeId} ${projectId} ${row.kind} ${day}`;
    const sum = byKey.get(key);
    if (sum) add(sum, delta);
    else byKey.set(key, { volumeId, projectId, kind: row.kind as string, day, ...delta });
  }
  return { byFolder, byKey };
}

function changes(before: ReadonlyMap<string, Sum>, after: ReadonlyMap<string, Sum>): Sum[] {
  const all: Sum[] = [];
  for (const key of new Set([...before.keys(), ...after.keys()])) {
    const [a, b] = [before.get(key), after.get(key)];
    const files = (b?.files ?? 0) - (a?.files ?? 0);
    const bytes = (b?.bytes ?? 0) - (a?.bytes ?? 0);
    if (files !== 0 || bytes !== 0) all.push({ ...(b ?? a)!, files, bytes });
  }
  return all;
}

function differences(before: ReadonlyMap<number, Delta>, after: ReadonlyMap<number, Delta>): Map<number, Delta> {
  const all = new Map<number, Delta>();
  for (const id of new Set([...before.keys(), ...after.keys()])) {
    const [a, b] = [before.get(id), after.get(id)];
    const delta = { files: (b?.files ?? 0) - (a?.files ?? 0), bytes: (b?.bytes ?? 0) - (a?.bytes ?? 0) };
    if (delta.files !== 0 || delta.bytes !== 0) all.set(id, delta);
  }
  return all;
}

/** The rollups by volume, each with the columns that make its key. */
const BY_VOLUME = [
  { table: 'volume_holdings', key: ['volume_id', 'project_id', 'kind', 'day'] },
  { table: 'volume_sums', key: ['volume_id', 'project_id', 'kind'] },
  { table: 'volume_days', key: ['volume_id', 'day'] },
] as const;
const PART_OF = {
  volume_id: (sum: Sum) => sum.volumeId,
  project_id: (sum: Sum) => sum.projectId,
  kind: (sum: Sum) => sum.kind,
  day: (sum: Sum) => sum.day,
};

/** Adds what changed to the rollups by volume, row by row in order of their keys; what is empty then goes. */
export async function addToVolumes(connection: Connection, changed: readonly Sum[]): Promise<void> {
  for (const { table, key } of BY_VOLUME) {
    const rows = new Map<string, { parts: (string | number)[] } & Delta>();
    for (const sum of changed) {
      const parts = key.map((column) => PART_OF[column](sum));
      const row = rows.get(parts.join('\t'));
      if (row) add(row, sum);
      else rows.set(parts.join('\t'), { parts, files: sum.files, bytes: sum.bytes });
    }
    const sorted = [...rows].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, row]) => row);
    const less: (string | number)[][] = [];
    for (const some of inSlices(sorted.filter((row) => row.files !== 0 || row.bytes !== 0))) {
      await connection.query(
        `INSERT INTO ${table} (${key.join(', ')}, files, bytes) VALUES ? ON DUPLICATE KEY UPDATE files = files + VALUES(files), bytes = bytes + VALUES(bytes)`,
        [some.map((row) => [...row.parts, row.files, row.bytes])],
      );
      less.push(...some.filter((row) => row.files < 0).map((row) => row.parts));
    }
    for (const some of inSlices(less, 200))
      await connection.query(
        `DELETE FROM ${table} WHERE files = 0 AND (${some.map(() => `(${key.map((column) => `${column} = ?`).join(' AND ')})`).join(' OR ')})`,
        some.flat(),
      );
  }
}

/** What changed directly in folders, with what it adds to every folder above. */
export function carriedUp(
  changed: ReadonlyMap<number, Delta>,
  parentOf: (id: number) => number | null | undefined,
): Map<number, Delta> {
  const all = new Map<number, Delta>();
  for (let level: ReadonlyMap<number, Delta> = changed; level.size > 0;) {
    const above = new Map<number, Delta>();
    for (const [id, delta] of level) {
      addDelta(all, id, delta);
      const parent = parentOf(id) ?? null;
      if (parent !== null) addDelta(above, parent, delta);
    }
    level = above;
  }
  return all;
}

/** Adds what changed directly in folders to their totals and to those of every folder above. */
async function addToTotals(connection: Connection, changed: ReadonlyMap<number, Delta>): Promise<void> {
  const parents = new Map<number, number | null>();
  for (let ids = [...changed.keys()]; ids.length > 0;) {
    const found = await parentsOf(connection, ids);
    for (const [id, parent] of found) parents.set(id, parent);
    ids = [...new Set(found.values())].filter((id) => id !== null && !parents.has(id)) as number[];
  }
  await writeTotals(
    connection,
    carriedUp(changed, (id) => parents.get(id)),
  );
}

export async function writeTotals(connection: Connection, all: ReadonlyMap<number, Delta>): Promise<void> {
  for (const part of inSlices([...all].sort(([a], [b]) => a - b))) {
    const values = part.map(([id, d]) => `SELECT ${id} AS id, ${d.files} AS f, ${d.bytes} AS b`).join(' UNION ALL ');
    await connection.query(
      `UPDATE folders JOIN (${values}) AS d ON d.id = folders.id SET folders.total_files = folders.total_files + d.f, folders.total_bytes = folders.total_bytes + d.b`,
    );
  }
}

function add(sum: Delta, delta: Delta): void {
  sum.files += delta.files;
  sum.bytes += delta.bytes;
}

function addDelta(sums: Map<number, Delta>, id: number, delta: Delta): void {
  const sum = sums.get(id);
  if (sum) add(sum, delta);
  else sums.set(id, { files: delta.files, bytes: delta.bytes });
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
