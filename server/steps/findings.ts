// Findings that a step of any kind may have: volumes that are away or can only be read, items that the last reading saw
// otherwise. Each kind puts together those that fit it.
import { and, eq, inArray, isNull, type SQL, sql } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import type { Finding, StepSummary } from '#core/plan/plan.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import type { Db } from '../db/connect.ts';
import { NAMED_BY_OTHERS } from '../db/naming.ts';
import { files } from '../db/schema/catalogue.ts';
import { stepItems } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers, mounts, openNow, stations, volumes, workers } from '../db/schema/stores.ts';
import { ALIVE } from '../stores/reach.ts';
import { volumeFree } from '../stores/volume-free.ts';

type Of = Pick<StepSummary, 'stepId' | 'what'>;

/**
 * Which items a finding is about: `gone` and `changed` since they were chosen, those of one project (`project 3`), those that
 * another project's documents name (`borrowed`), those that a program has open (`open`), and those with one archived copy alone (`one copy`). Nothing for other texts.
 */
export function itemsAbout(about: string): SQL {
  const project = /^project (\d{1,15})$/.exec(about);
  if (project)
    return sql`${stepItems.fileId} IN (SELECT f.id FROM files f WHERE f.id = ${stepItems.fileId} AND f.project_id = ${Number(project[1])})`;
  const file = (what: SQL) => sql`EXISTS (SELECT 1 FROM files f WHERE f.id = ${stepItems.fileId} AND ${what})`;
  switch (about) {
    case 'gone':
      return file(sql`f.gone_at IS NOT NULL`);
    case 'changed':
      return file(
        sql`f.gone_at IS NULL AND (f.size_bytes <> ${stepItems.sizeBytes} OR f.modified_us <> ${stepItems.modifiedUs} OR (${stepItems.inode} IS NOT NULL AND (f.inode <> ${stepItems.inode} OR f.changed_us <> ${stepItems.changedUs})))`,
      );
    case 'borrowed':
      return file(NAMED_BY_OTHERS);
    case 'open':
      return sql`EXISTS (SELECT 1 FROM open_now o JOIN ${workers} ON ${workers.id} = o.worker_id AND ${ALIVE} WHERE o.file_id = ${stepItems.fileId})`;
    case 'one copy':
      return sql`(${copiesOfItem}) = 1`;
    default:
      return sql`FALSE`;
  }
}

/** How many archived copies of an item were read back and are good. */
const copiesOfItem = sql`SELECT COUNT(DISTINCT p.carrier_id) FROM archive_files r JOIN copy_files c ON c.archive_file_id = r.id AND c.state = 'read back'
  JOIN copy_parts p ON p.id = c.copy_part_id AND p.state = 'good' WHERE r.file_id = ${stepItems.fileId} AND r.size_bytes = ${stepItems.sizeBytes} AND r.modified_us = ${stepItems.modifiedUs}`;

/** Items that another project's documents name, and items that one archived copy alone stands for: to be known before they go. */
export async function lentAndThin(db: Db, step: Of, { archived = true } = {}): Promise<Finding[]> {
  const found: Finding[] = [];
  const asked = [
    ['borrowed', 'named by others'],
    // What is told as the only copy is in no archive: nobody needs to count.
    ...(archived ? [['one copy', 'one archived copy']] : []),
  ] as const;
  for (const [about, code] of asked as readonly (readonly [string, string])[]) {
    const [row] = await db
      .select({
        files: sql`COUNT(*)`.mapWith(Number),
        bytes: sql`COALESCE(SUM(${stepItems.sizeBytes}), 0)`.mapWith(Number),
        example: sql<string | null>`MIN(${stepItems.path})`,
      })
      .from(stepItems)
      .where(and(eq(stepItems.stepId, step.stepId), itemsAbout(about)));
    if (row!.files > 0) found.push(finding(step, code, 'note', { ...row!, about }));
  }
  return found;
}

export const finding = (
  { stepId, what }: Of,
  code: string,
  weight: Finding['weight'],
  facts: Finding['facts'],
): Finding => ({ code, weight, stepId, step: what.kind, facts });

/** Volumes that are away, volumes that can only be read, and items that differ: of a step that changes where its items lie. */
export async function commonFindings(db: Db, step: StepSummary, also: readonly VolumeId[] = []): Promise<Finding[]> {
  const ids = [...new Set([...step.onVolumes.map((part) => part.volumeId), ...also])];
  return [
    ...(await unreachable(db, step, ids)),
    ...(await differing(db, step)),
    ...(await readOnly(db, step, ids)),
    ...(await unseenStations(db, step, ids)),
    ...(await openItems(db, step, 'open now')),
  ];
}

/** The same for a step that only reads where its items lie. */
export async function readingFindings(db: Db, step: StepSummary): Promise<Finding[]> {
  const ids = step.onVolumes.map((part) => part.volumeId);
  return [
    ...(await unreachable(db, step, ids)),
    ...(await differing(db, step)),
    ...(await openItems(db, step, 'open while read')),
  ];
}

export async function unreachable(db: Db, step: Of, volumeIds: readonly VolumeId[]): Promise<Finding[]> {
  if (volumeIds.length === 0) return [];
  const all = await db
    .select()
    .from(volumes)
    .where(and(inArray(volumes.id, [...volumeIds]), sql`${volumes.state} <> 'reachable'`));
  return all.map((volume) =>
    finding(step, 'volume unreachable', 'stop', {
      volume: volume.name,
      lastSeenMs: volume.seenAt?.getTime() ?? null,
    }),
  );
}

/** Volumes on which nothing can be written or removed now, and the step would. */
export async function readOnly(db: Db, step: Of, volumeIds: readonly VolumeId[]): Promise<Finding[]> {
  if (volumeIds.length === 0) return [];
  const all = await db
    .select({ name: volumes.name })
    .from(volumes)
    .where(and(inArray(volumes.id, [...volumeIds]), eq(volumes.readOnly, true)));
  return all.map((volume) => finding(step, 'volume read-only', 'stop', { volume: volume.name }));
}

/** Stations that mount a volume as well, where nobody looks which files are open. */
async function unseenStations(db: Db, step: Of, volumeIds: readonly VolumeId[]): Promise<Finding[]> {
  if (volumeIds.length === 0) return [];
  const rows = await db
    .select({ volume: volumes.name, station: stations.name })
    .from(mounts)
    .innerJoin(volumes, eq(volumes.id, mounts.volumeId))
    .innerJoin(stations, eq(stations.id, mounts.stationId))
    .where(and(inArray(mounts.volumeId, [...volumeIds]), isNull(stations.retiredAt)))
    .orderBy(stations.name);
  if (rows.length === 0) return [];
  const names = (key: 'volume' | 'station') => [...new Set(rows.map((row) => row[key]))].join(', ');
  return [finding(step, 'other stations', 'note', { volume: names('volume'), stations: names('station') })];
}

/** Items that the last reading saw otherwise than they were when the step was added. */
async function differing(db: Db, step: Of): Promise<Finding[]> {
  const reason = sql<'gone' | 'changed'>`IF(${files.goneAt} IS NOT NULL, 'gone', 'changed')`;
  const rows = await db
    .select({
      reason,
      files: sql`COUNT(*)`.mapWith(Number),
      bytes: sql`SUM(${stepItems.sizeBytes})`.mapWith(Number),
      example: sql<string>`MIN(${stepItems.path})`,
    })
    .from(stepItems)
    .innerJoin(files, eq(files.id, stepItems.fileId))
    .where(
      sql`${stepItems.stepId} = ${step.stepId} AND (${files.goneAt} IS NOT NULL OR ${files.sizeBytes} <> ${stepItems.sizeBytes} OR ${files.modifiedUs} <> ${stepItems.modifiedUs}
        OR (${stepItems.inode} IS NOT NULL AND (${files.inode} <> ${stepItems.inode} OR ${files.changedUs} <> ${stepItems.changedUs})))`,
    )
    .groupBy(reason);
  return rows.map((row) => finding(step, 'items differ', 'hold', { ...row, about: row.reason }));
}

/** Items that a program has open on a machine where a worker runs: which, and where. */
async function openItems(db: Db, step: Of, code: 'open now' | 'open while read'): Promise<Finding[]> {
  const [row] = await db
    .select({
      files: sql`COUNT(DISTINCT ${stepItems.id})`.mapWith(Number),
      example: sql<string | null>`MIN(${stepItems.path})`,
      programs: sql<
        string | null
      >`GROUP_CONCAT(DISTINCT ${openNow.program} ORDER BY ${openNow.program} SEPARATOR ', ')`,
      machines: sql<
        string | null
      >`GROUP_CONCAT(DISTINCT ${workers.machine} ORDER BY ${workers.machine} SEPARATOR ', ')`,
    })
    .from(openNow)
    .innerJoin(workers, and(eq(workers.id, openNow.workerId), ALIVE))
    .innerJoin(stepItems, eq(stepItems.fileId, openNow.fileId))
    .where(eq(stepItems.stepId, step.stepId));
  return row!.files > 0 ? [finding(step, code, code === 'open now' ? 'hold' : 'note', { ...row!, about: 'open' })] : [];
}

/** Projects in work whose files a step takes away. */
export async function inWork(db: Db, step: Of): Promise<Finding[]> {
  const rows = await db
    .selectDistinct({ projectId: projects.id, project: projects.name, state: projects.state })
    .from(stepItems)
    .innerJoin(files, eq(files.id, stepItems.fileId))
    .innerJoin(projects, eq(projects.id, files.projectId))
    .where(sql`${stepItems.stepId} = ${step.stepId} AND ${projects.state} IN ('in work', 'finishing')`);
  return rows.map((row) => finding(step, 'project in work', 'note', { ...row, about: `project ${row.projectId}` }));
}

export async function tooFull(db: Db, step: Of, on: { volumeId: VolumeId; neededBytes: number }): Promise<Finding[]> {
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, on.volumeId));
  const freeBytes = await volumeFree(db, on.volumeId);
  if (!volume || freeBytes >= on.neededBytes) return [];
  return [finding(step, 'volume too full', 'stop', { volume: volume.name, neededBytes: on.neededBytes, freeBytes })];
}

/** The same of carriers that the work waits for, whenever somebody brings them. */
export async function carriersAskedFor(db: Db, step: Of, carrierIds: readonly number[]): Promise<Finding[]> {
  if (carrierIds.length === 0) return [];
  const all = await db
    .select({ name: carriers.name, place: carriers.place, lentTo: carriers.lentTo })
    .from(carriers)
    .where(and(inArray(carriers.id, [...carrierIds]), sql`${carriers.state} <> 'reachable'`));
  return all.map(({ name, place, lentTo }) =>
    finding(step, 'carrier asked for', 'note', {
      carrier: name,
      where: lentTo === null ? `kept in ${place}` : `lent to ${lentTo}`,
    }),
  );
}

export async function carriersAway(db: Db, step: Of, carrierIds: readonly number[]): Promise<Finding[]> {
  if (carrierIds.length === 0) return [];
  const all = await db
    .select({ name: carriers.name })
    .from(carriers)
    .where(and(inArray(carriers.id, [...carrierIds]), sql`${carriers.state} <> 'reachable'`));
  return all.map((carrier) => finding(step, 'carrier unreachable', 'stop', { carrier: carrier.name }));
}

/** The volume's name, where something of this name is on it as far as it was read; else null. */
export async function nameTaken(db: Db, volumeId: VolumeId, path: string): Promise<string | null> {
  const [row] = await db
    .select({ name: volumes.name })
    .from(volumes)
    .where(
      and(
        eq(volumes.id, volumeId),
        sql`(EXISTS (SELECT 1 FROM folders d WHERE d.volume_id = ${volumeId} AND d.path_hash = ${pathHash(path)} AND d.gone_at IS NULL)
          OR EXISTS (SELECT 1 FROM files f JOIN folders d ON d.id = f.folder_id WHERE d.volume_id = ${volumeId} AND d.path = ${folderOf(path)} AND f.name = ${nameOf(path)} AND f.gone_at IS NULL))`,
      ),
    );
  return row?.name ?? null;
}
