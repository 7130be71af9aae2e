// The plan that is being staged: one at a time, shared by everybody who looks. Lenses stage steps into it; it is
// reviewed, and run once, by whoever is first. Staging never touches a file.
import { and, eq, inArray, sql } from 'drizzle-orm';
import type { ArchiveId, CarrierId, FolderId, JobId, PlanId, ProjectId, VolumeId } from '#core/model.ts';
import type { PlanTrouble, StepSummary, StepWhat } from '#core/plan/plan.ts';
import { stepTitle } from '#core/wording/plan.ts';
import { type Database, inTransaction, sqlCode, type Transaction } from '../db/connect.ts';
import { archiveCopies, archives } from '../db/schema/archives.ts';
import { plans, stepItems, steps } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers, volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { projectSelection } from '../archives/selection.ts';
import { jobsForPlan } from './run-plan.ts';

export interface CurrentPlan {
  planId: PlanId | null;
  version: number;
  steps: StepSummary[];
}

/** The draft, or an empty one where nothing is staged. */
export async function currentPlan(db: Database): Promise<CurrentPlan> {
  const [plan] = await db.select().from(plans).where(eq(plans.draft, 1));
  if (!plan) return { planId: null, version: 0, steps: [] };
  return { planId: plan.id as PlanId, version: plan.version, steps: await stepsOf(db, plan.id as PlanId) };
}

export async function stepsOf(db: Database, planId: PlanId): Promise<StepSummary[]> {
  const rows = await db.select().from(steps).where(eq(steps.planId, planId)).orderBy(steps.id);
  const parts = await db
    .select({
      stepId: stepItems.stepId,
      volumeId: stepItems.volumeId,
      files: sql`COUNT(*)`.mapWith(Number),
      bytes: sql`SUM(${stepItems.sizeBytes})`.mapWith(Number),
    })
    .from(stepItems)
    .innerJoin(steps, eq(steps.id, stepItems.stepId))
    .where(eq(steps.planId, planId))
    .groupBy(stepItems.stepId, stepItems.volumeId);
  return rows.map((row) => ({
    stepId: row.id,
    what: row.what,
    title: row.title,
    files: row.files,
    bytes: row.bytes,
    onVolumes:
      row.what.kind === 'restore'
        ? [{ volumeId: row.what.volumeId, files: row.files, bytes: row.bytes }]
        : parts
            .filter((p) => p.stepId === row.id)
            .map((p) => ({ volumeId: p.volumeId as VolumeId, files: p.files, bytes: p.bytes })),
    jobId: row.jobId as JobId | null,
  }));
}

/** Opens the draft, making it where there is none, and counts its version up. */
export async function draft(tx: Transaction, now: Date): Promise<PlanId> {
  await tx
    .insert(plans)
    .values({ state: 'draft', draft: 1, createdAt: now })
    .onDuplicateKeyUpdate({ set: { version: sql`${plans.version} + 1` } });
  const [plan] = await tx.select({ id: plans.id }).from(plans).where(eq(plans.draft, 1)).for('update');
  return plan!.id as PlanId;
}

export async function addStep(tx: Transaction, planId: PlanId, what: StepWhat, title: string): Promise<number> {
  const [{ insertId }] = await tx.insert(steps).values({ planId, what, title, files: 0, bytes: 0 });
  return insertId;
}

/** Files that are no cache any more because a document names them, or that are staged already, stay out. */
const NOT_STAGED = sql`NOT EXISTS (SELECT 1 FROM step_items i JOIN steps s ON s.id = i.step_id JOIN plans p ON p.id = s.plan_id WHERE i.file_id = f.id AND (p.draft = 1 OR p.state = 'running') AND i.state IN ('waiting', 'started'))`;
const RAW_PATH = sql`IF(f.raw_name IS NULL AND d.raw_path IS NULL, NULL, CONCAT(CAST(COALESCE(d.raw_path, d.path) AS BINARY), IF(d.path = '', '', '/'), CAST(COALESCE(f.raw_name, f.name) AS BINARY)))`;
const PATH = sql`IF(d.path = '', f.name, CONCAT(d.path, '/', f.name))`;

/** Those of these files that a staged or running plan has already. */
export async function stagedFiles(tx: Transaction, fileIds: readonly number[]): Promise<Set<number>> {
  const staged = new Set<number>();
  for (let i = 0; i < fileIds.length; i += 2000) {
    const rows = await tx
      .select({ fileId: stepItems.fileId })
      .from(stepItems)
      .innerJoin(steps, eq(steps.id, stepItems.stepId))
      .innerJoin(plans, eq(plans.id, steps.planId))
      .where(
        and(
          inArray(stepItems.fileId, fileIds.slice(i, i + 2000)),
          sql`(${plans.draft} = 1 OR ${plans.state} = 'running') AND ${stepItems.state} IN ('waiting', 'started')`,
        ),
      );
    for (const row of rows) staged.add(row.fileId);
  }
  return staged;
}

/** Stages the removal of caches of these folders that were last changed before the day of the cut. */
export async function stageCaches(
  db: Database,
  { folderIds, cutDay, now }: { folderIds: readonly FolderId[]; cutDay: number; now: Date },
): Promise<{ files: number; bytes: number }> {
  if (folderIds.length === 0) throw new Refused('No folder is chosen, so nothing was staged. Choose at least one.');
  const what: StepWhat = { kind: 'remove caches', level: 0, cutDay };
  return inTransaction(db, async (tx) => {
    const stepId = await addStep(tx, await draft(tx, now), what, stepTitle(what, {}));
    for (let i = 0; i < folderIds.length; i += 1000)
      await tx.execute(sql`
        INSERT INTO step_items (step_id, volume_id, file_id, path, raw_path, size_bytes, modified_us)
        SELECT ${stepId}, f.volume_id, f.id, ${PATH}, ${RAW_PATH}, f.size_bytes, f.modified_us
        FROM files f JOIN folders d ON d.id = f.folder_id
        WHERE f.folder_id IN ${[...folderIds.slice(i, i + 1000)]} AND f.kind = 'cache' AND f.gone_at IS NULL AND f.modified_us < ${cutDay * 86_400_000_000}
          AND NOT EXISTS (SELECT 1 FROM media_targets t WHERE t.file_id = f.id) AND ${NOT_STAGED}`);
    return settleSums(tx, stepId, 'Nothing there is old enough, or it is staged already. Nothing was staged.');
  });
}

/** Stages the removal of the originals of a sealed archive, every one of them as it was when it was copied. */
export async function stageOriginals(
  db: Database,
  archiveId: ArchiveId,
  now: Date,
): Promise<{ files: number; bytes: number }> {
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  if (!archive) throw new Refused('There is no such archive. Nothing was staged.');
  const good = await db
    .select()
    .from(archiveCopies)
    .where(and(eq(archiveCopies.archiveId, archiveId), eq(archiveCopies.state, 'good')));
  if (archive.state !== 'sealed' || good.length === 0)
    throw new Refused(
      `No copy of ${archive.name} has been read back, so its originals stay where they are. Nothing was staged.`,
    );
  const [project] = await db.select().from(projects).where(eq(projects.id, archive.projectId));
  const what: StepWhat = { kind: 'remove originals', level: 2, archiveId, archiveName: archive.name };
  return inTransaction(db, async (tx) => {
    const stepId = await addStep(tx, await draft(tx, now), what, stepTitle(what, { project: project?.name }));
    await tx.execute(sql`
      INSERT INTO step_items (step_id, volume_id, file_id, path, raw_path, size_bytes, modified_us)
      SELECT ${stepId}, a.volume_id, a.file_id, a.path, a.raw_path, a.size_bytes, a.modified_us
      FROM archive_files a JOIN files f ON f.id = a.file_id
      WHERE a.archive_id = ${archiveId} AND a.role IN ('media', 'original document') AND a.state = 'read back' AND f.gone_at IS NULL AND ${NOT_STAGED}`);
    return settleSums(tx, stepId, 'Its originals are gone already, or staged. Nothing was staged.');
  });
}

export async function settleSums(
  tx: Transaction,
  stepId: number,
  empty: string,
): Promise<{ files: number; bytes: number }> {
  const [sum] = await tx
    .select({
      files: sql`COUNT(*)`.mapWith(Number),
      bytes: sql`COALESCE(SUM(${stepItems.sizeBytes}), 0)`.mapWith(Number),
    })
    .from(stepItems)
    .where(eq(stepItems.stepId, stepId));
  if (sum!.files === 0) throw new Refused(empty);
  await tx.update(steps).set(sum!).where(eq(steps.id, stepId));
  return sum!;
}

export interface ArchiveStaging {
  projectId: ProjectId;
  carrierId: CarrierId;
  folder: string;
  now: Date;
}

/** Stages an archive of a project: media its timelines use, and its documents, as the catalogue knows them now. */
export async function stageArchive(
  db: Database,
  { projectId, carrierId, folder, now }: ArchiveStaging,
): Promise<{ files: number; bytes: number }> {
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const [carrier] = await db.select().from(carriers).where(eq(carriers.id, carrierId));
  if (!project || !carrier) throw new Refused('The project or the carrier is not known. Nothing was staged.');
  const selection = await projectSelection(db, projectId);
  if (selection.chosen.length === 0)
    throw new Refused(`No timeline of ${project.name} uses media that is found. Nothing was staged.`);
  const what: StepWhat = { kind: 'archive', projectId, carrierId, folder };
  return inTransaction(db, async (tx) => {
    const planId = await draft(tx, now);
    const staged = await tx.select({ what: steps.what }).from(steps).where(eq(steps.planId, planId));
    if (
      staged.some((s) => s.what.kind === 'archive' && s.what.projectId === projectId && s.what.carrierId === carrierId)
    )
      throw new Refused(`An archive of ${project.name} on ${carrier.name} is staged already. Nothing was added.`);
    const stepId = await addStep(tx, planId, what, stepTitle(what, { project: project.name, carrier: carrier.name }));
    for (let i = 0; i < selection.chosen.length; i += 1000)
      await tx.insert(stepItems).values(
        selection.chosen.slice(i, i + 1000).map((f) => ({
          stepId,
          volumeId: f.volumeId,
          fileId: f.fileId,
          path: f.path,
          rawPath: f.rawPath,
          sizeBytes: f.sizeBytes,
          modifiedUs: f.modifiedUs,
        })),
      );
    const sum = { files: selection.chosen.length, bytes: selection.chosenBytes };
    await tx.update(steps).set(sum).where(eq(steps.id, stepId));
    return sum;
  });
}

export interface RestoreStaging {
  archiveId: ArchiveId;
  copyId: number;
  volumeId: VolumeId;
  folder: string;
  now: Date;
}

export async function stageRestore(
  db: Database,
  { archiveId, copyId, volumeId, folder, now }: RestoreStaging,
): Promise<{ files: number; bytes: number }> {
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  const [copy] = await db
    .select()
    .from(archiveCopies)
    .where(and(eq(archiveCopies.id, copyId), eq(archiveCopies.archiveId, archiveId)));
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
  if (!archive || !copy || !volume)
    throw new Refused('The archive, its copy or the volume is not known. Nothing was staged.');
  if (copy.state !== 'good')
    throw new Refused(
      `This copy of ${archive.name} is ${copy.state}, so it cannot be restored from. Nothing was staged.`,
    );
  const { name } = archive;
  const what: StepWhat = {
    kind: 'restore',
    archiveId,
    copyId,
    carrierId: copy.carrierId as CarrierId,
    volumeId,
    folder,
  };
  return inTransaction(db, async (tx) => {
    const stepId = await addStep(
      tx,
      await draft(tx, now),
      what,
      stepTitle(what, { volume: volume.name, project: name }),
    );
    const sum = { files: archive.files, bytes: archive.bytes };
    await tx.update(steps).set(sum).where(eq(steps.id, stepId));
    return sum;
  });
}

/** Takes one step out of the draft. Others stay. */
export async function unstage(db: Database, stepId: number, now: Date): Promise<void> {
  await inTransaction(db, async (tx) => {
    const planId = await draft(tx, now);
    const [step] = await tx
      .select()
      .from(steps)
      .where(and(eq(steps.id, stepId), eq(steps.planId, planId)));
    if (!step) throw new Refused('That step is not staged any more. Nothing was changed.');
    await tx.delete(stepItems).where(eq(stepItems.stepId, stepId));
    await tx.delete(steps).where(eq(steps.id, stepId));
  });
}

/** Takes every step out of the draft. */
export async function emptyPlan(db: Database, now: Date): Promise<void> {
  await inTransaction(db, async (tx) => {
    const planId = await draft(tx, now);
    await tx
      .delete(stepItems)
      .where(inArray(stepItems.stepId, tx.select({ id: steps.id }).from(steps).where(eq(steps.planId, planId))));
    await tx.delete(steps).where(eq(steps.planId, planId));
    await tx.update(plans).set({ state: 'emptied', draft: null }).where(eq(plans.id, planId));
  });
}

export interface Running {
  planId: PlanId;
  version: number;
  who: string;
  now: Date;
}

/** Runs the plan that was looked at: once, and only if it is still the same. Puts one job in for each step. */
export async function runPlan(
  db: Database,
  { planId, version, who, now }: Running,
): Promise<{ ok: true; jobs: JobId[] } | { ok: false; trouble: PlanTrouble }> {
  try {
    return await inTransaction(db, async (tx) => {
      const [plan] = await tx.select().from(plans).where(eq(plans.id, planId)).for('update');
      if (!plan || plan.state === 'emptied')
        return { ok: false as const, trouble: { code: 'nothing staged' as const } };
      if (plan.state !== 'draft')
        return {
          ok: false as const,
          trouble: { code: 'already running' as const, byWhom: plan.runBy ?? 'somebody', planId },
        };
      if (plan.version !== version) return { ok: false as const, trouble: { code: 'changed meanwhile' as const } };
      const all = await tx.select().from(steps).where(eq(steps.planId, planId)).orderBy(steps.id);
      if (all.length === 0) return { ok: false as const, trouble: { code: 'nothing staged' as const } };
      const ids = await jobsForPlan(tx, all, who, now);
      await tx.update(plans).set({ state: 'running', draft: null, runBy: who, runAt: now }).where(eq(plans.id, planId));
      return { ok: true as const, jobs: ids };
    });
  } catch (error) {
    if (sqlCode(error) === 'ER_DUP_ENTRY') return { ok: false, trouble: { code: 'changed meanwhile' } };
    throw error;
  }
}
