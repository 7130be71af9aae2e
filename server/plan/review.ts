// What stands against the staged plan, from what the catalogue knows now. The worker looks at the disk itself when it
// runs; this is what can be said before.
import { eq, sql } from 'drizzle-orm';
import type { Finding, StepSummary } from '#core/plan/plan.ts';
import type { Database } from '../db/connect.ts';
import { archives } from '../db/schema/archives.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents, media, mediaTargets } from '../db/schema/documents.ts';
import { stepItems } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers, volumes } from '../db/schema/stores.ts';
import { projectSelection } from '../archives/selection.ts';
import { carrierRows } from '../archives/shelf.ts';
import { volumeFree } from '../stores/volume-free.ts';
import { pathHash } from '../db/catalogue-writer.ts';
import { nameOf } from '#core/paths.ts';

export async function findingsOf(db: Database, steps: readonly StepSummary[]): Promise<Finding[]> {
  const findings: Finding[] = [];
  for (const step of steps) {
    findings.push(...(await unreachable(db, step)), ...(await differing(db, step)));
    findings.push(...(await readOnly(db, step)));
    if (step.what.kind === 'move home') findings.push(...(await againstMove(db, step)));
    if (step.what.kind === 'remove caches') findings.push(...(await inWork(db, step)));
    if (step.what.kind === 'archive') findings.push(...(await againstArchive(db, step)));
    if (step.what.kind === 'restore') findings.push(...(await againstRestore(db, step)));
  }
  return findings;
}

async function unreachable(db: Database, step: StepSummary): Promise<Finding[]> {
  const all = await db.select().from(volumes);
  return all
    .filter((volume) => volume.state !== 'reachable' && touched(step).includes(volume.id))
    .map((volume) => ({
      code: 'volume unreachable' as const,
      weight: 'stop' as const,
      stepId: step.stepId,
      volume: volume.name,
      lastSeenMs: volume.seenAt?.getTime() ?? null,
    }));
}

/** Volumes that a step takes files from or brings files to. */
const touched = (step: StepSummary): number[] => [
  ...step.onVolumes.map((part) => part.volumeId),
  ...(step.what.kind === 'move home' ? [step.what.volumeId] : []),
];

/** Volumes on which nothing can be written or removed now, and the step would. */
async function readOnly(db: Database, step: StepSummary): Promise<Finding[]> {
  if (step.what.kind === 'archive') return [];
  const all = await db.select({ id: volumes.id, name: volumes.name }).from(volumes).where(eq(volumes.readOnly, true));
  return all
    .filter((volume) => touched(step).includes(volume.id))
    .map((volume) => ({
      code: 'volume read-only' as const,
      weight: 'stop' as const,
      stepId: step.stepId,
      volume: volume.name,
    }));
}

async function againstMove(db: Database, { stepId, what, onVolumes }: StepSummary): Promise<Finding[]> {
  if (what.kind !== 'move home') return [];
  const findings: Finding[] = [];
  const coming = onVolumes.filter((part) => part.volumeId !== what.volumeId).reduce((sum, part) => sum + part.bytes, 0);
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, what.volumeId));
  const freeBytes = await volumeFree(db, what.volumeId);
  if (volume && coming > freeBytes)
    findings.push({
      code: 'volume too full',
      weight: 'stop',
      stepId,
      volume: volume.name,
      neededBytes: coming,
      freeBytes,
    });
  const naming = await db
    .selectDistinct({ id: documents.id, name: documents.name })
    .from(stepItems)
    .innerJoin(mediaTargets, eq(mediaTargets.fileId, stepItems.fileId))
    .innerJoin(media, eq(media.id, mediaTargets.mediaId))
    .innerJoin(documents, eq(documents.id, media.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(sql`${stepItems.stepId} = ${stepId} AND ${files.goneAt} IS NULL AND ${documents.supersededBy} IS NULL`);
  if (naming.length > 0)
    findings.push({
      code: 'documents relinked',
      weight: 'note',
      stepId,
      documents: naming.length,
      example: naming[0]!.name,
    });
  return findings;
}

/** Items that the last reading saw otherwise than they were staged. */
async function differing(db: Database, step: StepSummary): Promise<Finding[]> {
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
      sql`${stepItems.stepId} = ${step.stepId} AND (${files.goneAt} IS NOT NULL OR ${files.sizeBytes} <> ${stepItems.sizeBytes} OR ${files.modifiedUs} <> ${stepItems.modifiedUs})`,
    )
    .groupBy(reason);
  return rows.map((row) => ({ code: 'items differ', weight: 'hold', stepId: step.stepId, ...row }));
}

async function inWork(db: Database, step: StepSummary): Promise<Finding[]> {
  const rows = await db
    .selectDistinct({ project: projects.name, state: projects.state })
    .from(stepItems)
    .innerJoin(files, eq(files.id, stepItems.fileId))
    .innerJoin(projects, eq(projects.id, files.projectId))
    .where(sql`${stepItems.stepId} = ${step.stepId} AND ${projects.state} IN ('in work', 'finishing')`);
  return rows.map((row) => ({ code: 'project in work', weight: 'note', stepId: step.stepId, ...row }));
}

async function againstArchive(db: Database, { stepId, what, bytes }: StepSummary): Promise<Finding[]> {
  if (what.kind !== 'archive') return [];
  const findings: Finding[] = [];
  const carrier = (await carrierRows(db)).find((row) => row.carrierId === what.carrierId);
  const [project] = await db.select().from(projects).where(eq(projects.id, what.projectId));
  if (!carrier || !project) return findings;
  if (carrier.state !== 'reachable')
    findings.push({ code: 'carrier unreachable', weight: 'stop', stepId, carrier: carrier.name });
  const freeBytes = Math.max(0, carrier.capacityBytes - carrier.usedBytes);
  if (freeBytes < bytes)
    findings.push({
      code: 'carrier too small',
      weight: 'stop',
      stepId,
      carrier: carrier.name,
      neededBytes: bytes,
      freeBytes,
    });
  const [same] = await db
    .select({ id: archives.id })
    .from(archives)
    .where(sql`${archives.folder} = ${what.folder} AND ${archives.state} <> 'ended early'`);
  if (same && carrier.layers.some((layer) => layer.archiveId === same.id))
    findings.push({ code: 'same name', weight: 'stop', stepId, name: what.folder, where: carrier.name });
  const selection = await projectSelection(db, what.projectId);
  if (selection.missing > 0)
    findings.push({
      code: 'media missing',
      weight: 'note',
      stepId,
      project: project.name,
      missing: selection.missing,
      total: selection.mediaTotal,
    });
  const renamed = selection.chosen.filter((file) => !file.isDocument && nameOf(file.payloadPath) !== file.name);
  if (renamed.length > 0)
    findings.push({
      code: 'name made different',
      weight: 'note',
      stepId,
      files: renamed.length,
      example: nameOf(renamed[0]!.payloadPath),
    });
  return findings;
}

async function againstRestore(db: Database, { stepId, what, bytes }: StepSummary): Promise<Finding[]> {
  if (what.kind !== 'restore') return [];
  const findings: Finding[] = [];
  const [carrier] = await db.select().from(carriers).where(eq(carriers.id, what.carrierId));
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, what.volumeId));
  if (carrier && carrier.state !== 'reachable')
    findings.push({ code: 'carrier unreachable', weight: 'stop', stepId, carrier: carrier.name });
  const freeBytes = await volumeFree(db, what.volumeId);
  if (volume && freeBytes < bytes)
    findings.push({
      code: 'volume too full',
      weight: 'stop',
      stepId,
      volume: volume.name,
      neededBytes: bytes,
      freeBytes,
    });
  const [there] = await db
    .select({ id: folders.id })
    .from(folders)
    .where(
      sql`${folders.volumeId} = ${what.volumeId} AND ${folders.pathHash} = ${pathHash(what.folder)} AND ${folders.goneAt} IS NULL`,
    );
  if (there && volume)
    findings.push({ code: 'same name', weight: 'stop', stepId, name: what.folder, where: volume.name });
  return findings;
}
