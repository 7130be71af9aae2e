// Folders and files that were chosen in Space, as rows to take along.
import { and, eq, inArray, isNull } from 'drizzle-orm';
import type { FolderId, Kind } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import type { Db } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';

export interface ChosenRow {
  volume: string;
  path: string;
  /** Null for a folder. */
  kind: Kind | null;
  project: string;
  files: number;
  bytes: number;
}

/** What is not there any more is left out. Folders first, each by its path. */
export async function chosenRows(
  db: Db,
  { folderIds, fileIds }: { folderIds: readonly FolderId[]; fileIds: readonly number[] },
): Promise<ChosenRow[]> {
  const inFolders = await db
    .select({
      ...{ volume: volumes.name, path: folders.path, project: projects.name },
      ...{ files: folders.totalFiles, bytes: folders.totalBytes },
    })
    .from(folders)
    .innerJoin(volumes, eq(volumes.id, folders.volumeId))
    .leftJoin(projects, eq(projects.id, folders.projectId))
    .where(and(inArray(folders.id, [...folderIds, 0]), isNull(folders.goneAt)))
    .orderBy(volumes.name, folders.path);
  const single = await db
    .select({
      ...{ volume: volumes.name, folder: folders.path, name: files.name, kind: files.kind },
      ...{ project: projects.name, bytes: files.sizeBytes },
    })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .leftJoin(projects, eq(projects.id, files.projectId))
    .where(and(inArray(files.id, [...fileIds, 0]), isNull(files.goneAt)))
    .orderBy(volumes.name, folders.path, files.name);
  return [
    ...inFolders.map((row) => ({ ...row, kind: null, project: row.project ?? '' })),
    ...single.map(({ folder, name, ...row }) => ({
      ...{ ...row, path: joinPath(folder, name), project: row.project ?? '', files: 1 },
    })),
  ];
}
