// Finds the files that documents name, by path, and gives files that no folder claims to the project that names them.
// Called after every reading, over all documents: a volume read later may hold what was missing before.
import { isNull } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { readTarget, type Target } from '#core/documents/targets.ts';
import type { VolumeId } from '#core/model.ts';
import { folderOf } from '#core/paths.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { type Database, withConnection } from '../db/connect.ts';
import { inSlices, refreshHoldings } from '../db/holdings.ts';
import { volumes } from '../db/schema.ts';
import { allMounts } from './places.ts';

interface Row {
  mediaId: number;
  ord: number;
  target: string;
  fileId: number | null;
  readings: Target[];
}

export async function matchMedia(db: Database): Promise<void> {
  const own = await db
    .select({ volumeId: volumes.id, path: volumes.path })
    .from(volumes)
    .where(isNull(volumes.retiredAt));
  const mounts = [...own.map((v) => ({ ...v, volumeId: v.volumeId as VolumeId })), ...(await allMounts(db))];
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    `SELECT t.media_id AS mediaId, t.ord, t.target, t.file_id AS fileId, f.volume_id AS volumeId, d.path AS folder
     FROM media_targets t JOIN media m ON m.id = t.media_id JOIN documents o ON o.id = m.document_id
     JOIN files f ON f.id = o.file_id JOIN folders d ON d.id = f.folder_id`,
  );
  const targets: Row[] = rows.map((row) => ({
    mediaId: Number(row.mediaId),
    ord: Number(row.ord),
    target: row.target,
    fileId: row.fileId === null ? null : Number(row.fileId),
    readings: readTarget(row.target, { volumeId: Number(row.volumeId) as VolumeId, folder: row.folder }, mounts),
  }));
  const known = await knownFiles(
    db,
    targets.flatMap((t) => t.readings),
  );
  await withConnection(db, async (connection) => {
    for (const row of targets) {
      const fileId = row.readings.map((reading) => known.get(keyOf(reading))).find((id) => id !== undefined) ?? null;
      // A file that was found once and is gone stays named: what was known of it is still told.
      if (fileId !== null && fileId !== row.fileId)
        await connection.query('UPDATE media_targets SET file_id = ? WHERE media_id = ? AND ord = ?', [
          fileId,
          row.mediaId,
          row.ord,
        ]);
    }
    const places = new Map(targets.filter((t) => t.ord === 0).map((t) => [t.mediaId, t.readings.at(-1)!.place]));
    for (const place of ['inside', 'outside', 'unknown'] as const)
      for (const some of inSlices([...places].filter(([, p]) => p === place).map(([id]) => id)))
        await connection.query('UPDATE media SET place = ? WHERE id IN (?) AND place <> ?', [place, some, place]);
    await connection.query(
      `UPDATE media m LEFT JOIN (SELECT t.media_id, COUNT(f.id) AS n FROM media_targets t LEFT JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL GROUP BY t.media_id) c ON c.media_id = m.id
       SET m.found = COALESCE(c.n, 0) WHERE m.found <> COALESCE(c.n, 0)`,
    );
  });
  await giveNamedFiles(db);
}

const keyOf = (target: Target) => (target.place === 'inside' ? `${target.volumeId}/${target.path}` : '');

/** Numbers of the files at these places, as far as they are known and there. */
async function knownFiles(db: Database, targets: readonly Target[]): Promise<Map<string, number>> {
  const folders = new Map<string, { volumeId: number; folder: string }>();
  for (const target of targets)
    if (target.place === 'inside')
      folders.set(`${target.volumeId}/${folderOf(target.path)}`, {
        volumeId: target.volumeId,
        folder: folderOf(target.path),
      });
  const wanted = new Set(targets.map(keyOf));
  const found = new Map<string, number>();
  for (const some of inSlices([...folders.values()], 500)) {
    const [rows] = await db.$pool.query<RowDataPacket[]>(
      `SELECT f.id, f.volume_id AS volumeId, d.path AS folder, f.name FROM folders d JOIN files f ON f.folder_id = d.id
       WHERE (d.volume_id, d.path_hash) IN (?) AND f.gone_at IS NULL`,
      [some.map((f) => [f.volumeId, pathHash(f.folder)])],
    );
    for (const row of rows) {
      const key = `${row.volumeId}/${row.folder === '' ? row.name : `${row.folder}/${row.name}`}`;
      if (wanted.has(key)) found.set(key, Number(row.id));
    }
  }
  return found;
}

async function giveNamedFiles(db: Database): Promise<void> {
  await withConnection(db, async (connection) => {
    const [rows] = await connection.query<RowDataPacket[]>(
      `SELECT f.id, f.folder_id AS folderId, MIN(m.project_id) AS projectId FROM files f JOIN media_targets t ON t.file_id = f.id JOIN media m ON m.id = t.media_id
       WHERE f.project_id IS NULL AND f.gone_at IS NULL GROUP BY f.id, f.folder_id`,
    );
    const byProject = new Map<number, number[]>();
    for (const row of rows)
      byProject.set(Number(row.projectId), [...(byProject.get(Number(row.projectId)) ?? []), Number(row.id)]);
    for (const [projectId, ids] of byProject)
      for (const some of inSlices(ids))
        await connection.query('UPDATE files SET project_id = ? WHERE id IN (?)', [projectId, some]);
    await refreshHoldings(
      connection,
      rows.map((row) => Number(row.folderId)),
    );
  });
}
