// Folders that hold no file, from the catalogue, and those that are wanted all the same: homes of projects, places where
// something is parked, and what a reading could not see whole.
import { and, eq, isNull, ne, sql } from 'drizzle-orm';
import { type EmptyFolder, emptyTrees, type Wanted } from '#core/reclaim/empty.ts';
import { folderOf } from '#core/paths.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { folders } from '../db/schema/catalogue.ts';
import { claims, homes } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { worthLines } from '../db/schema/worth.ts';

/** A reading of a part of a volume says nothing of the rest: several are looked through. */
const LAST_READINGS = 200;

export async function emptyFolders(db: Db): Promise<(EmptyFolder & { rawPath: Buffer | null })[]> {
  return db
    .select({
      id: folders.id,
      volumeId: folders.volumeId,
      path: folders.path,
      rawPath: folders.rawPath,
      projectId: sql`COALESCE(${folders.projectId}, 0)`.mapWith(Number),
    })
    .from(folders)
    .innerJoin(volumes, and(eq(volumes.id, folders.volumeId), isNull(volumes.retiredAt)))
    .where(and(eq(folders.totalFiles, 0), isNull(folders.goneAt), ne(folders.path, '')));
}

export async function wantedFolders(db: Db): Promise<Wanted[]> {
  const own = await db.select({ volumeId: homes.volumeId, folder: homes.folder }).from(homes);
  const parked = await db
    .select({ volumeId: claims.volumeId, folder: claims.folder })
    .from(claims)
    .where(eq(claims.parked, true));
  // A folder with a link, or one that may not be looked into, is not empty though no file of it is known.
  const [seen] = (await db.execute(sql`
    SELECT r.volume_id AS volumeId, n.path FROM reading_notices n JOIN readings r ON r.id = n.reading_id
    WHERE r.id > (SELECT MAX(id) FROM readings) - ${LAST_READINGS}`)) as unknown as [
    { volumeId: number; path: string }[],
  ];
  return [
    ...own,
    ...parked,
    ...seen.flatMap(({ volumeId, path }) => [
      { volumeId: Number(volumeId), folder: path },
      { volumeId: Number(volumeId), folder: folderOf(path) },
    ]),
  ];
}

/** Writes a line for each topmost empty folder into an assessment that is being made. */
export async function writeEmptyFolders(tx: Transaction, run: number): Promise<void> {
  const trees = emptyTrees(await emptyFolders(tx), await wantedFolders(tx));
  for (const some of inSlices(trees, 1000))
    await tx.insert(worthLines).values(
      some.map((tree) => ({
        run,
        what: 'empty folders' as const,
        volumeId: tree.volumeId,
        folderId: tree.id,
        projectId: tree.projectId,
        level: 0 as const,
        reason: 'nothing in it' as const,
        files: tree.folders,
        bytes: 0,
        day: 0,
      })),
    );
}
