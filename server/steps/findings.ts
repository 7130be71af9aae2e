// Findings that a step of any kind may have: volumes that are away or can only be read, items that the last reading saw
// otherwise. Each kind puts together those that fit it.
import { and, eq, inArray, isNull, sql } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import type { Finding, StepSummary } from '#core/plan/plan.ts';
import type { Db } from '../db/connect.ts';
import { files } from '../db/schema/catalogue.ts';
import { stepItems } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers, mounts, stations, volumes } from '../db/schema/stores.ts';
import { volumeFree } from '../stores/volume-free.ts';

type Of = Pick<StepSummary, 'stepId' | 'what'>;

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
  ];
}

/** The same for a step that only reads where its items lie. */
export async function readingFindings(db: Db, step: StepSummary): Promise<Finding[]> {
  const ids = step.onVolumes.map((part) => part.volumeId);
  return [...(await unreachable(db, step, ids)), ...(await differing(db, step))];
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
  return rows.map((row) => finding(step, 'items differ', 'hold', row));
}

/** Projects in work whose files a step takes away. */
export async function inWork(db: Db, step: Of): Promise<Finding[]> {
  const rows = await db
    .selectDistinct({ project: projects.name, state: projects.state })
    .from(stepItems)
    .innerJoin(files, eq(files.id, stepItems.fileId))
    .innerJoin(projects, eq(projects.id, files.projectId))
    .where(sql`${stepItems.stepId} = ${step.stepId} AND ${projects.state} IN ('in work', 'finishing')`);
  return rows.map((row) => finding(step, 'project in work', 'note', row));
}

export async function tooFull(db: Db, step: Of, on: { volumeId: VolumeId; neededBytes: number }): Promise<Finding[]> {
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, on.volumeId));
  const freeBytes = await volumeFree(db, on.volumeId);
  if (!volume || freeBytes >= on.neededBytes) return [];
  return [finding(step, 'volume too full', 'stop', { volume: volume.name, neededBytes: on.neededBytes, freeBytes })];
}

export async function carriersAway(db: Db, step: Of, carrierIds: readonly number[]): Promise<Finding[]> {
  if (carrierIds.length === 0) return [];
  const all = await db
    .select({ name: carriers.name })
    .from(carriers)
    .where(and(inArray(carriers.id, [...carrierIds]), sql`${carriers.state} <> 'reachable'`));
  return all.map((carrier) => finding(step, 'carrier unreachable', 'stop', { carrier: carrier.name }));
}
