// Which documents name which files: the way from a file to the documents that are there, by targets and media. Steps that
// remove, move or archive ask here, so that no two of them differ about who uses a file.
import { and, asc, eq, inArray, isNotNull, isNull, ne, type SQL, sql } from 'drizzle-orm';
import type { Kind, ProjectId } from '#core/model.ts';
import { idList } from './conditions.ts';
import type { Db } from './connect.ts';
import { inSlices } from './holdings.ts';
import { files } from './schema/catalogue.ts';
import { documents, media, mediaTargets } from './schema/documents.ts';
import { stepItems } from './schema/plans.ts';
import { projects } from './schema/projects.ts';

/** Joins media `m` with its document `o` and that document's file `g`, which is there; older versions too. */
export const DOCUMENT_THERE = sql.raw(
  'JOIN documents o ON o.id = m.document_id JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL',
);
/** The same, of documents that count: no older versions. */
export const DOCUMENT_COUNTS = sql.raw(
  'JOIN documents o ON o.id = m.document_id AND o.superseded_by IS NULL JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL',
);
/** A library is everybody's: what lies in it is neither borrowed nor lent. */
const NO_LIBRARY = sql.raw("f.kind <> 'library'");

/** A row for each file that a document that is there names, older versions too: they still protect what they use. */
const namings = (db: Db) =>
  db
    .select({
      fileId: mediaTargets.fileId,
      projectId: media.projectId,
      used: media.used,
      documentId: documents.id,
      document: documents.name,
      supersededBy: documents.supersededBy,
      volumeId: files.volumeId,
    })
    .from(mediaTargets)
    .innerJoin(media, eq(media.id, mediaTargets.mediaId))
    .innerJoin(documents, eq(documents.id, media.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(and(isNull(files.goneAt), isNotNull(mediaTargets.fileId)))
    .as('namings');

/** Which projects' documents name these files. */
export async function usersOf(db: Db, fileIds: readonly number[]) {
  if (fileIds.length === 0) return [];
  const naming = namings(db);
  return db
    .selectDistinct({ fileId: naming.fileId, projectId: naming.projectId })
    .from(naming)
    .where(inArray(naming.fileId, [...fileIds]));
}

/** Those of these files that a timeline uses, of a project that is not archived; `newest`: in documents that count alone. */
export async function usedByLiving(db: Db, fileIds: readonly number[], { newest = false } = {}): Promise<Set<number>> {
  const used = new Set<number>();
  for (const ids of inSlices(fileIds, 2000)) {
    const naming = namings(db);
    const rows = await db
      .selectDistinct({ fileId: naming.fileId })
      .from(naming)
      .innerJoin(projects, eq(projects.id, naming.projectId))
      .where(
        and(
          inArray(naming.fileId, ids),
          eq(naming.used, true),
          ne(projects.state, 'archived'),
          newest ? isNull(naming.supersededBy) : undefined,
        ),
      );
    for (const row of rows) used.add(row.fileId!);
  }
  return used;
}

/** True for a file f that a timeline uses, of a project that is not archived. */
export const USED_BY_LIVING = sql.raw(
  `EXISTS (SELECT 1 FROM media_targets t JOIN media m ON m.id = t.media_id AND m.used JOIN documents o ON o.id = m.document_id
    JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL JOIN projects q ON q.id = m.project_id AND q.state <> 'archived' WHERE t.file_id = f.id)`,
);

/** True for a file f that no document names, in a timeline or not. */
export const NOT_NAMED = sql.raw('NOT EXISTS (SELECT 1 FROM media_targets t WHERE t.file_id = f.id)');

/** True for a file f that a document names of a project that does not own it. */
export const NAMED_BY_OTHERS = sql`EXISTS (SELECT 1 FROM media_targets t JOIN media m ON m.id = t.media_id ${DOCUMENT_THERE} WHERE t.file_id = f.id AND m.project_id <> COALESCE(f.project_id, 0))`;

/**
 * Files that the timelines of a project's documents use; of those that count alone, where older versions do not matter. From the
 * project's media on, whatever the database has counted of the tables by then: after many documents were read anew it began elsewhere.
 */
export async function usedFiles(db: Db, projectId: ProjectId, { newest = false } = {}): Promise<Set<number>> {
  const [rows] = (await db.execute(sql`
    SELECT STRAIGHT_JOIN DISTINCT t.file_id AS id FROM media m JOIN media_targets t ON t.media_id = m.id AND t.file_id IS NOT NULL ${DOCUMENT_THERE}
    WHERE m.project_id = ${projectId} AND m.used ${newest ? sql`AND o.superseded_by IS NULL` : sql``}`)) as unknown as [
    { id: number }[],
  ];
  return new Set(rows.map((row) => row.id));
}

/** Documents that count and name one of a step's items: they get a new version when the items move. */
export async function documentsNamingItems(db: Db, stepId: number) {
  const naming = namings(db);
  return db
    .selectDistinct({ id: naming.documentId, name: naming.document, volumeId: naming.volumeId })
    .from(naming)
    .where(
      and(
        isNull(naming.supersededBy),
        sql`${naming.fileId} IN (SELECT file_id FROM step_items WHERE step_id = ${stepId})`,
      ),
    );
}

/** Kinds of media: what else is named (a library, a render, a delivery) is never told as unused. */
export const MEDIA_KINDS = ['source', 'audio'] as const;

/**
 * Media that projects own and that a timeline of any project uses, a row for each file. What else of their media they own is
 * unused: the one definition, for every view.
 */
export const usedMedia = (projectIds: readonly number[]): SQL => sql`
  SELECT DISTINCT f.id, f.project_id, f.kind, f.size_bytes FROM files f JOIN media_targets t ON t.file_id = f.id
  JOIN media m ON m.id = t.media_id AND m.used ${DOCUMENT_THERE}
  WHERE f.project_id IN ${idList(projectIds)} AND f.gone_at IS NULL AND f.kind IN ${MEDIA_KINDS}`;

/** Projects that own a file which this document names: what they have unused follows from it. */
export async function ownersNamedBy(db: Db, documentId: number): Promise<ProjectId[]> {
  const rows = await db
    .selectDistinct({ id: files.projectId })
    .from(media)
    .innerJoin(mediaTargets, eq(mediaTargets.mediaId, media.id))
    .innerJoin(files, eq(files.id, mediaTargets.fileId))
    .where(and(eq(media.documentId, documentId), isNotNull(files.projectId)));
  return rows.map((row) => row.id as ProjectId);
}

/** Projects whose documents name one of a step's items. */
export const projectsNamingItems = (db: Db, stepId: number) =>
  db
    .selectDistinct({ id: media.projectId })
    .from(stepItems)
    .innerJoin(mediaTargets, eq(mediaTargets.fileId, stepItems.fileId))
    .innerJoin(media, eq(media.id, mediaTargets.mediaId))
    .where(eq(stepItems.stepId, stepId));

/** Projects whose own files, or files that they name, lie in these folders. */
export async function projectsOfFolders(db: Db, folderIds: readonly number[]): Promise<number[]> {
  if (folderIds.length === 0) return [];
  const ids = idList(folderIds);
  const [rows] = (await db.execute(sql`
    SELECT DISTINCT project_id AS id FROM files WHERE folder_id IN ${ids} AND project_id IS NOT NULL
    UNION SELECT DISTINCT m.project_id FROM files f JOIN media_targets t ON t.file_id = f.id JOIN media m ON m.id = t.media_id WHERE f.folder_id IN ${ids}`)) as unknown as [
    { id: number }[],
  ];
  return rows.map((row) => Number(row.id));
}

/** What a document's references lead to, as it writes them, in its order. */
export const targetsOf = (db: Db, document: { id: number } | { fileId: number }) =>
  db
    .select({ target: mediaTargets.target, fileId: mediaTargets.fileId })
    .from(mediaTargets)
    .innerJoin(media, eq(media.id, mediaTargets.mediaId))
    .innerJoin(documents, eq(documents.id, media.documentId))
    .where('id' in document ? eq(documents.id, document.id) : eq(documents.fileId, document.fileId))
    .orderBy(asc(mediaTargets.mediaId), asc(mediaTargets.ord));

export interface FileUser {
  projectId: ProjectId;
  name: string;
  timelines: number;
  names: string[];
  inTimelines: boolean;
}

/** Every project whose documents that count name the file, with the timelines that use it; at most twenty of their names. */
export async function fileUsers(db: Db, fileId: number): Promise<FileUser[]> {
  const [rows] = (await db.execute(sql`
    SELECT p.id, p.name, COUNT(DISTINCT u.timeline_id) AS timelines, MAX(m.used) AS used,
      GROUP_CONCAT(DISTINCT l.name ORDER BY l.name SEPARATOR '\n') AS names
    FROM media_targets t JOIN media m ON m.id = t.media_id ${DOCUMENT_COUNTS} JOIN projects p ON p.id = m.project_id
    LEFT JOIN uses u ON u.media_id = m.id LEFT JOIN timelines l ON l.id = u.timeline_id
    WHERE t.file_id = ${fileId} GROUP BY p.id, p.name ORDER BY p.name`)) as unknown as [
    { id: number; name: string; timelines: number; used: number; names: string | null }[],
  ];
  return rows.map((user) => ({
    projectId: Number(user.id) as ProjectId,
    name: user.name,
    timelines: Number(user.timelines),
    names: user.names?.split('\n').slice(0, 20) ?? [],
    inTimelines: Number(user.used) > 0,
  }));
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
  db: Db,
  projectId: ProjectId,
  most = 200,
): Promise<{ borrowed: BorrowedRow[]; lent: BorrowedRow[] }> {
  const list = async (pairs: SQL) => {
    const [rows] = (await db.execute(sql`
      SELECT f.id AS fileId, f.name, f.size_bytes AS bytes, f.kind, w.name AS owner, MIN(u.name) AS user FROM (${pairs}) m
      ${DOCUMENT_COUNTS} JOIN files f ON f.id = m.file_id AND f.gone_at IS NULL AND ${NO_LIBRARY} AND f.project_id <> m.project_id
      JOIN projects u ON u.id = m.project_id LEFT JOIN projects w ON w.id = f.project_id
      GROUP BY f.id, f.name, f.size_bytes, f.kind, w.name ORDER BY f.size_bytes DESC LIMIT ${most}`)) as unknown as [
      (Omit<BorrowedRow, 'bytes'> & { bytes: string | number })[],
    ];
    return rows.map((row) => ({ ...row, fileId: Number(row.fileId), bytes: Number(row.bytes) }));
  };
  // Which file by which document first, from indexes alone: a project has many files of its own, of which few are lent.
  const [borrowed, lent] = await Promise.all([
    list(
      sql`SELECT t.file_id, n.project_id, n.document_id FROM media n JOIN media_targets t ON t.media_id = n.id WHERE n.project_id = ${projectId}`,
    ),
    list(sql`
      SELECT STRAIGHT_JOIN DISTINCT h.id AS file_id, n.project_id, n.document_id FROM files h FORCE INDEX (files_project)
      JOIN media_targets t ON t.file_id = h.id JOIN media n ON n.id = t.media_id AND n.project_id <> h.project_id WHERE h.project_id = ${projectId}`),
  ]);
  return { borrowed, lent };
}

/** Whether a row of media has a file that is another project's. */
export const isBorrowed = (projectId: ProjectId): SQL =>
  sql`EXISTS (SELECT 1 FROM media_targets t JOIN files f ON f.id = t.file_id WHERE t.media_id = ${media.id} AND f.project_id <> ${projectId} AND ${NO_LIBRARY})`;

/** Whether a row of media has a file that other projects' documents name as well. */
export const isLent = (projectId: ProjectId): SQL =>
  sql`EXISTS (SELECT 1 FROM media_targets t JOIN files f ON f.id = t.file_id AND ${NO_LIBRARY} JOIN media_targets x ON x.file_id = t.file_id
    JOIN media m ON m.id = x.media_id AND m.project_id <> ${projectId} ${DOCUMENT_COUNTS} WHERE t.media_id = ${media.id})`;

/** Names of the other projects whose documents name the files of these media. */
export async function lentTo(
  db: Db,
  mediaIds: readonly number[],
  projectId: ProjectId,
): Promise<Map<number, string[]>> {
  const lent = new Map<number, string[]>();
  for (const ids of inSlices(mediaIds, 2000)) {
    const [rows] = (await db.execute(sql`
      SELECT DISTINCT t.media_id AS mediaId, p.name FROM media_targets t JOIN media_targets x ON x.file_id = t.file_id
      JOIN media m ON m.id = x.media_id AND m.project_id <> ${projectId} ${DOCUMENT_COUNTS}
      JOIN files f ON f.id = t.file_id AND ${NO_LIBRARY} JOIN projects p ON p.id = m.project_id
      WHERE t.media_id IN ${idList(ids)} AND t.ord = 0 ORDER BY p.name`)) as unknown as [
      { mediaId: number; name: string }[],
    ];
    for (const row of rows) lent.set(Number(row.mediaId), [...(lent.get(Number(row.mediaId)) ?? []), row.name]);
  }
  return lent;
}
