// Whose a file is and why, who else uses it, and the bytes that belong to nobody. Asked by the space lens for one file,
// and by the site lens for each volume.
import { and, eq, isNull, notInArray, type SQL, sql } from 'drizzle-orm';
import type { Kind, ProjectId, VolumeId } from '#core/model.ts';
import { liesIn } from '#core/paths.ts';
import type { Database } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents, media, mediaTargets } from '../db/schema/documents.ts';
import { claims, homes, projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { volumeSums } from '../db/schema/sums.ts';

export interface Ownership {
  project: { projectId: ProjectId; name: string } | null;
  /** Why: "below fog/camera, named after the project". */
  reason: string;
  /** Every project whose documents name the file. */
  users: { projectId: ProjectId; name: string; timelines: number; names: string[]; inTimelines: boolean }[];
  /** Used by a project other than its own. */
  borrowed: boolean;
  atHome: boolean | null;
}

export interface FileFacts extends Ownership {
  fileId: number;
  name: string;
  kind: Kind;
  bytes: number;
  modifiedUs: number;
  folderId: number;
  folder: string;
  volumeId: VolumeId;
  volume: string;
}

export async function fileFacts(db: Database, fileId: number): Promise<FileFacts | null> {
  const [row] = await db
    .select({ file: files, folder: folders.path, volume: volumes.name, duty: volumes.duty })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(and(eq(files.id, fileId), isNull(files.goneAt)));
  if (!row) return null;
  const { file, folder, volume } = row;
  const users = await usersOf(db, fileId);
  const [owner] = file.projectId
    ? await db
        .select({ projectId: projects.id, name: projects.name })
        .from(projects)
        .where(eq(projects.id, file.projectId))
    : [];
  const project = owner ? { ...owner, projectId: owner.projectId as ProjectId } : null;
  return {
    fileId,
    name: file.name,
    kind: file.kind,
    bytes: file.sizeBytes,
    modifiedUs: file.modifiedUs,
    folderId: file.folderId,
    folder,
    volumeId: file.volumeId as VolumeId,
    volume,
    project,
    reason: await reasonOf(db, { project, volumeId: file.volumeId, folder, kind: file.kind }),
    users,
    borrowed: file.kind !== 'library' && users.some((user) => user.projectId !== project?.projectId),
    atHome: project ? await isHome(db, project.projectId, { kind: file.kind, volumeId: file.volumeId, folder }) : null,
  };
}

async function usersOf(db: Database, fileId: number): Promise<Ownership['users']> {
  const rows = await db
    .select({
      projectId: projects.id,
      name: projects.name,
      timelines: sql`COUNT(DISTINCT u.timeline_id)`.mapWith(Number),
      names: sql<string | null>`GROUP_CONCAT(DISTINCT l.name ORDER BY l.name SEPARATOR '\n')`,
      used: sql`MAX(${media.used})`.mapWith(Number),
    })
    .from(mediaTargets)
    .innerJoin(media, eq(media.id, mediaTargets.mediaId))
    .innerJoin(documents, and(eq(documents.id, media.documentId), isNull(documents.supersededBy)))
    .innerJoin(projects, eq(projects.id, media.projectId))
    .leftJoin(sql`uses u`, sql`u.media_id = ${media.id}`)
    .leftJoin(sql`timelines l`, sql`l.id = u.timeline_id`)
    .where(eq(mediaTargets.fileId, fileId))
    .groupBy(projects.id, projects.name)
    .orderBy(projects.name);
  return rows.map((user) => ({
    projectId: user.projectId as ProjectId,
    name: user.name,
    timelines: user.timelines,
    names: user.names?.split('\n').slice(0, 20) ?? [],
    inTimelines: user.used > 0,
  }));
}

async function reasonOf(
  db: Database,
  { project, volumeId, folder, kind }: { project: Ownership['project']; volumeId: number; folder: string; kind: Kind },
): Promise<string> {
  if (kind === 'library') return 'a library is everybody’s: it never strays and is never unused';
  if (!project) return 'no document names it, no project has it in a folder or a home of its own';
  const own = (
    await db
      .select()
      .from(claims)
      .where(and(eq(claims.projectId, project.projectId), eq(claims.volumeId, volumeId)))
  )
    .filter((row) => liesIn(folder, row.folder))
    .sort((a, b) => b.folder.length - a.folder.length)[0];
  return own ? `below ${own.folder}: ${own.reason}` : 'named by a document of the project';
}

async function isHome(
  db: Database,
  projectId: ProjectId,
  at: { kind: Kind; volumeId: number; folder: string },
): Promise<boolean | null> {
  const [home] = await db
    .select()
    .from(homes)
    .where(and(eq(homes.projectId, projectId), eq(homes.kind, at.kind)));
  return home ? home.volumeId === at.volumeId && liesIn(at.folder, home.folder) : null;
}

export interface Ownerless {
  volumeId: VolumeId;
  files: number;
  bytes: number;
}

/** Kinds that nobody has to own: a library is everybody's, caches have a lens of their own, the rest is the system's. */
const NEED_NO_OWNER = ['library', 'cache', 'other'] as const;

/** What belongs to no project, by volume, the most first. */
export async function ownerlessByVolume(db: Database): Promise<Ownerless[]> {
  const rows = await db
    .select({
      volumeId: volumeSums.volumeId,
      files: sql`SUM(${volumeSums.files})`.mapWith(Number),
      bytes: sql`SUM(${volumeSums.bytes})`.mapWith(Number),
    })
    .from(volumeSums)
    .where(and(eq(volumeSums.projectId, 0), notInArray(volumeSums.kind, [...NEED_NO_OWNER])))
    .groupBy(volumeSums.volumeId)
    .orderBy(sql`SUM(${volumeSums.bytes}) DESC`);
  return rows.map((row) => ({ ...row, volumeId: row.volumeId as VolumeId }));
}

export interface BorrowedRow {
  fileId: number;
  name: string;
  bytes: number;
  kind: Kind;
  /** Whose it is; null: nobody's. */
  owner: string | null;
  /** The project whose documents name it. */
  user: string;
}

/** Files a project uses that are another's, and its own that others use; largest first. */
export async function borrowedBy(
  db: Database,
  projectId: ProjectId,
  most = 200,
): Promise<{ borrowed: BorrowedRow[]; lent: BorrowedRow[] }> {
  const list = async (pairs: SQL) => {
    const [rows] = (await db.execute(sql`
      SELECT f.id AS fileId, f.name, f.size_bytes AS bytes, f.kind, o.name AS owner, MIN(u.name) AS user FROM (${pairs}) x
      JOIN documents d ON d.id = x.document_id AND d.superseded_by IS NULL JOIN files g ON g.id = d.file_id AND g.gone_at IS NULL
      JOIN files f ON f.id = x.file_id AND f.gone_at IS NULL AND f.kind <> 'library' AND f.project_id <> x.project_id
      JOIN projects u ON u.id = x.project_id LEFT JOIN projects o ON o.id = f.project_id
      GROUP BY f.id, f.name, f.size_bytes, f.kind, o.name ORDER BY f.size_bytes DESC LIMIT ${most}`)) as unknown as [
      (Omit<BorrowedRow, 'bytes'> & { bytes: string | number })[],
    ];
    return rows.map((row) => ({ ...row, fileId: Number(row.fileId), bytes: Number(row.bytes) }));
  };
  // Which file by which document first, from indexes alone: a project has many files of its own, of which few are lent.
  const [borrowed, lent] = await Promise.all([
    list(
      sql`SELECT t.file_id, m.project_id, m.document_id FROM media m JOIN media_targets t ON t.media_id = m.id WHERE m.project_id = ${projectId}`,
    ),
    list(sql`
      SELECT STRAIGHT_JOIN DISTINCT h.id AS file_id, m.project_id, m.document_id FROM files h FORCE INDEX (files_project)
      JOIN media_targets t ON t.file_id = h.id JOIN media m ON m.id = t.media_id AND m.project_id <> h.project_id WHERE h.project_id = ${projectId}`),
  ]);
  return { borrowed, lent };
}
