// Adding a step to the plan: one draft at a time, shared by everybody who looks. Touches no file. Called by the kinds of
// steps, each of which chooses its own items.
import { and, eq, inArray, type SQL, sql } from 'drizzle-orm';
import type { PlanId } from '#core/model.ts';
import type { StepKind, StepNames } from '#core/steps/kind.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { plans, stepItems, steps } from '../db/schema/plans.ts';
import { Refused } from '../runtime/refused.ts';

/** Opens the draft, making it where there is none, and counts its version up. */
export async function draft(tx: Transaction, now: Date): Promise<PlanId> {
  await tx
    .insert(plans)
    .values({ state: 'draft', draft: 1, createdAt: now })
    .onDuplicateKeyUpdate({ set: { version: sql`${plans.version} + 1` } });
  const [plan] = await tx.select({ id: plans.id }).from(plans).where(eq(plans.draft, 1)).for('update');
  return plan!.id as PlanId;
}

export interface NewStep<Params extends object> {
  kind: StepKind<Params>;
  params: Params;
  names: StepNames;
  now: Date;
  /** Into this plan; the draft where none is given. */
  planId?: PlanId;
}

/** Adds a step without items. Its parameters are parsed here as they will be when they are read back. */
export async function addStep<Params extends object>(
  tx: Transaction,
  { kind, params, names, now, planId: into }: NewStep<Params>,
): Promise<number> {
  const planId = into ?? (await draft(tx, now));
  const parsed = kind.params.parse(params);
  const [{ insertId }] = await tx.insert(steps).values({
    planId,
    what: { kind: kind.kind, ...parsed },
    title: kind.title(parsed, names).slice(0, 500),
    files: 0,
    bytes: 0,
  });
  return insertId;
}

/**
 * Adds a step and its items in one go, with their sums. `choose` writes the items and gives the sentence for the case
 * that there are none: then nothing is added.
 */
export function addFileStep<Params extends object>(
  db: Database,
  step: NewStep<Params>,
  choose: (tx: Transaction, stepId: number) => Promise<string>,
): Promise<Added> {
  return inTransaction(db, (tx) => addFileStepIn(tx, step, choose));
}

/** A step would have had no file: whoever adds several at once may go on without it. */
export class NothingToAdd extends Refused {}

export interface Added {
  stepId: number;
  files: number;
  bytes: number;
}

/** The same inside a transaction. */
export async function addFileStepIn<Params extends object>(
  tx: Transaction,
  step: NewStep<Params>,
  choose: (tx: Transaction, stepId: number) => Promise<string>,
): Promise<Added> {
  const stepId = await addStep(tx, step);
  const empty = await choose(tx, stepId);
  const [sum] = await tx
    .select({
      files: sql`COUNT(*)`.mapWith(Number),
      bytes: sql`COALESCE(SUM(${stepItems.sizeBytes}), 0)`.mapWith(Number),
    })
    .from(stepItems)
    .where(eq(stepItems.stepId, stepId));
  if (sum!.files === 0) {
    await tx.delete(steps).where(eq(steps.id, stepId));
    throw new NothingToAdd(empty);
  }
  await tx.update(steps).set(sum!).where(eq(steps.id, stepId));
  return { stepId, ...sum! };
}

const RAW_PATH = sql`IF(f.raw_name IS NULL AND d.raw_path IS NULL, NULL, CONCAT(CAST(COALESCE(d.raw_path, d.path) AS BINARY), IF(d.path = '', '', '/'), CAST(COALESCE(f.raw_name, f.name) AS BINARY)))`;
const PATH = sql`IF(d.path = '', f.name, CONCAT(d.path, '/', f.name))`;

/** Items straight from the catalogue: everything that says which file each was. Tables: f files, d folders, v volumes. */
export const FILE_FACTS: { columns: SQL; values: SQL } = {
  columns: sql`step_id, volume_id, file_id, path, raw_path, size_bytes, modified_us, device, inode, changed_us`,
  values: sql`f.volume_id, f.id, ${PATH}, ${RAW_PATH}, f.size_bytes, f.modified_us, v.device, f.inode, f.changed_us`,
};

/** True for a file f that no plan which is a draft or running has among its items still to be done. */
export const notInAPlan = sql`NOT EXISTS (SELECT 1 FROM step_items i JOIN steps s ON s.id = i.step_id JOIN plans p ON p.id = s.plan_id WHERE i.file_id = f.id AND (p.draft = 1 OR p.state = 'running') AND i.state IN ('waiting', 'started', 'taken'))`;

/** Those of these files that such a plan has already. */
export async function filesInPlans(tx: Transaction, fileIds: readonly number[]): Promise<Set<number>> {
  const found = new Set<number>();
  for (let i = 0; i < fileIds.length; i += 2000) {
    const rows = await tx
      .select({ fileId: stepItems.fileId })
      .from(stepItems)
      .innerJoin(steps, eq(steps.id, stepItems.stepId))
      .innerJoin(plans, eq(plans.id, steps.planId))
      .where(
        and(
          inArray(stepItems.fileId, fileIds.slice(i, i + 2000)),
          sql`(${plans.draft} = 1 OR ${plans.state} = 'running') AND ${stepItems.state} IN ('waiting', 'started', 'taken')`,
        ),
      );
    for (const row of rows) found.add(row.fileId);
  }
  return found;
}
