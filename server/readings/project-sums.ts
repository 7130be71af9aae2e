// Rollups by project: strays, and what its documents name, miss and do not use. Screens read these; they are worked out
// anew by whoever changed files, documents or homes.
import { inArray, sql } from 'drizzle-orm';
import { type Holding, type Home, isParked, straysOf } from '#core/homes/homes.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { DOCUMENT_COUNTS, MEDIA_KINDS, usedMedia } from '../db/naming.ts';
import { folders } from '../db/schema/catalogue.ts';
import { parkedPlaces } from './claims.ts';
import { homes, projects } from '../db/schema/projects.ts';
import { folderHoldings, projectSums, strays } from '../db/schema/sums.ts';

const SOME = 40;

/** Works out the rollups of these projects, or of all. */
export async function recomputeProjectSums(db: Database, only?: readonly ProjectId[]): Promise<void> {
  const all = only ?? (await db.select({ id: projects.id }).from(projects)).map((row) => row.id as ProjectId);
  for (let i = 0; i < all.length; i += SOME) {
    const ids = all.slice(i, i + SOME);
    await inTransaction(db, (tx) => recomputeProjectSumsIn(tx, ids));
  }
}

/** The same inside a transaction: what follows from work is written down with its end. */
export async function recomputeProjectSumsIn(tx: Transaction, ids: readonly ProjectId[]): Promise<void> {
  if (ids.length === 0) return;
  await recomputeStrays(tx, ids);
  await recomputeMediaSums(tx, ids);
}

/** What every folder holds of a project, by kind. */
export async function holdingsOf(
  db: Pick<Db, 'select'>,
  ids: readonly ProjectId[],
): Promise<(Holding & { projectId: ProjectId })[]> {
  const rows = await db
    .select({
      projectId: folderHoldings.projectId,
      kind: folderHoldings.kind,
      volumeId: folderHoldings.volumeId,
      folder: folders.path,
      files: sql`SUM(${folderHoldings.files})`.mapWith(Number),
      bytes: sql`SUM(${folderHoldings.bytes})`.mapWith(Number),
    })
    .from(folderHoldings)
    .innerJoin(folders, sql`${folders.id} = ${folderHoldings.folderId}`)
    .where(inArray(folderHoldings.projectId, [...ids]))
    .groupBy(folderHoldings.projectId, folderHoldings.kind, folderHoldings.volumeId, folders.path);
  return rows.map((row) => ({ ...row, projectId: row.projectId as ProjectId, volumeId: row.volumeId as VolumeId }));
}

async function recomputeStrays(tx: Transaction, ids: readonly ProjectId[]): Promise<void> {
  const own = await tx
    .select()
    .from(homes)
    .where(inArray(homes.projectId, [...ids]));
  const homed = [...new Set(own.map((home) => home.projectId as ProjectId))];
  const parked = await parkedPlaces(tx, homed);
  const holdings = (homed.length > 0 ? await holdingsOf(tx, homed) : []).filter(
    (holding) => !isParked(holding, parked),
  );
  await tx.delete(strays).where(inArray(strays.projectId, [...ids]));
  const rows = homed.flatMap((projectId) =>
    straysOf(
      holdings.filter((holding) => holding.projectId === projectId),
      own.filter((home) => home.projectId === projectId) as unknown as Home[],
    ).map((stray) => ({ projectId, ...stray })),
  );
  if (rows.length > 0) await tx.insert(strays).values(rows);
}

/** Media of the documents that count; missing where a file of it is; bytes of those that no timeline of any project uses. */
async function recomputeMediaSums(tx: Transaction, ids: readonly ProjectId[]): Promise<void> {
  await tx.delete(projectSums).where(inArray(projectSums.projectId, [...ids]));
  await tx.execute(sql`
      INSERT INTO project_sums (project_id, media, missing, unused_bytes)
      SELECT m.project_id, COUNT(*), COALESCE(SUM(m.found < GREATEST(m.targets, 1)), 0), 0
      FROM media m ${DOCUMENT_COUNTS}
      WHERE m.project_id IN ${[...ids]} GROUP BY m.project_id`);
  // Also of projects whose media no document names.
  await tx.execute(sql`
      INSERT IGNORE INTO project_sums (project_id, media, missing, unused_bytes)
      SELECT DISTINCT project_id, 0, 0, 0 FROM volume_sums WHERE project_id IN ${[...ids]} AND kind IN ${MEDIA_KINDS}`);
  await tx.execute(sql`
      UPDATE project_sums s
      JOIN (SELECT project_id, SUM(bytes) AS bytes FROM volume_sums WHERE project_id IN ${[...ids]} AND kind IN ${MEDIA_KINDS} GROUP BY project_id) o ON o.project_id = s.project_id
      LEFT JOIN (SELECT x.project_id, SUM(x.size_bytes) AS bytes FROM (${usedMedia(ids)}) x GROUP BY x.project_id) u ON u.project_id = s.project_id
      SET s.unused_bytes = GREATEST(0, o.bytes - COALESCE(u.bytes, 0))`);
}
