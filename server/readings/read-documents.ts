// After a volume was read: reads the project documents on it that are new or changed, settles which project they and
// the folders around them belong to, and looks for every document's media again. Called by the reading job.
import { houseDay } from '#core/house-time.ts';
import { and, eq, gte, inArray, isNull, sql } from 'drizzle-orm';
import { documentEndings, documentFormat } from '#core/documents/formats/registry.ts';
import { type DocumentModel, type DocumentTrouble } from '#core/documents/model.ts';
import { versionOf } from '#core/documents/versions.ts';
import { slugOf } from '#core/homes/owners.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { codeOf } from '#disk/facts.ts';
import { type DocumentPool, readDocument } from '#disk/documents/documents.ts';
import { locate, placeOfFile } from '#disk/paths.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { forgetContents, writeContents } from '../db/documents.ts';
import { ownersNamedBy, projectsOfFolders } from '../db/naming.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents } from '../db/schema/documents.ts';
import { projects } from '../db/schema/projects.ts';
import { site } from '../db/schema/site.ts';
import { volumes } from '../db/schema/stores.ts';
import { folderHoldings } from '../db/schema/sums.ts';
import { applyClaims, claimForDocument } from './claims.ts';
import { readNamedEssence } from './essence.ts';
import { leaveSamples } from './growth.ts';
import { matchMedia } from './match-media.ts';
import { matchByEvidence } from './missing.ts';
import { recomputeProjectSums } from './project-sums.ts';
import { recomputeVersions } from './versions.ts';
import { type ReadingResult, unfinishedKey } from './read-volume.ts';

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
  {
    now,
    reading,
    path: foundAt,
  }: {
    now: () => Date;
    reading?: Pick<ReadingResult, 'readingId' | 'touched'>;
    /** Where this worker finds the volume; left out: where it is registered. */
    path?: string;
  },
): Promise<DocumentsResult> {
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
  const result: DocumentsResult = { read: 0, broken: [] };
  // Times are kept in whole seconds by some columns.
  const since = new Date(now().getTime() - 1000);
  if (!volume) return result;
  // Broken ones last: they belong with the documents beside them, which say by then whose folder it is.
  const broken: (() => Promise<void>)[] = [];
  // Whose media the documents named before.
  const owners = new Set<ProjectId>();
  // A place that cannot be found is trouble of that document alone.
  const ahead = readAhead(await changedDocuments(db, volumeId), async (found) =>
    readDocument(pool, { path: locate(foundAt ?? volume.path, placeOfFile(found)), name: found.name }, found),
  );
  for (const { one: found, read } of ahead) {
    const { path } = placeOfFile(found);
    try {
      const response = await read;
      if (response.reading.ok)
        for (const id of await keep(
          db,
          { volumeId, found, now: now() },
          { ...response, model: response.reading.document },
        ))
          owners.add(id);
      else {
        const { trouble } = response.reading;
        result.broken.push({ path, ...trouble });
        broken.push(() => keepBroken(db, { volumeId, found, now: now() }, { ...response, trouble }));
      }
      result.read++;
    } catch (error) {
      // It vanished or cannot be opened: the next reading meets it again.
      result.broken.push({ path, where: 'its file', detail: codeOf(error) });
    }
  }
  for (const keepIt of broken) await keepIt();
  const touched = await foldersToUpdate(db, volumeId, reading);
  await updateAfterDocuments(db, pool, { volumeId, since, touched, owners });
  // Last, because only now is it settled which files are whose.
  await leaveSamples(db, volumeId, houseDay(now().getTime()));
  return result;
}

/** Documents that are read before their turn comes to be kept, so that a slow one does not hold the others. */
const MOST_AHEAD = 6;
const MOST_BYTES_AHEAD = 64 << 20;

function* readAhead<One extends { sizeBytes: number }, Read>(
  all: readonly One[],
  read: (one: One) => Promise<Read>,
): Generator<{ one: One; read: Promise<Read> }> {
  const begun: { one: One; read: Promise<Read> }[] = [];
  let next = 0;
  const bytes = () => begun.reduce((sum, { one }) => sum + one.sizeBytes, 0);
  while (next < all.length || begun.length > 0) {
    while (
      next < all.length &&
      (begun.length === 0 || (begun.length < MOST_AHEAD && bytes() + all[next]!.sizeBytes < MOST_BYTES_AHEAD))
    ) {
      const one = all[next++]!;
      const reading = read(one);
      // Whoever takes its turn hears of it; until then it is no unheard trouble.
      reading.catch(() => undefined);
      begun.push({ one, read: reading });
    }
    yield begun.shift()!;
  }
}

/** What an earlier reading left unsettled is settled with this one: then everything is. */
async function foldersToUpdate(
  db: Database,
  volumeId: VolumeId,
  reading: Pick<ReadingResult, 'readingId' | 'touched'> | undefined,
): Promise<readonly number[] | 'all'> {
  if (!reading) return 'all';
  const [mark] = await db
    .select()
    .from(site)
    .where(eq(site.key, unfinishedKey(volumeId)));
  return mark?.value === String(reading.readingId) ? reading.touched : 'all';
}

/**
 * Brings up to date what follows from documents and files: whose folders are, which version counts, where media lie, what
 * they are, what each project misses. `since`: documents read since then are new; `touched`: folders of the volume in
 * which files came, changed or went.
 */
export async function updateAfterDocuments(
  db: Database,
  pool: DocumentPool,
  {
    volumeId,
    since,
    touched,
    owners: before = new Set(),
  }: { volumeId: VolumeId; since: Date; touched: readonly number[] | 'all'; owners?: ReadonlySet<ProjectId> },
): Promise<void> {
  const owners = await applyClaims(db, volumeId);
  const versions = await recomputeVersions(db);
  const matched = await matchMedia(db, { volumeId, since, touched });
  await readNamedEssence(db, pool, { volumeId, since, touched });
  const evident = await matchByEvidence(db, pool, { since, touched });
  const inFolders = touched === 'all' ? 'all' : await projectsOfFolders(db, touched);
  const fresh = await db
    .select({ id: documents.id, projectId: documents.projectId })
    .from(documents)
    .where(gte(documents.readAt, since));
  const named: ProjectId[] = [];
  if (inFolders !== 'all') for (const { id } of fresh) named.push(...(await ownersNamedBy(db, id)));
  await recomputeProjectSums(
    db,
    inFolders === 'all'
      ? undefined
      : [
          ...new Set([
            ...owners,
            ...versions,
            ...matched,
            ...evident,
            ...inFolders,
            ...before,
            ...named,
            ...fresh.map((row) => row.projectId),
          ]),
        ].map((id) => id as ProjectId),
  );
  await inTransaction(db, (tx) => tx.delete(site).where(eq(site.key, unfinishedKey(volumeId))));
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
    .from(folderHoldings)
    .innerJoin(folders, eq(folders.id, folderHoldings.folderId))
    .innerJoin(files, eq(files.folderId, folders.id))
    .leftJoin(documents, eq(documents.fileId, files.id))
    .where(
      and(
        eq(folderHoldings.volumeId, volumeId),
        eq(folderHoldings.kind, 'document'),
        eq(files.kind, 'document'),
        isNull(files.goneAt),
        // What was handed over is not worked on here.
        sql`NOT EXISTS (SELECT 1 FROM handed_over h WHERE h.volume_id = ${volumeId} AND LEFT(CONCAT(${folders.path}, '/'), CHAR_LENGTH(h.folder) + 1) = CONCAT(h.folder, '/'))`,
        sql`${files.name} REGEXP ${`[.](${documentEndings().join('|')})$`}`,
      ),
    )
    // A folder has a row for each day and project.
    .groupBy(files.id)
    .orderBy(folders.path, files.name);
  return rows
    .filter(
      (row) => documentFormat(row.name) !== null && (row.readSize !== row.sizeBytes || row.readUs !== row.modifiedUs),
    )
    .map((row) => ({ ...row, rawName: row.rawName, rawFolder: row.rawFolder }))
    .sort((a, b) => Number(isExchange(a.name)) - Number(isExchange(b.name)));
}

/** Lists and sessions that were made for a project somewhere else: they join what lies beside them. */
const isExchange = (name: string) => documentFormat(name)?.isExchange ?? true;

interface At {
  volumeId: VolumeId;
  found: Found;
  now: Date;
}
interface Read {
  sizeBytes: number;
  modifiedUs: number;
  format: string;
  model: DocumentModel;
}

/** Gives the projects whose media it named before. */
async function keep(db: Database, { volumeId, found, now }: At, read: Read): Promise<ProjectId[]> {
  return inTransaction(db, async (tx) => {
    const beside = isExchange(found.name) ? await projectBeside(tx, found.fileId) : null;
    const projectId = beside ?? (await projectOf(tx, { volumeId, found, now }, read.model));
    const row = {
      projectId,
      name: found.name,
      format: read.format,
      state: 'read' as const,
      trouble: null,
      notes: read.model.notes,
      needs: read.model.needs ?? null,
      readSizeBytes: read.sizeBytes,
      readModifiedUs: read.modifiedUs,
      readAt: now,
    };
    const [{ insertId: documentId }] = await tx
      .insert(documents)
      .values({ fileId: found.fileId, ...row })
      .onDuplicateKeyUpdate({ set: { ...row, id: sql`last_insert_id(${documents.id})` } });
    const owners = await ownersNamedBy(tx, documentId);
    await forgetContents(tx, documentId);
    await writeContents(tx, { documentId, projectId, model: read.model });
    await claimForDocument(tx, { projectId, volumeId, folder: found.folder });
    return owners;
  });
}

/** A broken document keeps what was known from its last good reading, and says what is wrong with it now. */
async function keepBroken(
  db: Database,
  { volumeId, found, now }: At,
  response: { sizeBytes: number; modifiedUs: number; format: string; trouble: DocumentTrouble },
): Promise<void> {
  const { trouble } = response;
  const said = {
    format: response.format,
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
      const projectId =
        (await projectBeside(tx, found.fileId)) ?? (await projectOf(tx, { volumeId, found, now }, null));
      await tx.insert(documents).values({ fileId: found.fileId, projectId, name: found.name, ...said });
      await claimForDocument(tx, { projectId, volumeId, folder: found.folder });
    }
  });
}

/** The project of the other documents in its folder, where they are all of one. */
async function projectBeside(tx: Transaction, fileId: number): Promise<ProjectId | null> {
  const own = tx.select({ folderId: files.folderId }).from(files).where(eq(files.id, fileId));
  const rows = await tx
    .selectDistinct({ projectId: documents.projectId })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(and(inArray(files.folderId, own), isNull(files.goneAt)));
  return rows.length === 1 ? (rows[0]!.projectId as ProjectId) : null;
}

/** The project a document belongs to: the owner of its folder, else the one named as the document, else a new one. */
async function projectOf(
  tx: Transaction,
  { volumeId, found, now }: At,
  model: DocumentModel | null,
): Promise<ProjectId> {
  const [file] = await tx
    .select({ projectId: files.projectId })
    .from(files)
    .where(and(eq(files.id, found.fileId), eq(files.volumeId, volumeId)));
  if (file?.projectId) return file.projectId as ProjectId;
  // The document inside a folder bundle is named after the folder.
  const bundle = /(?:^|\/)([^/]+)\.otiod$/i.exec(found.folder)?.[1];
  // A list made for a project somewhere else is one of many: the folder that it lies in says whose it is.
  const folder = isExchange(found.name) ? found.folder.split('/').at(-1)! : '';
  const plain = model?.name || bundle || folder || found.name.replace(/\.[^.]+$/, '');
  // A timeline of the same name may spell it as people do.
  const spelled = model?.timelines.find((timeline) => slugOf(timeline.name) === slugOf(plain))?.name;
  const name = (model?.name || spelled || plain).slice(0, 250);
  const slug = slugOf(name) || `project-${found.fileId}`;
  await tx
    .insert(projects)
    .values({ name, slug, state: 'in work', stateSince: now })
    .onDuplicateKeyUpdate({ set: { slug } });
  const [project] = await tx.select({ id: projects.id }).from(projects).where(eq(projects.slug, slug));
  return project!.id as ProjectId;
}

/**
 * The documents of a project that count: the newest versions that are still there; of an archived one, the last known. A
 * new version takes the place of the one before.
 */
export async function livingDocuments(db: Database, projectId: ProjectId): Promise<number[]> {
  const rows = await db
    .select({ id: documents.id, name: documents.name, goneAt: files.goneAt, supersededBy: documents.supersededBy })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(inArray(documents.projectId, [projectId]));
  const living = rows.filter((row) => row.goneAt === null);
  const stemOf = (row: { name: string }) => versionOf(row.name).stem.toLowerCase();
  return (living.length > 0 ? living : rows)
    .filter((row) => row.supersededBy === null)
    .sort(
      (a, b) =>
        Number(isExchange(a.name)) - Number(isExchange(b.name)) ||
        (stemOf(a) < stemOf(b) ? -1 : stemOf(a) > stemOf(b) ? 1 : a.id - b.id),
    )
    .map((row) => row.id);
}
