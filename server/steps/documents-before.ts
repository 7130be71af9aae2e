// Before files are removed, the documents that may name them are read as they are now: one that was saved after the last
// reading may have begun to use them. What cannot be read counts against removing.
import { and, eq, inArray, isNull, ne, or, sql } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import type { Finding, StepSummary } from '#core/plan/plan.ts';
import { liesIn } from '#core/paths.ts';
import type { Db } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents } from '../db/schema/documents.ts';
import { stepItems } from '../db/schema/plans.ts';
import { claims, homes, projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { readDocuments } from '../readings/read-documents.ts';
import { readVolume } from '../readings/read-volume.ts';
import type { JobContext } from '../runtime/context.ts';
import type { StoreNeed } from '../runtime/queue.ts';
import { finding } from './findings.ts';

interface Place {
  volumeId: number;
  folder: string;
}

/** Whose the items are; null among them where some are nobody's. */
async function ownersOfItems(db: Db, stepId: number): Promise<(number | null)[]> {
  const rows = await db
    .selectDistinct({ id: files.projectId })
    .from(stepItems)
    .innerJoin(files, eq(files.id, stepItems.fileId))
    .where(eq(stepItems.stepId, stepId));
  return rows.map((row) => row.id);
}

/** Folders in which documents that may name the items lie; a whole volume where files on it are nobody's. */
async function placesOfDocuments(db: Db, stepId: number): Promise<Place[]> {
  const owners = await ownersOfItems(db, stepId);
  const projectIds = owners.filter((id): id is number => id !== null);
  const places: Place[] = [];
  if (owners.includes(null)) {
    const on = await db
      .selectDistinct({ volumeId: stepItems.volumeId })
      .from(stepItems)
      .where(eq(stepItems.stepId, stepId));
    places.push(...on.map(({ volumeId }) => ({ volumeId, folder: '' })));
  }
  if (projectIds.length > 0) {
    places.push(
      ...(await db
        .select({ volumeId: claims.volumeId, folder: claims.folder })
        .from(claims)
        .where(inArray(claims.projectId, projectIds))),
      ...(await db
        .select({ volumeId: homes.volumeId, folder: homes.folder })
        .from(homes)
        .where(and(inArray(homes.projectId, projectIds), eq(homes.kind, 'document')))),
      ...(await db
        .selectDistinct({ volumeId: folders.volumeId, folder: folders.path })
        .from(documents)
        .innerJoin(files, eq(files.id, documents.fileId))
        .innerJoin(folders, eq(folders.id, files.folderId))
        .where(and(inArray(documents.projectId, projectIds), isNull(files.goneAt)))),
    );
  }
  return places.filter(
    (place, i) =>
      !places.some(
        (other, j) =>
          i !== j &&
          other.volumeId === place.volumeId &&
          liesIn(place.folder, other.folder) &&
          (other.folder !== place.folder || j < i),
      ),
  );
}

/** The volumes of those documents, as far as they can be reached now: looked at, and read into the catalogue. */
export async function storesOfDocuments(db: Db, stepId: number): Promise<StoreNeed[]> {
  const ids = [...new Set((await placesOfDocuments(db, stepId)).map((place) => place.volumeId))];
  if (ids.length === 0) return [];
  const there = await db
    .select({ id: volumes.id })
    .from(volumes)
    .where(and(inArray(volumes.id, ids), eq(volumes.state, 'reachable'), isNull(volumes.retiredAt)));
  return there.flatMap(({ id }): StoreNeed[] => [
    { store: 'volume', id, mode: 'look' },
    { store: 'catalogue', id, mode: 'change' },
  ]);
}

/** Reads those documents anew, on the volumes that the job has. */
export async function readDocumentsBefore(context: JobContext, stepId: number): Promise<void> {
  const { db, pools, stop, now } = context;
  const had = new Set((await storesOfDocuments(db, stepId)).map((need) => need.id));
  const read = new Set<number>();
  for (const { volumeId, folder } of await placesOfDocuments(db, stepId)) {
    const path = context.pathOf(volumeId);
    if (path === null || !had.has(volumeId) || !(await isKnown(db, { volumeId, folder }))) continue;
    await readVolume(db, pools.walk, volumeId as VolumeId, { stop, now, path, ...(folder === '' ? {} : { folder }) });
    read.add(volumeId);
    context.check();
  }
  for (const volumeId of read)
    await readDocuments(db, pools.documents, volumeId as VolumeId, { now, path: context.pathOf(volumeId)! });
}

async function isKnown(db: Db, { volumeId, folder }: Place): Promise<boolean> {
  if (folder === '') return true;
  const [row] = await db
    .select({ id: folders.id })
    .from(folders)
    .where(and(eq(folders.volumeId, volumeId), eq(folders.path, folder), isNull(folders.goneAt)));
  return row !== undefined;
}

export interface UnreadDocument {
  projectId: number;
  name: string;
}

/** Documents of projects of which nobody knows what they say now: broken, or on a volume that is away. */
export async function unreadDocuments(db: Db, owners: Iterable<number | null>): Promise<UnreadDocument[]> {
  const projectIds = [...new Set(owners)].filter((id): id is number => id !== null);
  if (projectIds.length === 0) return [];
  return db
    .select({ projectId: documents.projectId, name: documents.name })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(
      and(
        inArray(documents.projectId, projectIds),
        isNull(files.goneAt),
        isNull(documents.supersededBy),
        or(
          eq(documents.state, 'broken'),
          and(isNull(volumes.retiredAt), ne(volumes.state, 'reachable')),
          sql`${documents.readSizeBytes} <> ${files.sizeBytes} OR ${documents.readModifiedUs} <> ${files.modifiedUs}`,
        ),
      ),
    )
    .orderBy(documents.name);
}

/** A finding for each project whose files are left where they are, because a document of it could not be read. */
export async function unreadFindings(db: Db, step: StepSummary): Promise<Finding[]> {
  const unread = await unreadDocuments(db, await ownersOfItems(db, step.stepId));
  const findings: Finding[] = [];
  for (const projectId of new Set(unread.map((document) => document.projectId))) {
    const own = unread.filter((document) => document.projectId === projectId);
    const [project] = await db.select({ name: projects.name }).from(projects).where(eq(projects.id, projectId));
    findings.push(
      finding(step, 'documents unread', 'hold', {
        documents: own.length,
        project: project?.name ?? '',
        example: own[0]!.name,
        projectId,
        about: `project ${projectId}`,
      }),
    );
  }
  return findings;
}
