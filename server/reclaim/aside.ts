// What is set aside, as people look at it: by the step that did it, and file by file.
import { and, desc, eq, inArray, lt, sql } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import type { Db } from '../db/connect.ts';
import { aside, asideSums } from '../db/schema/aside.ts';
import { plans, steps } from '../db/schema/plans.ts';
import { volumes } from '../db/schema/stores.ts';

export interface AsideTotal {
  files: number;
  bytes: number;
  oldestMs: number | null;
}

export async function asideTotal(db: Db, only: readonly VolumeId[] = []): Promise<AsideTotal> {
  const on = only.length > 0 ? inArray(asideSums.volumeId, [...only]) : undefined;
  const [sum] = await db
    .select({
      files: sql`COALESCE(SUM(${asideSums.files}), 0)`.mapWith(Number),
      bytes: sql`COALESCE(SUM(${asideSums.bytes}), 0)`.mapWith(Number),
    })
    .from(asideSums)
    .where(on);
  const [oldest] = await db
    .select({ at: aside.at })
    .from(aside)
    .where(and(eq(aside.state, 'aside'), only.length > 0 ? inArray(aside.volumeId, [...only]) : undefined))
    .orderBy(aside.at)
    .limit(1);
  return { ...sum!, oldestMs: oldest?.at.getTime() ?? null };
}

export interface AsideStep {
  stepId: number;
  title: string;
  reason: string;
  atMs: number;
  files: number;
  bytes: number;
  /** Of those bytes, the only copies. */
  onlyBytes: number;
  volumes: string[];
}

/** Steps of which something lies aside still, the newest first. */
export async function asideSteps(db: Db, only: readonly VolumeId[], most = 500): Promise<AsideStep[]> {
  const rows = await db
    .select({
      stepId: asideSums.stepId,
      title: steps.title,
      what: steps.what,
      volume: volumes.name,
      level: asideSums.level,
      files: asideSums.files,
      bytes: asideSums.bytes,
      at: plans.runAt,
    })
    .from(asideSums)
    .innerJoin(steps, eq(steps.id, asideSums.stepId))
    .innerJoin(plans, eq(plans.id, steps.planId))
    .innerJoin(volumes, eq(volumes.id, asideSums.volumeId))
    .where(only.length > 0 ? inArray(asideSums.volumeId, [...only]) : undefined)
    .orderBy(desc(asideSums.stepId))
    .limit(most);
  const all = new Map<number, AsideStep>();
  for (const row of rows) {
    const step = all.get(row.stepId) ?? {
      stepId: row.stepId,
      title: row.title,
      reason: String(row.what.reason ?? ''),
      atMs: row.at?.getTime() ?? 0,
      files: 0,
      bytes: 0,
      onlyBytes: 0,
      volumes: [],
    };
    step.files += row.files;
    step.bytes += row.bytes;
    if (row.level === 3) step.onlyBytes += row.bytes;
    if (!step.volumes.includes(row.volume)) step.volumes.push(row.volume);
    all.set(row.stepId, step);
  }
  return [...all.values()];
}

/** Files that one step set aside, the latest first; `before` is the number of the last one seen. */
export const asideFiles = (db: Db, stepId: number, { before, most }: { before: number | null; most: number }) =>
  db
    .select({
      id: aside.id,
      path: aside.path,
      kind: aside.kind,
      sizeBytes: aside.sizeBytes,
      level: aside.level,
      volume: volumes.name,
      asidePath: aside.asidePath,
    })
    .from(aside)
    .innerJoin(volumes, eq(volumes.id, aside.volumeId))
    .where(and(eq(aside.stepId, stepId), eq(aside.state, 'aside'), before === null ? undefined : lt(aside.id, before)))
    .orderBy(desc(aside.id))
    .limit(most);
