// Whose a file is and why, who else uses it, and the bytes that belong to nobody. Asked by the space lens for one file,
// and by the site lens for each volume.
import { and, eq, isNull, notInArray, sql } from 'drizzle-orm';
import type { Kind, ProjectId, VolumeId } from '#core/model.ts';
import { kindsInFolder } from '#core/kinds/kinds.ts';
import { folderOf, joinPath, liesIn, nameOf } from '#core/paths.ts';
import type { Database } from '../db/connect.ts';
import { type FileUser, fileUsers } from '../db/naming.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { claims, homes, keptKinds, projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { volumeSums } from '../db/schema/sums.ts';

export interface Ownership {
  project: { projectId: ProjectId; name: string } | null;
  /** Why: "below fog/camera, named after the project". */
  reason: string;
  /** Every project whose documents name the file. */
  users: FileUser[];
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
  /** Why it is of its kind, where that is not by the rules of the house. */
  kindReason: string | null;
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
  const users = await fileUsers(db, fileId);
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
    kindReason: await kindReasonOf(db, file.volumeId, joinPath(folder, file.name)),
    reason: await reasonOf(db, { project, volumeId: file.volumeId, folder, kind: file.kind }),
    users,
    borrowed: file.kind !== 'library' && users.some((user) => user.projectId !== project?.projectId),
    atHome: project ? await isHome(db, project.projectId, { kind: file.kind, volumeId: file.volumeId, folder }) : null,
  };
}

async function kindReasonOf(db: Database, volumeId: number, path: string): Promise<string | null> {
  const kept = await db.select().from(keptKinds).where(eq(keptKinds.volumeId, volumeId));
  const one = kept.find((row) => liesIn(path, row.folder));
  return one && kindsInFolder(one.rules, folderOf(path), 'none')(nameOf(path)) !== 'other' ? one.reason : null;
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
