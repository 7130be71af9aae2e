// How far back a project can go: the line of snapshots of each of its documents, what changed from one to the next, and against
// the document as it was last read.
import { and, asc, desc, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { isOneDisk } from '#core/places/disks.ts';
import { joinPath } from '#core/paths.ts';
import { documentOfAutosave } from '#core/snapshots/autosaves.ts';
import { changesBetween, placesOf, type Summary } from '#core/snapshots/snapshots.ts';
import { listed } from '#core/wording/amounts.ts';
import type { Db } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents, timelines } from '../db/schema/documents.ts';
import { projects } from '../db/schema/projects.ts';
import { snapshots } from '../db/schema/snapshots.ts';
import { volumes } from '../db/schema/stores.ts';
import { projectSnapshotRules, rulesFor, snapshotRuleOf, snapshotTrouble } from './rule.ts';

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

interface Moment {
  row: typeof snapshots.$inferSelect;
  on: string;
}

/**
 * Every moment once, the newest first, on whichever volumes it is kept: one that lies on two is read from the one that is
 * there. On one volume no two that follow each other are the same.
 */
async function momentsOf(db: Db, projectId: ProjectId): Promise<Moment[]> {
  const rows = await db
    .select({ row: snapshots, on: volumes.name, isThere: eq(volumes.state, 'reachable') })
    .from(snapshots)
    .innerJoin(volumes, eq(volumes.id, snapshots.onVolumeId))
    .where(and(eq(snapshots.projectId, projectId), eq(snapshots.state, 'kept')))
    .orderBy(desc(snapshots.takenAt), desc(snapshots.id));
  const moments: Moment[] = [];
  const before = new Map<number, { moment: Moment; names: Map<number, string> }>();
  for (const { row, on, isThere } of rows) {
    const last = before.get(row.fileId);
    if (last && last.moment.row.xxh64 === row.xxh64 && !last.names.has(row.onVolumeId)) {
      // In the order of the volumes, whichever of them had it first.
      last.names.set(row.onVolumeId, on);
      last.moment.on = listed([...last.names].sort(([a], [b]) => a - b).map(([, name]) => name));
      // Taken a little later on the one than on the other, it is of the earlier time.
      last.moment.row = { ...(Number(isThere) ? row : last.moment.row), takenAt: row.takenAt };
      continue;
    }
    const moment = { row, on };
    moments.push(moment);
    before.set(row.fileId, { moment, names: new Map([[row.onVolumeId, on]]) });
  }
  return moments;
}

/** The lines of a project's documents; those that nothing was kept or saved of are left out. */
export async function linesOf(db: Db, projectId: ProjectId): Promise<DocumentLine[]> {
  const kept = await momentsOf(db, projectId);
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
  const times = (await momentsOf(db, projectId)).map(({ row }) => row.takenAt.getTime());
  const [sinceMs, lastMs] = [times.at(-1) ?? null, times[0] ?? null];
  return { count: times.length, sinceMs, lastMs };
}

/** Longer than that after a change without a snapshot is worth a word, and longer than two of them may lie apart. */
const LATE_MS = 6 * 3_600_000;

interface Worry {
  what: string;
  detail: string;
  projectId: ProjectId | null;
  isBroken?: boolean;
}

/** What is wrong with the snapshots of the house, as it is told to people; empty where they are not wanted. */
export async function snapshotWorries(db: Db, nowMs: number): Promise<Worry[]> {
  const house = await snapshotRuleOf(db);
  const ruleOf = rulesFor(house, await projectSnapshotRules(db));
  const places = placesOf(house);
  const worries: Worry[] = [];
  for (const onVolumeId of places) {
    worries.push(...(await worriesOn(db, onVolumeId, { places, ruleOf, nowMs })));
  }
  return worries;
}

async function worriesOn(
  db: Db,
  onVolumeId: number,
  { places, ruleOf, nowMs }: { places: readonly number[]; ruleOf: ReturnType<typeof rulesFor>; nowMs: number },
): Promise<Worry[]> {
  const worries: Worry[] = [];
  const rows = await db
    .select({
      projectId: projects.id,
      project: projects.name,
      volumeId: files.volumeId,
      /** The oldest change that no snapshot has. */
      unkeptUs: sql<
        number | null
      >`MIN(IF(NOT EXISTS (SELECT 1 FROM ${snapshots} s WHERE s.file_id = ${files.id} AND s.state = 'kept' AND s.on_volume_id = ${onVolumeId} AND s.modified_us >= ${files.modifiedUs}), ${files.modifiedUs}, NULL))`.mapWith(
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
  const all = new Map((await db.select().from(volumes)).map((volume) => [volume.id, volume]));
  const place = all.get(onVolumeId);
  const second = places.length > 1 ? ` on ${place?.name ?? 'a volume'}` : '';
  const trouble = await snapshotTrouble(db, onVolumeId);
  if (trouble)
    worries.push({
      ...{ what: `Snapshots of documents${second} fail`, detail: trouble.trouble, projectId: null, isBroken: true },
    });
  for (const row of rows) {
    const rule = ruleOf(row.projectId);
    // Where there is a second place, the documents of one have theirs on the other.
    if (rule.isOff || (row.volumeId === onVolumeId && places.length > 1)) continue;
    const [on, place] = [all.get(row.volumeId)!, all.get(onVolumeId)];
    if (place) worries.push(...worryOf(row, { on, place, second, everyMinutes: rule.everyMinutes, nowMs }));
  }
  return worries;
}

interface Kept {
  /** Where the documents lie, and where their snapshots go. */
  on: typeof volumes.$inferSelect;
  place: typeof volumes.$inferSelect;
  second: string;
  everyMinutes: number;
  nowMs: number;
}

/** The first of what may be wrong with the snapshots of one project's documents on one volume. */
function worryOf(
  { project, projectId: id, unkeptUs }: { project: string; projectId: number; unkeptUs: number | null },
  { on, place, second, everyMinutes, nowMs }: Kept,
): Worry[] {
  const projectId = id as ProjectId;
  if (on.id === place.id)
    return [
      {
        ...{ what: `Documents of ${project} have no snapshots`, projectId },
        detail: `They lie on ${place.name} itself, where the snapshots go: one disk would take both`,
      },
    ];
  if (unkeptUs !== null && nowMs - unkeptUs / 1000 > Math.max(LATE_MS, 2 * everyMinutes * 60_000))
    return [
      {
        ...{ what: `The last snapshot of ${project}${second} is older than its documents`, projectId, isBroken: true },
        detail: 'A worker that reaches both volumes has to run, and the documents have to be whole',
      },
    ];
  if (!isOneDisk(on, place)) return [];
  return [
    {
      ...{ what: `Snapshots of ${project}${second} lie on the disk of its documents`, projectId },
      detail: `${on.name} and ${place.name} are volumes of one disk, which would take both. Choose another place, or say in Storage which disks they lie on`,
    },
  ];
}
