// From steps to jobs: which volumes and carriers each needs, and what is written down before the work begins.
import { and, eq, isNull } from 'drizzle-orm';
import type { JobId } from '#core/model.ts';
import type { StepWhat } from '#core/plan/plan.ts';
import type { Transaction } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archives } from '../db/schema/archives.ts';
import { files } from '../db/schema/catalogue.ts';
import { documents, media, mediaTargets } from '../db/schema/documents.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { enqueue } from '../runtime/queue.ts';
import { placedFiles } from '../archives/selection.ts';

type Step = typeof steps.$inferSelect;

/** Puts in one job a step, in the steps' order. */
export async function jobsForPlan(tx: Transaction, all: readonly Step[], who: string, now: Date): Promise<JobId[]> {
  const ids: JobId[] = [];
  for (const step of all) {
    const id = await jobFor(tx, step, { who, now });
    await tx.update(steps).set({ jobId: id }).where(eq(steps.id, step.id));
    ids.push(id);
  }
  return ids;
}

async function jobFor(tx: Transaction, step: Step, { who, now }: { who: string; now: Date }): Promise<JobId> {
  const base = { title: step.title, who, stepId: step.id };
  const { what } = step;
  switch (what.kind) {
    case 'remove caches':
    case 'remove originals':
      return enqueue(tx, { ...base, kind: 'remove', params: {}, volumes: await volumesOf(tx, step.id) }, now);
    case 'archive': {
      const archiveId = await writeArchiveRows(tx, step, what);
      return enqueue(
        tx,
        {
          ...base,
          kind: 'archive',
          params: { archiveId },
          volumes: await volumesOf(tx, step.id),
          carriers: [what.carrierId],
        },
        now,
      );
    }
    case 'move home':
      return enqueue(
        tx,
        { ...base, kind: 'move', params: {}, volumes: await volumesOfMove(tx, step.id, what.volumeId) },
        now,
      );
    case 'restore':
      return enqueue(
        tx,
        { ...base, kind: 'restore', params: {}, volumes: [what.volumeId], carriers: [what.carrierId] },
        now,
      );
  }
}

async function volumesOf(tx: Transaction, stepId: number): Promise<number[]> {
  const rows = await tx.selectDistinct({ id: stepItems.volumeId }).from(stepItems).where(eq(stepItems.stepId, stepId));
  return rows.map((row) => row.id);
}

/** Where the files lie and go, and where the documents lie that name them: those get a new version. */
async function volumesOfMove(tx: Transaction, stepId: number, target: number): Promise<number[]> {
  const naming = await tx
    .selectDistinct({ id: files.volumeId })
    .from(stepItems)
    .innerJoin(mediaTargets, eq(mediaTargets.fileId, stepItems.fileId))
    .innerJoin(media, eq(media.id, mediaTargets.mediaId))
    .innerJoin(documents, eq(documents.id, media.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(and(eq(stepItems.stepId, stepId), isNull(files.goneAt), isNull(documents.supersededBy)));
  return [target, ...(await volumesOf(tx, stepId)), ...naming.map((row) => row.id)];
}

/** The archive as it will be: its rows are the journal of its writing. */
async function writeArchiveRows(
  tx: Transaction,
  step: Step,
  what: Extract<StepWhat, { kind: 'archive' }>,
): Promise<number> {
  const [project] = await tx.select().from(projects).where(eq(projects.id, what.projectId));
  const placed = await placedFiles(tx, what.projectId, step.id);
  const [{ insertId: archiveId }] = await tx.insert(archives).values({
    projectId: what.projectId,
    name: project!.name,
    folder: what.folder,
    state: 'writing',
    files: placed.length,
    bytes: placed.reduce((sum, file) => sum + file.sizeBytes, 0),
  });
  await tx.insert(archiveCopies).values({ archiveId, carrierId: what.carrierId, state: 'writing' });
  for (let i = 0; i < placed.length; i += 500)
    await tx.insert(archiveFiles).values(placed.slice(i, i + 500).map((file) => ({ archiveId, ...file })));
  return archiveId;
}
