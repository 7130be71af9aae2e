// Caches by folder, for the reclaim lens: from the rollups by folder and day, so that the preview is what is staged.
import { and, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { FolderId, VolumeId } from '#core/model.ts';
import type { Database } from '../db/connect.ts';
import { volumes } from '../db/schema/stores.ts';
import { volumeSums } from '../db/schema/sums.ts';

export interface CacheFolder {
  folderId: FolderId;
  volumeId: VolumeId;
  volume: string;
  path: string;
  project: string | null;
  projectState: string | null;
  /** All caches directly in the folder, and those older than the cut. */
  allFiles: number;
  allBytes: number;
  files: number;
  bytes: number;
  newestUs: number;
  /** Of those older than the cut: the newest. */
  newestOldUs: number;
}

/** Folders shown: the ones with most to gain. What is beyond them is told as a sum. */
export const MOST_FOLDERS = 1000;

export async function cacheFolders(db: Database, only: readonly VolumeId[], cutDay: number): Promise<CacheFolder[]> {
  // Grouped in the order of the index, so that no table of its own is made. Summed first and named afterwards: names are
  // looked up for the folders that are shown alone.
  const [rows] = (await db.execute(sql`
    SELECT x.*, d.path, v.name AS volume, p.name AS project, p.state AS projectState FROM (
      SELECT folder_id AS folderId, volume_id AS volumeId, project_id AS projectId, SUM(files) AS allFiles, SUM(bytes) AS allBytes,
        SUM(IF(day < ${cutDay}, files, 0)) AS files, SUM(IF(day < ${cutDay}, bytes, 0)) AS bytes,
        MAX(newest_us) AS newestUs, COALESCE(MAX(IF(day < ${cutDay}, newest_us, NULL)), 0) AS newestOldUs
      FROM folder_holdings WHERE kind = 'cache' ${only.length > 0 ? sql`AND volume_id IN ${[...only]}` : sql``}
      GROUP BY volume_id, folder_id, project_id ORDER BY bytes DESC, folder_id LIMIT ${MOST_FOLDERS}) x
    JOIN folders d ON d.id = x.folderId JOIN volumes v ON v.id = x.volumeId AND v.retired_at IS NULL LEFT JOIN projects p ON p.id = x.projectId
    ORDER BY x.bytes DESC, d.path`)) as unknown as [(CacheFolder & Record<string, unknown>)[]];
  return rows.map((row) => ({
    folderId: Number(row.folderId) as FolderId,
    volumeId: Number(row.volumeId) as VolumeId,
    volume: row.volume,
    path: row.path,
    project: row.project,
    projectState: row.projectState,
    allFiles: Number(row.allFiles),
    allBytes: Number(row.allBytes),
    files: Number(row.files),
    bytes: Number(row.bytes),
    newestUs: Number(row.newestUs),
    newestOldUs: Number(row.newestOldUs),
  }));
}

/** All caches on the chosen volumes, so that what is not listed can be told. */
export async function cacheBytes(db: Database, only: readonly VolumeId[]): Promise<number> {
  const [row] = await db
    .select({ bytes: sql`COALESCE(SUM(${volumeSums.bytes}), 0)`.mapWith(Number) })
    .from(volumeSums)
    .innerJoin(volumes, and(eq(volumes.id, volumeSums.volumeId), isNull(volumes.retiredAt)))
    .where(and(eq(volumeSums.kind, 'cache'), only.length > 0 ? inArray(volumeSums.volumeId, [...only]) : undefined));
  return row!.bytes;
}

/** Caches that were last changed before each of these days. */
export async function cacheBytesBefore(
  db: Database,
  only: readonly VolumeId[],
  days: readonly number[],
): Promise<number[]> {
  const parts = days.map((day, i) => sql`SUM(IF(h.day < ${day}, h.bytes, 0)) AS ${sql.identifier(`b${i}`)}`);
  const [rows] = (await db.execute(sql`
    SELECT ${sql.join(parts, sql`, `)} FROM volume_holdings h JOIN volumes v ON v.id = h.volume_id AND v.retired_at IS NULL
    WHERE h.kind = 'cache' ${only.length > 0 ? sql`AND h.volume_id IN ${[...only]}` : sql``}`)) as unknown as [
    Record<string, number | null>[],
  ];
  return days.map((_, i) => Number(rows[0]?.[`b${i}`] ?? 0));
}
