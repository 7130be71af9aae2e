// After a volume was read: reads the project documents on it that are new or changed, settles which project they and
// the folders around them belong to, and looks for every document's media again. Called by the reading job.
import { and, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { DocumentModel, DocumentTrouble } from '#core/documents/model.ts';
import { slugOf } from '#core/homes/owners.ts';
import { isProjectDocument } from '#core/kinds/kinds.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { codeOf } from '#disk/facts.ts';
import type { DocumentPool } from '#disk/documents/documents.ts';
import { locate, rawPathOf } from '#disk/paths.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { forgetContents, writeContents } from '../db/documents.ts';
import { documents, files, folders, projects, volumes } from '../db/schema.ts';
import { applyClaims, claimForDocument } from '../services/claims.ts';
import { leaveSamples } from '../services/growth.ts';
import { matchMedia } from '../services/match-media.ts';

export interface DocumentsResult {
  read: number;
  broken: { path: string; where: string; detail: string }[];
}

interface Found {
  fileId: number;
  name: string;
  rawName: Buffer | null;
  folder: string;
  rawFolder: Buffer | null;
  sizeBytes: number;
  modifiedUs: number;
}

export async function readDocuments(
  db: Database,
  pool: DocumentPool,
  volumeId: VolumeId,
  now: () => Date,
): Promise<DocumentsResult> {
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
  const result: DocumentsResult = { read: 0, broken: [] };
  if (!volume) return result;
  for (const found of await changedDocuments(db, volumeId)) {
    const path = joinPath(found.folder, found.name);
    const raw = rawPathOf(found.folder, found.rawFolder, found.name, found.rawName);
    try {
      const response = await pool.ask({ path: locate(volume.path, { path, raw }) });
      if (response.reading.ok)
        await keep(db, { volumeId, found, now: now() }, { ...response, model: response.reading.document });
      else {
        result.broken.push({ path, ...response.reading.trouble });
        await keepBroken(db, { volumeId, found, now: now() }, { ...response, trouble: response.reading.trouble });
      }
      result.read++;
    } catch (error) {
      // It vanished or cannot be opened: the next reading meets it again.
      result.broken.push({ path, where: 'its file', detail: codeOf(error) });
    }
  }
  await applyClaims(db, volumeId);
  await matchMedia(db);
  // Last, because only now is it settled which files are whose.
  await leaveSamples(db, volumeId, Math.floor(now().getTime() / 86_400_000));
  return result;
}

async function changedDocuments(db: Database, volumeId: VolumeId): Promise<Found[]> {
  const rows = await db
    .select({
      fileId: files.id,
      name: files.name,
      rawName: files.rawName,
      folder: folders.path,
      rawFolder: folders.rawPath,
      sizeBytes: files.sizeBytes,
      modifiedUs: files.modifiedUs,
      readSize: documents.readSizeBytes,
      readUs: documents.readModifiedUs,
    })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .leftJoin(documents, eq(documents.fileId, files.id))
    .where(
      and(
        eq(files.volumeId, volumeId),
        eq(files.kind, 'document'),
        isNull(files.goneAt),
        sql`${files.name} LIKE '%.otio'`,
      ),
    )
    .orderBy(folders.path, files.name);
  return rows
    .filter((row) => isProjectDocument(row.name) && (row.readSize !== row.sizeBytes || row.readUs !== row.modifiedUs))
    .map((row) => ({ ...row, rawName: row.rawName, rawFolder: row.rawFolder }));
}

interface At {
  volumeId: VolumeId;
  found: Found;
  now: Date;
}
interface Read {
  sizeBytes: number;
  modifiedUs: number;
  model: DocumentModel;
}

async function keep(db: Database, { volumeId, found, now }: At, read: Read): Promise<void> {
  await inTransaction(db, async (tx) => {
    const projectId = await projectOf(tx, { volumeId, found, now }, read.model.name);
    const row = {
      projectId,
      name: found.name,
      state: 'read' as const,
      trouble: null,
      readSizeBytes: read.sizeBytes,
      readModifiedUs: read.modifiedUs,
      readAt: now,
    };
    const [{ insertId: documentId }] = await tx
      .insert(documents)
      .values({ fileId: found.fileId, ...row })
      .onDuplicateKeyUpdate({ set: { ...row, id: sql`last_insert_id(${documents.id})` } });
    await forgetContents(tx, documentId);
    await writeContents(tx, { documentId, projectId, model: read.model });
    await claimForDocument(tx, { projectId, volumeId, folder: found.folder });
  });
}

/** A broken document keeps what was known from its last good reading, and says what is wrong with it now. */
async function keepBroken(
  db: Database,
  { volumeId, found, now }: At,
  response: { sizeBytes: number; modifiedUs: number; trouble: DocumentTrouble },
): Promise<void> {
  const { trouble } = response;
  const said = {
    state: 'broken' as const,
    trouble: `${trouble.detail}, at ${trouble.where}`,
    readSizeBytes: response.sizeBytes,
    readModifiedUs: response.modifiedUs,
    readAt: now,
  };
  await inTransaction(db, async (tx) => {
    const [known] = await tx.select({ id: documents.id }).from(documents).where(eq(documents.fileId, found.fileId));
    if (known) await tx.update(documents).set(said).where(eq(documents.id, known.id));
    else {
      const projectId = await projectOf(tx, { volumeId, found, now }, '');
      await tx.insert(documents).values({ fileId: found.fileId, projectId, name: found.name, ...said });
      await claimForDocument(tx, { projectId, volumeId, folder: found.folder });
    }
  });
}

/** The project a document belongs to: the owner of its folder, else the one named as the document, else a new one. */
async function projectOf(tx: Transaction, { volumeId, found, now }: At, title: string): Promise<ProjectId> {
  const [file] = await tx
    .select({ projectId: files.projectId })
    .from(files)
    .where(and(eq(files.id, found.fileId), eq(files.volumeId, volumeId)));
  if (file?.projectId) return file.projectId as ProjectId;
  const name = (title || found.name.replace(/\.otio$/i, '')).slice(0, 250);
  const slug = slugOf(name) || `project-${found.fileId}`;
  await tx
    .insert(projects)
    .values({ name, slug, state: 'in work', stateSince: now })
    .onDuplicateKeyUpdate({ set: { slug } });
  const [project] = await tx.select({ id: projects.id }).from(projects).where(eq(projects.slug, slug));
  return project!.id as ProjectId;
}

/** Documents of a project whose file is still there; of an archived one with none, the last that were known. */
export async function livingDocuments(db: Database, projectId: ProjectId): Promise<number[]> {
  const rows = await db
    .select({ id: documents.id, goneAt: files.goneAt })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(inArray(documents.projectId, [projectId]));
  const living = rows.filter((row) => row.goneAt === null);
  return (living.length > 0 ? living : rows).map((row) => row.id);
}
