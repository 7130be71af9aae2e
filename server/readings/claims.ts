// Which folders a project claims, and so which files are its own. A project claims the folder its document lies in, and
// every folder named after it; each claim keeps its reason.
import { and, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import type { Parked } from '#core/homes/homes.ts';
import { isNamedAfter, ownersOf, slugOf } from '#core/homes/owners.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { folderOf, liesIn, nameOf } from '#core/paths.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { type Database, type Db, inTransaction, type Transaction, withConnection } from '../db/connect.ts';
import { inSlices, lockFolders, refreshHoldings } from '../db/holdings.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents } from '../db/schema/documents.ts';
import { claims, homes, projects } from '../db/schema/projects.ts';
import { site } from '../db/schema/site.ts';
import { volumes } from '../db/schema/stores.ts';

/** Where projects keep what they have parked. */
export async function parkedPlaces(db: Pick<Db, 'select'>, ids: readonly ProjectId[]): Promise<Parked[]> {
  if (ids.length === 0) return [];
  const rows = await db
    .select({ projectId: claims.projectId, volumeId: claims.volumeId, folder: claims.folder })
    .from(claims)
    .where(and(eq(claims.parked, true), inArray(claims.projectId, [...ids])));
  return rows.map((row) => ({ ...row, volumeId: row.volumeId as VolumeId }));
}

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

/**
 * Brings the claims that come from homes up to date: a home says whose the files below it are, where it is no other
 * project's as well. Claims of other projects that this one's homes now share go too.
 */
export async function updateHomeClaims(tx: Transaction, projectId: ProjectId): Promise<void> {
  const all = (await tx.select().from(homes)).filter((home) => home.folder !== '');
  const tops = new Set(
    (await tx.select().from(homes)).filter((home) => home.folder === '').map((home) => home.volumeId),
  );
  const own = all.filter((home) => home.projectId === projectId);
  const isShared = (home: (typeof all)[number]) =>
    tops.has(home.volumeId) ||
    all.some(
      (other) =>
        other.projectId !== home.projectId &&
        other.volumeId === home.volumeId &&
        (liesIn(other.folder, home.folder) || liesIn(home.folder, other.folder)),
    );
  const fromHomes = await tx
    .select()
    .from(claims)
    .where(sql`${claims.reason} LIKE ${`${HOME_REASON}%`}`);
  for (const row of fromHomes) {
    const home = all.find(
      (h) => h.projectId === row.projectId && h.volumeId === row.volumeId && h.folder === row.folder,
    );
    if (home && !isShared(home)) continue;
    await tx.delete(claims).where(eq(claims.id, row.id));
    // What it had claimed is to be applied anew.
    await tx.update(claims).set({ applied: false }).where(eq(claims.volumeId, row.volumeId));
  }
  for (const home of own)
    if (!isShared(home))
      await claim(tx, {
        projectId,
        volumeId: home.volumeId as VolumeId,
        folder: home.folder,
        reason: `${HOME_REASON} for ${home.kind}`,
      });
}

const HOME_REASON = 'its home';

/** Whether a claim comes from a home of its project. */
export const isOfHome = (reason: string): boolean => reason.startsWith(HOME_REASON);

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

/**
 * Claims folders named after known projects, then gives folders and files their owners: on the volume that was read, and
 * on every other where a claim is new. Gives the projects that gained or lost files by it.
 */
export async function applyClaims(db: Database, volumeId: VolumeId): Promise<number[]> {
  const all = (await db.select({ id: volumes.id }).from(volumes)).map((row) => row.id as VolumeId);
  const [newest] = await db.select({ id: sql`COALESCE(MAX(${projects.id}), 0)`.mapWith(Number) }).from(projects);
  const [settled] = await db.select().from(site).where(eq(site.key, SETTLED));
  // A project met for the first time may be what folders read long ago are named after.
  await claimNamedFolders(db, Number(settled?.value ?? 0) < newest!.id ? all : [volumeId]);
  const open = await db.selectDistinct({ id: claims.volumeId }).from(claims).where(eq(claims.applied, false));
  const changed = new Set<number>();
  for (const id of new Set([volumeId, ...open.map((row) => row.id as VolumeId)]))
    for (const owner of await recomputeOwners(db, id)) changed.add(owner);
  const value = String(newest!.id);
  await inTransaction(db, (tx) =>
    tx.insert(site).values({ key: SETTLED, value }).onDuplicateKeyUpdate({ set: { value } }),
  );
  return [...changed];
}

const SETTLED = 'projects settled';

async function claimNamedFolders(db: Database, on: readonly VolumeId[]): Promise<void> {
  const bySlug = new Map((await db.select().from(projects)).map((project) => [project.slug, project.id as ProjectId]));
  if (bySlug.size === 0) return;
  for (const volumeId of on) {
    const found: Claiming[] = [];
    const rows = await db
      .select({ path: folders.path, name: folders.name })
      .from(folders)
      .where(and(eq(folders.volumeId, volumeId), isNull(folders.goneAt)));
    for (const row of rows) {
      const projectId = bySlug.get(slugOf(row.name));
      if (projectId !== undefined)
        found.push({ projectId, volumeId, folder: row.path, reason: 'named after the project' });
    }
    await inTransaction(db, async (tx) => {
      for (const one of found) await claim(tx, one);
    });
  }
}

async function recomputeOwners(db: Database, volumeId: VolumeId): Promise<Set<number>> {
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
  const changed = new Set<number>();
  for (const row of rows) {
    const owner = ownerOf(row.path);
    const was = row.owner === null ? null : Number(row.owner);
    if (owner === was) continue;
    for (const one of [owner, was]) if (one !== null) changed.add(one);
    const list = moved.get(owner);
    if (list) list.push(Number(row.id));
    else moved.set(owner, [Number(row.id)]);
  }
  for (const [owner, ids] of moved)
    for (const some of inSlices(ids, 500))
      await withConnection(db, async (connection) => {
        await lockFolders(connection, some);
        await connection.query('UPDATE folders SET project_id = ? WHERE id IN (?)', [owner, some]);
        await connection.query('UPDATE files SET project_id = ? WHERE folder_id IN (?)', [owner, some]);
        await refreshHoldings(connection, some);
      });
  await inTransaction(db, (tx) => tx.update(claims).set({ applied: true }).where(eq(claims.volumeId, volumeId)));
  return changed;
}
