// Which documents name which files: the way from a file to the documents that are there, by targets and media. Steps that
// remove, move or archive ask here, so that no two of them differ about who uses a file.
import { and, eq, inArray, isNotNull, isNull, sql } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import type { Db } from './connect.ts';
import { files } from './schema/catalogue.ts';
import { documents, media, mediaTargets } from './schema/documents.ts';

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

/** Files that the timelines of a project's documents use. */
export async function usedFiles(db: Db, projectId: ProjectId): Promise<Set<number>> {
  const naming = namings(db);
  const rows = await db
    .selectDistinct({ id: naming.fileId })
    .from(naming)
    .where(and(eq(naming.projectId, projectId), eq(naming.used, true)));
  return new Set(rows.map((row) => row.id!));
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
