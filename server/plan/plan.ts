// The plan: one draft at a time, shared by everybody who looks. It is reviewed, and run once, by whoever is first. Knows no
// kind of step by name.
import { and, eq, inArray, sql } from 'drizzle-orm';
import type { JobId, PlanId, VolumeId } from '#core/model.ts';
import { byLevel, type Finding, type PlanTrouble, type StepSummary } from '#core/plan/plan.ts';
import { size } from '#core/wording/amounts.ts';
import { findingWords } from '#core/wording/findings.ts';
import { kindAndParams, UnknownStepKind } from '#core/steps/registry.ts';
import { type Database, type Db, inTransaction, sqlCode, type Transaction } from '../db/connect.ts';
import { plans, stepItems, stepParts, steps } from '../db/schema/plans.ts';
import { volumes } from '../db/schema/stores.ts';
import { enqueue } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { draft } from '../steps/adding.ts';
import { paramsIn } from '../steps/kind.ts';
import { serverStepOf } from '../steps/registry.ts';

export interface CurrentPlan {
  planId: PlanId | null;
  version: number;
  steps: StepSummary[];
}

/** The draft, or an empty one where nothing is in it. */
export async function currentPlan(db: Db): Promise<CurrentPlan> {
  const [plan] = await db.select().from(plans).where(eq(plans.draft, 1));
  if (!plan) return { planId: null, version: 0, steps: [] };
  return { planId: plan.id as PlanId, version: plan.version, steps: await stepsOf(db, plan.id as PlanId) };
}

export async function stepsOf(db: Db, planId: PlanId): Promise<StepSummary[]> {
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
    onVolumes: parts
      .filter((part) => part.stepId === row.id)
      .map(({ volumeId, files, bytes }) => ({ volumeId: volumeId as VolumeId, files, bytes })),
    jobId: row.jobId as JobId | null,
  }));
}

/** What stands against these steps, from what the catalogue knows now. */
export async function findingsOf(db: Db, all: readonly StepSummary[]): Promise<Finding[]> {
  const findings: Finding[] = [];
  for (const step of all)
    try {
      const { params } = kindAndParams(step.what);
      findings.push(...(await serverStepOf(step.what).findings(db, step, params)));
    } catch (error) {
      if (!(error instanceof UnknownStepKind)) throw error;
      const { stepId, what } = step;
      findings.push({ code: 'step not known', weight: 'stop', stepId, step: what.kind, facts: { kind: what.kind } });
    }
  return findings;
}

/** Takes one step out of the draft. Others stay. */
export async function removeStep(db: Database, stepId: number, now: Date): Promise<void> {
  await inTransaction(db, async (tx) => {
    const planId = await draft(tx, now);
    const [step] = await tx
      .select()
      .from(steps)
      .where(and(eq(steps.id, stepId), eq(steps.planId, planId)));
    if (!step) throw new Refused('That step is not in the plan any more. Nothing was changed.');
    for (const table of [stepItems, stepParts]) await tx.delete(table).where(eq(table.stepId, stepId));
    await tx.delete(steps).where(eq(steps.id, stepId));
  });
}

/** Takes every step out of the draft. */
export async function emptyPlan(db: Database, now: Date): Promise<void> {
  await inTransaction(db, async (tx) => {
    const planId = await draft(tx, now);
    const own = tx.select({ id: steps.id }).from(steps).where(eq(steps.planId, planId));
    for (const table of [stepItems, stepParts]) await tx.delete(table).where(inArray(table.stepId, own));
    await tx.delete(steps).where(eq(steps.planId, planId));
    await tx.update(plans).set({ state: 'emptied', draft: null }).where(eq(plans.id, planId));
  });
}

export interface Running {
  planId: PlanId;
  version: number;
  who: string;
  now: Date;
  /** What was typed as the size of the only copies that go. */
  typed?: string;
}

type Ran = { ok: true; jobs: JobId[] } | { ok: false; trouble: PlanTrouble };

/**
 * Runs the plan that was looked at: once, only if it is still the same, and only if nothing stands against it that stops
 * it. Whoever asks, the interface or the command, is held to the same. Puts one job in for each step.
 */
export async function runPlan(db: Database, { planId, version, who, now, typed }: Running): Promise<Ran> {
  try {
    return await inTransaction(db, async (tx): Promise<Ran> => {
      const [plan] = await tx.select().from(plans).where(eq(plans.id, planId)).for('update');
      if (!plan || plan.state === 'emptied') return { ok: false, trouble: { code: 'nothing staged' } };
      if (plan.state !== 'draft')
        return { ok: false, trouble: { code: 'already running', byWhom: plan.runBy ?? 'somebody', planId } };
      if (plan.version !== version) return { ok: false, trouble: { code: 'changed meanwhile' } };
      const all = await stepsOf(tx, planId);
      if (all.length === 0) return { ok: false, trouble: { code: 'nothing staged' } };
      const only = byLevel(all)[3];
      if (only > 0 && !isSizeTyped(typed, only)) return { ok: false, trouble: { code: 'size not typed', bytes: only } };
      const stops = (await findingsOf(tx, all)).filter((finding) => finding.weight === 'stop');
      if (stops.length > 0) return { ok: false, trouble: { code: 'stopped by findings', findings: stops } };
      const ids: JobId[] = [];
      for (const row of await tx.select().from(steps).where(eq(steps.planId, planId)).orderBy(steps.id))
        ids.push(await jobFor(tx, row, { who, now }));
      await tx.update(plans).set({ state: 'running', draft: null, runBy: who, runAt: now }).where(eq(plans.id, planId));
      return { ok: true, jobs: ids };
    });
  } catch (error) {
    if (sqlCode(error) === 'ER_DUP_ENTRY') return { ok: false, trouble: { code: 'changed meanwhile' } };
    throw error;
  }
}

/** Whoever lets the only copies of something go types how much it is, as it is shown; spaces do not matter. */
const isSizeTyped = (typed: string | undefined, bytes: number): boolean => plain(typed ?? '') === plain(size(bytes));
const plain = (text: string) => text.replace(/\s+/g, '').toLowerCase();

/**
 * Runs one step at once, in a plan of its own: for what takes nothing away. Refused with the first thing that stands
 * against it.
 */
export async function runAtOnce(
  db: Database,
  add: (tx: Transaction, planId: PlanId) => Promise<number>,
  { who, now }: { who: string; now: Date },
): Promise<JobId> {
  return inTransaction(db, async (tx) => {
    const [{ insertId }] = await tx.insert(plans).values({ state: 'running', createdAt: now, runBy: who, runAt: now });
    const planId = insertId as PlanId;
    const stepId = await add(tx, planId);
    const [stop] = (await findingsOf(tx, await stepsOf(tx, planId))).filter((finding) => finding.weight === 'stop');
    if (stop) {
      const { what, detail } = findingWords(stop, now.getTime());
      throw new Refused(`${what}, so nothing was done. ${detail}`);
    }
    const [row] = await tx.select().from(steps).where(eq(steps.id, stepId));
    return jobFor(tx, row!, { who, now });
  });
}

async function jobFor(
  tx: Transaction,
  row: typeof steps.$inferSelect,
  { who, now }: { who: string; now: Date },
): Promise<JobId> {
  const step = serverStepOf(row.what);
  const params = paramsIn(step, row);
  const begun = (await step.begin?.(tx, row, params)) ?? {};
  const id = await enqueue(
    tx,
    {
      kind: row.what.kind,
      title: row.title,
      who,
      stepId: row.id,
      params: begun,
      stores: await step.stores(tx, row, params),
    },
    now,
  );
  await tx.update(steps).set({ jobId: id }).where(eq(steps.id, row.id));
  return id;
}

/** Every file of a plan, with the step and the volume by name: for taking away, and for what was left. */
export const itemsOf = (db: Db, planId: PlanId) =>
  db
    .select({
      step: steps.title,
      volume: volumes.name,
      path: stepItems.path,
      sizeBytes: stepItems.sizeBytes,
      state: stepItems.state,
      reason: stepItems.reason,
    })
    .from(stepItems)
    .innerJoin(steps, eq(steps.id, stepItems.stepId))
    .leftJoin(volumes, eq(volumes.id, stepItems.volumeId))
    .where(eq(steps.planId, planId))
    .orderBy(stepItems.id);
