// Caches by folder, for the reclaim lens: from the rollups by folder and day, so that the preview is what is staged.
import { and, inArray, sql } from 'drizzle-orm';
import { eq } from 'drizzle-orm';
import type { FolderId, VolumeId } from '#core/model.ts';
import type { Database } from '../db/connect.ts';
import { folderHoldings, folders, projects, volumes } from '../db/schema.ts';

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

const MOST_FOLDERS = 5000;

export async function cacheFolders(db: Database, only: readonly VolumeId[], cutDay: number): Promise<CacheFolder[]> {
  const old = sql`${folderHoldings.day} < ${cutDay}`;
  const rows = await db
    .select({
      folderId: folderHoldings.folderId,
      volumeId: folderHoldings.volumeId,
      volume: volumes.name,
      path: folders.path,
      project: projects.name,
      projectState: projects.state,
      allFiles: sql`SUM(${folderHoldings.files})`.mapWith(Number),
      allBytes: sql`SUM(${folderHoldings.bytes})`.mapWith(Number),
      files: sql`SUM(IF(${old}, ${folderHoldings.files}, 0))`.mapWith(Number),
      bytes: sql`SUM(IF(${old}, ${folderHoldings.bytes}, 0))`.mapWith(Number),
      newestUs: sql`MAX(${folderHoldings.newestUs})`.mapWith(Number),
      newestOldUs: sql`COALESCE(MAX(IF(${old}, ${folderHoldings.newestUs}, NULL)), 0)`.mapWith(Number),
    })
    .from(folderHoldings)
    .innerJoin(folders, eq(folders.id, folderHoldings.folderId))
    .innerJoin(volumes, eq(volumes.id, folderHoldings.volumeId))
    .leftJoin(projects, eq(projects.id, folderHoldings.projectId))
    .where(
      and(eq(folderHoldings.kind, 'cache'), only.length > 0 ? inArray(folderHoldings.volumeId, [...only]) : undefined),
    )
    .groupBy(
      folderHoldings.folderId,
      folderHoldings.volumeId,
      volumes.name,
      folders.path,
      projects.name,
      projects.state,
    )
    .orderBy(sql`SUM(IF(${old}, ${folderHoldings.bytes}, 0)) DESC`, folders.path)
    .limit(MOST_FOLDERS);
  return rows.map((row) => ({ ...row, folderId: row.folderId as FolderId, volumeId: row.volumeId as VolumeId }));
}
