// Finds the files that documents name, by path, and gives files that no folder claims to the project that names them.
// Called after every reading: for the documents just read, and for whatever is still missing anywhere, because a volume
// read later may hold what was missing before.
import { isNull } from 'drizzle-orm';
import type { Connection, RowDataPacket } from 'mysql2/promise';
import { readTarget, type Target } from '#core/documents/targets.ts';
import type { VolumeId } from '#core/model.ts';
import { foldPath } from '#core/homes/moves.ts';
import { folderOf, joinPath } from '#core/paths.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { type Database, withConnection } from '../db/connect.ts';
import { inSlices, refreshHoldings } from '../db/holdings.ts';
import { volumes } from '../db/schema/stores.ts';
import { allMounts } from '../stores/places.ts';
import { countFound, matchStills } from './match-stills.ts';

interface Row {
  mediaId: number;
  ord: number;
  target: string;
  fileId: number | null;
  readings: Target[];
}

/** What a reading changes: documents read since a moment, and folders of the volume in which files came or went. */
export interface ReadingChanges {
  volumeId: VolumeId;
  since: Date;
  touched: readonly number[] | 'all';
}

/** Gives the projects for whose media something changed. */
export async function matchMedia(db: Database, changes: ReadingChanges): Promise<number[]> {
  const changed = new Set<number>();
  // First what went: what is counted as missing then is looked for again.
  await withConnection(db, async (connection) => {
    for (const id of await countFound(connection, await namedIn(connection, changes))) changed.add(id);
  });
  const own = await db
    .select({ volumeId: volumes.id, path: volumes.path })
    .from(volumes)
    .where(isNull(volumes.retiredAt));
  const mounts = [...own.map((v) => ({ ...v, volumeId: v.volumeId as VolumeId })), ...(await allMounts(db))];
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    `SELECT t.media_id AS mediaId, t.ord, t.target, t.file_id AS fileId, f.volume_id AS volumeId, d.path AS folder
     FROM media m JOIN media_targets t ON t.media_id = m.id JOIN documents o ON o.id = m.document_id
     JOIN files f ON f.id = o.file_id JOIN folders d ON d.id = f.folder_id LEFT JOIN files x ON x.id = t.file_id
     WHERE m.incomplete = 1 AND m.stills IS NULL AND (t.file_id IS NULL OR x.gone_at IS NOT NULL)`,
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
  const exact = (row: Row) => firstOf(row, known.there);
  const folded = await foldedFiles(
    db,
    targets.filter((row) => exact(row) === undefined).flatMap((row) => row.readings),
  );
  await withConnection(db, async (connection) => {
    const settled = targets.flatMap((row) => {
      // A file that was there once and is gone is named still: what was known of it tells what it is now.
      const fileId = exact(row) ?? firstOf(row, folded) ?? row.fileId ?? firstOf(row, known.gone);
      return fileId === undefined || fileId === row.fileId ? [] : [{ ...row, fileId }];
    });
    for (const some of inSlices(settled)) {
      const values = some.map((row) => `SELECT ${row.mediaId} AS m, ${row.ord} AS o, ${row.fileId} AS f`);
      await connection.query(
        `UPDATE media_targets t JOIN (${values.join(' UNION ALL ')}) d ON d.m = t.media_id AND d.o = t.ord SET t.file_id = d.f, t.found_by = 'path'`,
      );
    }
    const places = new Map(targets.filter((t) => t.ord === 0).map((t) => [t.mediaId, t.readings.at(-1)!.place]));
    for (const place of ['inside', 'outside', 'unknown'] as const)
      for (const some of inSlices([...places].filter(([, p]) => p === place).map(([id]) => id)))
        await connection.query('UPDATE media SET place = ? WHERE id IN (?) AND place <> ?', [place, some, place]);
    for (const id of await countFound(connection, [...new Set(targets.map((row) => row.mediaId))])) changed.add(id);
  });
  for (const id of await matchStills(db, mounts)) changed.add(id);
  for (const id of await giveNamedFiles(db, changes)) changed.add(id);
  return [...changed];
}

/** Media that name files where something came or went. */
async function namedIn(connection: Connection, { volumeId, touched }: ReadingChanges): Promise<number[]> {
  if (touched !== 'all' && touched.length === 0) return [];
  const [rows] = await connection.query<RowDataPacket[]>(
    `SELECT DISTINCT t.media_id AS id FROM files f JOIN media_targets t ON t.file_id = f.id WHERE ${touched === 'all' ? 'f.volume_id = ?' : 'f.folder_id IN (?)'}`,
    [touched === 'all' ? volumeId : touched],
  );
  return rows.map((row) => Number(row.id));
}

const firstOf = ({ readings }: Row, found: ReadonlyMap<string, number>): number | undefined =>
  readings.map((reading) => found.get(keyOf(reading))).find((id) => id !== undefined);

const keyOf = (target: Target) => (target.place === 'inside' ? `${target.volumeId}/${target.path}` : '');

/** Numbers of the files at these places: of those that are there, and of the last that were. */
async function knownFiles(
  db: Database,
  targets: readonly Target[],
): Promise<{ there: Map<string, number>; gone: Map<string, number> }> {
  const folders = new Map<string, { volumeId: number; folder: string }>();
  for (const target of targets)
    if (target.place === 'inside')
      folders.set(`${target.volumeId}/${folderOf(target.path)}`, {
        volumeId: target.volumeId,
        folder: folderOf(target.path),
      });
  const wanted = new Set(targets.map(keyOf));
  const [there, gone] = [new Map<string, number>(), new Map<string, number>()];
  for (const some of inSlices([...folders.values()], 500)) {
    const [rows] = await db.$pool.query<RowDataPacket[]>(
      `SELECT f.id, f.volume_id AS volumeId, d.path AS folder, f.name, f.gone_at IS NOT NULL AS gone FROM folders d JOIN files f ON f.folder_id = d.id
       WHERE (d.volume_id, d.path_hash) IN (?) ORDER BY f.gone_at, f.id`,
      [some.map((f) => [f.volumeId, pathHash(f.folder)])],
    );
    for (const row of rows) {
      const key = `${row.volumeId}/${row.folder === '' ? row.name : `${row.folder}/${row.name}`}`;
      if (wanted.has(key)) (row.gone ? gone : there).set(key, Number(row.id));
    }
  }
  return { there, gone };
}

/**
 * Files whose path is the wanted one but for case and Unicode form, where there is just one such: paths are written on
 * machines that tell neither apart, and some systems change the form of a name on its way.
 */
async function foldedFiles(db: Database, targets: readonly Target[]): Promise<Map<string, number>> {
  const found = new Map<string, number>();
  const byVolume = new Map<number, Target[]>();
  for (const target of targets)
    if (target.place === 'inside') byVolume.set(target.volumeId, [...(byVolume.get(target.volumeId) ?? []), target]);
  for (const [volumeId, wanted] of byVolume) {
    const paths = new Map(wanted.map((target) => [keyOf(target), target.path]));
    const folders = new Set([...paths.values()].map((path) => foldPath(folderOf(path))));
    const [rows] = await db.$pool.query<RowDataPacket[]>(
      'SELECT id, path FROM folders WHERE volume_id = ? AND gone_at IS NULL',
      [volumeId],
    );
    const near = rows.filter((row) => folders.has(foldPath(row.path as string)));
    const files = new Map<string, number[]>();
    for (const some of inSlices(near, 500)) {
      const [inside] = await db.$pool.query<RowDataPacket[]>(
        'SELECT f.id, d.path AS folder, f.name FROM files f JOIN folders d ON d.id = f.folder_id WHERE f.folder_id IN (?) AND f.gone_at IS NULL',
        [some.map((row) => row.id as number)],
      );
      for (const file of inside) {
        const key = foldPath(joinPath(file.folder as string, file.name as string));
        files.set(key, [...(files.get(key) ?? []), Number(file.id)]);
      }
    }
    for (const [key, path] of paths) {
      const ids = files.get(foldPath(path));
      if (ids?.length === 1) found.set(key, ids[0]!);
    }
  }
  return found;
}

/**
 * A file that no folder gives to a project belongs to the first that names it; a library is everybody's. Gives the
 * projects that gained files.
 */
async function giveNamedFiles(db: Database, { since, touched }: ReadingChanges): Promise<number[]> {
  return withConnection(db, async (connection) => {
    const some = async (where: string, values: unknown[]) =>
      (
        await connection.query<RowDataPacket[]>(
          `SELECT f.id, f.folder_id AS folderId, MIN(m.project_id) AS projectId FROM media m JOIN media_targets t ON t.media_id = m.id JOIN files f ON f.id = t.file_id
           WHERE f.project_id IS NULL AND f.gone_at IS NULL AND f.kind <> 'library' AND ${where} GROUP BY f.id, f.folder_id`,
          values,
        )
      )[0];
    const rows =
      touched === 'all'
        ? await some('TRUE', [])
        : [
            ...(touched.length > 0 ? await some('f.folder_id IN (?)', [touched]) : []),
            ...(await some('m.document_id IN (SELECT id FROM documents WHERE read_at >= ?)', [since])),
          ];
    const byProject = new Map<number, number[]>();
    for (const row of rows)
      byProject.set(Number(row.projectId), [...(byProject.get(Number(row.projectId)) ?? []), Number(row.id)]);
    for (const [projectId, ids] of byProject)
      for (const part of inSlices(ids))
        await connection.query('UPDATE files SET project_id = ? WHERE id IN (?) AND project_id IS NULL', [
          projectId,
          part,
        ]);
    await refreshHoldings(
      connection,
      rows.map((row) => Number(row.folderId)),
    );
    return [...byProject.keys()];
  });
}
