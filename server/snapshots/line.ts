// How far back a project can go: the line of snapshots of each of its documents, what changed from one to the next, and against
// the document as it was last read.
import { and, asc, desc, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { documentOfAutosave } from '#core/snapshots/autosaves.ts';
import { changesBetween, type Summary } from '#core/snapshots/snapshots.ts';
import type { Db } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents, timelines } from '../db/schema/documents.ts';
import { projects } from '../db/schema/projects.ts';
import { snapshots } from '../db/schema/snapshots.ts';
import { volumes } from '../db/schema/stores.ts';
import { snapshotRuleOf, snapshotTrouble } from './rule.ts';

export interface SnapshotRow {
  snapshotId: number;
  takenMs: number;
  modifiedMs: number;
  bytes: number;
  on: string;
  path: string;
  /** What it has that the one before had not, in phrases; null of the first. */
  since: string[] | null;
  /** What the document, as it was last read, has beyond it; null where it is not known any more. */
  untilNow: string[] | null;
}

/** A copy that a program made by itself: told as it lies there, and left alone. */
export interface AutosaveRow {
  fileId: number;
  name: string;
  modifiedMs: number;
  bytes: number;
  volume: string;
  path: string;
  /** It lies on the volume of its document: one disk takes both. */
  isBesideIt: boolean;
}

export interface DocumentLine {
  fileId: number;
  name: string;
  volume: string;
  path: string;
  /** It is still there. */
  isThere: boolean;
  /** The newest first. */
  snapshots: SnapshotRow[];
  /** The newest first. */
  autosaves: AutosaveRow[];
}

/** The lines of a project's documents; those that nothing was kept or saved of are left out. */
export async function linesOf(db: Db, projectId: ProjectId): Promise<DocumentLine[]> {
  const kept = await db
    .select({ row: snapshots, on: volumes.name })
    .from(snapshots)
    .innerJoin(volumes, eq(volumes.id, snapshots.onVolumeId))
    .where(and(eq(snapshots.projectId, projectId), eq(snapshots.state, 'kept')))
    .orderBy(desc(snapshots.takenAt), desc(snapshots.id));
  const autosaves = await autosavesOf(db, projectId);
  const fileIds = [...new Set([...kept.map(({ row }) => row.fileId), ...autosaves.keys()])];
  if (fileIds.length === 0) return [];
  const where = await db
    .select({
      ...{ fileId: files.id, name: files.name, goneAt: files.goneAt },
      ...{ folder: folders.path, volume: volumes.name, volumeId: volumes.id },
    })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(inArray(files.id, fileIds));
  const now = await nowOf(db, fileIds);
  return (
    where
      .map(({ fileId, name, folder, volume, volumeId, goneAt }) => {
        const own = kept.filter(({ row }) => row.fileId === fileId);
        return {
          ...{ fileId, name, volume, path: joinPath(folder, name), isThere: goneAt === null },
          autosaves: (autosaves.get(fileId) ?? []).map(({ volumeId: on, ...one }) => ({
            ...one,
            isBesideIt: on === volumeId,
          })),
          snapshots: own.map(({ row, on }, i) => {
            const before = own[i + 1]?.row.summary;
            const is = now.get(fileId);
            return {
              ...{ snapshotId: row.id, takenMs: row.takenAt.getTime(), modifiedMs: row.modifiedUs / 1000, on },
              ...{ bytes: row.sizeBytes, path: row.path },
              since: before ? changesBetween(before, row.summary) : null,
              untilNow: is ? changesBetween(row.summary, is) : null,
            };
          }),
        };
      })
      // The one that is worked on most first, wherever its last one stands.
      .sort(
        (a, b) =>
          b.snapshots.length - a.snapshots.length || b.autosaves.length - a.autosaves.length || a.fileId - b.fileId,
      )
  );
}

const MOST_AUTOSAVES = 1000;

/** What programs saved by themselves of a project's documents, by the document's file; the newest first. */
async function autosavesOf(
  db: Db,
  projectId: ProjectId,
): Promise<Map<number, (Omit<AutosaveRow, 'isBesideIt'> & { volumeId: number })[]>> {
  const own = await db
    .select({ fileId: files.id, name: files.name })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(and(eq(documents.projectId, projectId), isNull(files.goneAt)))
    .orderBy(asc(files.id));
  if (own.length === 0) return new Map();
  const rows = await db
    .select({
      ...{ fileId: files.id, name: files.name, modifiedUs: files.modifiedUs, bytes: files.sizeBytes },
      ...{ folder: folders.path, volume: volumes.name, volumeId: volumes.id },
    })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(and(eq(files.projectId, projectId), eq(files.kind, 'backup'), isNull(files.goneAt)))
    .orderBy(desc(files.modifiedUs), desc(files.id))
    .limit(MOST_AUTOSAVES);
  const names = own.map((document) => document.name);
  const found = new Map<number, (Omit<AutosaveRow, 'isBesideIt'> & { volumeId: number })[]>();
  for (const { modifiedUs, folder, ...row } of rows) {
    const at = documentOfAutosave(row.name, names);
    if (at === null) continue;
    const { fileId } = own[at]!;
    const one = { ...row, modifiedMs: modifiedUs / 1000, path: joinPath(folder, row.name) };
    found.set(fileId, [...(found.get(fileId) ?? []), one]);
  }
  return found;
}

/** What documents say now, by their file. */
async function nowOf(db: Db, fileIds: readonly number[]): Promise<Map<number, Summary>> {
  const rows = await db
    .select({
      fileId: documents.fileId,
      id: documents.id,
      clips: sql`(SELECT COUNT(*) FROM clips c WHERE c.document_id = documents.id)`.mapWith(Number),
      media: sql`(SELECT COUNT(*) FROM media m WHERE m.document_id = documents.id)`.mapWith(Number),
    })
    .from(documents)
    .where(and(inArray(documents.fileId, [...fileIds]), eq(documents.state, 'read')));
  if (rows.length === 0) return new Map();
  const lines = await db
    .select()
    .from(timelines)
    .where(
      inArray(
        timelines.documentId,
        rows.map((row) => row.id),
      ),
    )
    .orderBy(asc(timelines.id));
  return new Map(
    rows.map(({ fileId, id, clips: clipCount, media: mediaCount }) => [
      fileId,
      {
        ...{ clips: clipCount, media: mediaCount },
        timelines: lines
          .filter((line) => line.documentId === id)
          .map(({ name, durationFrames, rateNum, rateDen }) => ({
            name,
            seconds: rateNum > 0 ? (durationFrames * rateDen) / rateNum : 0,
          })),
      },
    ]),
  );
}

/** How much is kept of a project, and since when. */
export async function keptOf(
  db: Db,
  projectId: ProjectId,
): Promise<{ count: number; sinceMs: number | null; lastMs: number | null }> {
  const [row] = await db
    .select({
      count: sql`COUNT(*)`.mapWith(Number),
      since: sql<Date | null>`MIN(${snapshots.takenAt})`.mapWith(snapshots.takenAt),
      last: sql<Date | null>`MAX(${snapshots.takenAt})`.mapWith(snapshots.takenAt),
    })
    .from(snapshots)
    .where(and(eq(snapshots.projectId, projectId), eq(snapshots.state, 'kept')));
  return { count: row!.count, sinceMs: row!.since?.getTime() ?? null, lastMs: row!.last?.getTime() ?? null };
}

/** Longer than that after a change without a snapshot is worth a word. */
const LATE_MS = 6 * 3_600_000;

/** What is wrong with the snapshots of the house, as it is told to people; empty where they are not wanted. */
export async function snapshotWorries(
  db: Db,
  nowMs: number,
): Promise<{ what: string; detail: string; projectId: ProjectId | null; isBroken?: boolean }[]> {
  const rule = await snapshotRuleOf(db);
  if (rule.volumeId === null) return [];
  const worries: Awaited<ReturnType<typeof snapshotWorries>> = [];
  const trouble = await snapshotTrouble(db);
  if (trouble)
    worries.push({ what: 'Snapshots of documents fail', detail: trouble.trouble, projectId: null, isBroken: true });
  const rows = await db
    .select({
      projectId: projects.id,
      project: projects.name,
      volumeId: files.volumeId,
      /** The oldest change that no snapshot has. */
      unkeptUs: sql<
        number | null
      >`MIN(IF(NOT EXISTS (SELECT 1 FROM ${snapshots} s WHERE s.file_id = ${files.id} AND s.state = 'kept' AND s.modified_us >= ${files.modifiedUs}), ${files.modifiedUs}, NULL))`.mapWith(
        (value: unknown) => (value === null ? null : Number(value)),
      ),
    })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .innerJoin(projects, eq(projects.id, documents.projectId))
    .where(
      and(
        isNull(files.goneAt),
        isNull(documents.supersededBy),
        eq(documents.state, 'read'),
        inArray(projects.state, ['in work', 'finishing']),
      ),
    )
    .groupBy(projects.id, files.volumeId);
  const [place] = await db.select().from(volumes).where(eq(volumes.id, rule.volumeId));
  for (const row of rows) {
    const projectId = row.projectId as ProjectId;
    if (row.volumeId === rule.volumeId)
      worries.push({
        ...{ what: `Documents of ${row.project} have no snapshots`, projectId },
        detail: `They lie on ${place?.name ?? 'the volume'} itself, where the snapshots go: one disk would take both`,
      });
    else if (row.unkeptUs !== null && nowMs - row.unkeptUs / 1000 > LATE_MS)
      worries.push({
        ...{ what: `The last snapshot of ${row.project} is older than its documents`, projectId, isBroken: true },
        detail: 'A worker that reaches both volumes has to run, and the documents have to be whole',
      });
  }
  return worries;
}
