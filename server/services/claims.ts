// Which folders a project claims, and so which files are its own. A project claims the folder its document lies in, and
// every folder named after it; each claim keeps its reason.
import { eq, sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { isNamedAfter, ownersOf } from '#core/homes/owners.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { type Database, type Transaction, withConnection } from '../db/connect.ts';
import { inSlices, refreshHoldings } from '../db/holdings.ts';
import { claims, documents, files, folders, projects } from '../db/schema.ts';

type Claiming = { projectId: ProjectId; volumeId: VolumeId; folder: string; reason: string };

/** Keeps a claim; a folder that is claimed already stays with the project that has it. */
export async function claim(
  tx: Pick<Transaction, 'insert'>,
  { projectId, volumeId, folder, reason }: Claiming,
): Promise<void> {
  await tx
    .insert(claims)
    .values({ projectId, volumeId, folder, folderHash: pathHash(folder), reason })
    .onDuplicateKeyUpdate({ set: { id: sql`${claims.id}` } });
}

/** The folder a document speaks for: the nearest one named after its project, else its own if no other project has documents in it. */
export async function claimForDocument(
  tx: Transaction,
  at: { projectId: ProjectId; volumeId: VolumeId; folder: string },
): Promise<void> {
  const [project] = await tx.select().from(projects).where(eq(projects.id, at.projectId));
  for (let folder = at.folder; folder !== '' && project; folder = folderOf(folder))
    if (isNamedAfter(nameOf(folder), project.slug))
      return claim(tx, { ...at, folder, reason: 'named after the project' });
  if (at.folder === '') return;
  const [others] = await tx
    .select({ n: sql`COUNT(*)`.mapWith(Number) })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .innerJoin(folders, eq(folders.id, files.folderId))
    .where(
      sql`${folders.volumeId} = ${at.volumeId} AND ${folders.pathHash} = ${pathHash(at.folder)} AND ${documents.projectId} <> ${at.projectId}`,
    );
  if (others!.n === 0) await claim(tx, { ...at, reason: 'its document lies here' });
}

/** Claims folders named after known projects, then gives every folder and file of the volume its owner. */
export async function applyClaims(db: Database, volumeId: VolumeId): Promise<void> {
  await claimNamedFolders(db);
  const touched = (await db.selectDistinct({ volumeId: claims.volumeId }).from(claims)).map(
    (row) => row.volumeId as VolumeId,
  );
  for (const id of new Set([volumeId, ...touched])) await settleOwners(db, id);
}

async function claimNamedFolders(db: Database): Promise<void> {
  for (const project of await db.select().from(projects)) {
    // The database narrows by a loose form, the core decides.
    const rows = await db
      .select({ volumeId: folders.volumeId, path: folders.path, name: folders.name })
      .from(folders)
      .where(
        sql`${folders.goneAt} IS NULL AND LOWER(REGEXP_REPLACE(${folders.name}, '[ _.]+', '-')) = ${project.slug}`,
      );
    for (const row of rows)
      if (isNamedAfter(row.name, project.slug))
        await claim(db, {
          projectId: project.id as ProjectId,
          volumeId: row.volumeId as VolumeId,
          folder: row.path,
          reason: 'named after the project',
        });
  }
}

async function settleOwners(db: Database, volumeId: VolumeId): Promise<void> {
  const all = await db.select().from(claims).where(eq(claims.volumeId, volumeId));
  const ownerOf = ownersOf(
    all.map((c) => ({ projectId: c.projectId as ProjectId, volumeId, folder: c.folder })),
    volumeId,
  );
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    'SELECT id, path, project_id AS owner FROM folders WHERE volume_id = ?',
    [volumeId],
  );
  const moved = new Map<number | null, number[]>();
  for (const row of rows) {
    const owner = ownerOf(row.path);
    const was = row.owner === null ? null : Number(row.owner);
    if (owner !== was) moved.set(owner, [...(moved.get(owner) ?? []), Number(row.id)]);
  }
  for (const [owner, ids] of moved)
    for (const some of inSlices(ids, 500))
      await withConnection(db, async (connection) => {
        await connection.query('UPDATE folders SET project_id = ? WHERE id IN (?)', [owner, some]);
        await connection.query('UPDATE files SET project_id = ? WHERE folder_id IN (?)', [owner, some]);
        await refreshHoldings(connection, some);
      });
}
