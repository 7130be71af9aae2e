// What a folder or a volume holds, for the space lens: its sub-folders by their totals, its largest files, its ages.
import { and, desc, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { FolderId, Kind, VolumeId } from '#core/model.ts';
import type { Database } from '../db/connect.ts';
import { files, folders, volumeHoldings, volumes } from '../db/schema.ts';

export interface AreaRow {
  folderId: FolderId;
  volumeId: VolumeId;
  name: string;
  path: string;
  files: number;
  bytes: number;
}

/** The folders one level below; for the whole site the volumes' tops. */
export async function areas(
  db: Database,
  at: { folderId: FolderId } | { volumeIds: readonly VolumeId[] },
): Promise<AreaRow[]> {
  const below =
    'folderId' in at
      ? eq(folders.parentId, at.folderId)
      : and(
          isNull(folders.parentId),
          at.volumeIds.length > 0 ? inArray(folders.volumeId, [...at.volumeIds]) : undefined,
        );
  const rows = await db
    .select({
      folderId: folders.id,
      volumeId: folders.volumeId,
      name: folders.name,
      path: folders.path,
      files: folders.totalFiles,
      bytes: folders.totalBytes,
      volume: volumes.name,
    })
    .from(folders)
    .innerJoin(volumes, eq(volumes.id, folders.volumeId))
    .where(and(below, isNull(folders.goneAt), sql`${folders.totalFiles} > 0`))
    .orderBy(desc(folders.totalBytes))
    .limit(500);
  return rows.map(({ volume, ...row }) => ({
    ...row,
    name: row.path === '' ? volume : row.name,
    folderId: row.folderId as FolderId,
    volumeId: row.volumeId as VolumeId,
  }));
}

export interface FileRow {
  fileId: number;
  name: string;
  kind: Kind;
  bytes: number;
  modifiedUs: number;
}

/** Files directly in a folder, largest first. */
export async function filesIn(db: Database, folderId: FolderId, limit = 500): Promise<FileRow[]> {
  return db
    .select({
      fileId: files.id,
      name: files.name,
      kind: files.kind,
      bytes: files.sizeBytes,
      modifiedUs: files.modifiedUs,
    })
    .from(files)
    .where(and(eq(files.folderId, folderId), isNull(files.goneAt)))
    .orderBy(desc(files.sizeBytes), files.name)
    .limit(limit);
}

export interface FolderAt {
  folderId: FolderId;
  volumeId: VolumeId;
  volume: string;
  volumePath: string;
  path: string;
  files: number;
  bytes: number;
  trail: { folderId: FolderId; name: string }[];
}

export async function folderAt(db: Database, folderId: FolderId): Promise<FolderAt | null> {
  const trail: FolderAt['trail'] = [];
  let found: FolderAt | null = null;
  for (let id: number | null = folderId; id !== null;) {
    const [row] = await db
      .select()
      .from(folders)
      .innerJoin(volumes, eq(volumes.id, folders.volumeId))
      .where(eq(folders.id, id));
    if (!row) return found;
    const { folders: f, volumes: v } = row;
    found ??= {
      folderId,
      volumeId: v.id as VolumeId,
      volume: v.name,
      volumePath: v.path,
      path: f.path,
      files: f.totalFiles,
      bytes: f.totalBytes,
      trail,
    };
    trail.unshift({ folderId: f.id as FolderId, name: f.path === '' ? v.name : f.name });
    id = f.parentId;
  }
  return found;
}

export interface Stratum {
  name: string;
  bytes: number;
}

const BANDS = [
  ['this week', 7],
  ['this month', 31],
  ['this quarter', 92],
  ['this year', 366],
] as const;

/** Bytes by when they were last changed, for the chosen volumes. */
export async function strata(db: Database, only: readonly VolumeId[], today: number): Promise<Stratum[]> {
  const rows = await db
    .select({ day: volumeHoldings.day, bytes: sql`SUM(${volumeHoldings.bytes})`.mapWith(Number) })
    .from(volumeHoldings)
    .where(only.length > 0 ? inArray(volumeHoldings.volumeId, [...only]) : undefined)
    .groupBy(volumeHoldings.day);
  const sums: Stratum[] = [...BANDS.map(([name]) => ({ name, bytes: 0 })), { name: 'before', bytes: 0 }];
  for (const row of rows) {
    const band = BANDS.findIndex(([, days]) => today - row.day < days);
    sums[band < 0 ? BANDS.length : band]!.bytes += row.bytes;
  }
  return sums;
}
