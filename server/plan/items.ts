// The items of a step before it is run: found by text, or by what stands against them, and left out one by one or together.
import { and, eq, inArray, notInArray, type SQL, sql } from 'drizzle-orm';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { type ItemRow, itemsPage } from '../ledger/items.ts';
import { stepItems, stepParts, steps } from '../db/schema/plans.ts';
import { Refused } from '../runtime/refused.ts';
import { draft } from '../steps/adding.ts';
import { itemsAbout } from '../steps/findings.ts';

export interface ItemsAsked {
  /** Part of a path, in any case. */
  text?: string;
  /** What a finding is about, as it says itself. */
  about?: string;
}

const whichOf = ({ text, about }: ItemsAsked): SQL | undefined =>
  and(
    text
      ? sql`LOWER(${stepItems.path}) LIKE ${`%${text.toLowerCase().replace(/[\\%_]/g, (c) => `\\${c}`)}%`}`
      : undefined,
    about ? itemsAbout(about) : undefined,
  );

export interface StepItems {
  title: string;
  files: number;
  bytes: number;
  /** Of those that were asked for. */
  found: { files: number; bytes: number };
  items: ItemRow[];
}

/** A page of a draft's step, after that item; null where the draft has no such step. */
export async function draftItems(
  db: Db,
  stepId: number,
  { after, most, ...asked }: ItemsAsked & { after: number; most: number },
): Promise<StepItems | null> {
  const [step] = await db
    .select({ title: steps.title, files: steps.files, bytes: steps.bytes })
    .from(steps)
    .where(and(eq(steps.id, stepId), inDraft));
  if (!step) return null;
  const which = whichOf(asked);
  const [found] = await db
    .select(SUMS)
    .from(stepItems)
    .where(and(eq(stepItems.stepId, stepId), which));
  return { ...step, found: found!, items: await itemsPage(db, stepId, { after, most, which }) };
}

const inDraft = sql`${steps.planId} IN (SELECT id FROM plans WHERE draft = 1)`;
const SUMS = {
  files: sql`COUNT(*)`.mapWith(Number),
  bytes: sql`COALESCE(SUM(${stepItems.sizeBytes}), 0)`.mapWith(Number),
};

/** Leaves items out of a step of the draft; a step without any is taken out whole. Gives what was left out. */
/** What a step takes of an item: the whole, or the parts of it that were chosen. */
const TAKEN_BYTES = sql`COALESCE((SELECT SUM(p.size_bytes) FROM step_parts p WHERE p.step_id = ${stepItems.stepId} AND p.file_id = ${stepItems.fileId} AND p.why_whole IS NULL), ${stepItems.sizeBytes})`;

export function leaveOut(
  db: Database,
  { stepId, ids, now, ...asked }: ItemsAsked & { stepId: number; ids?: readonly number[]; now: Date },
): Promise<{ files: number; bytes: number }> {
  return inTransaction(db, async (tx) => {
    const planId = await draft(tx, now);
    const [step] = await tx
      .select({ id: steps.id })
      .from(steps)
      .where(and(eq(steps.id, stepId), eq(steps.planId, planId)));
    if (!step) throw new Refused('That step is not in the plan any more. Nothing was changed.');
    const own = and(eq(stepItems.stepId, stepId), ids ? inArray(stepItems.id, [...ids, 0]) : whichOf(asked));
    const [out] = await tx.select(SUMS).from(stepItems).where(own);
    if (out!.files === 0) throw new Refused('None of these is in the step any more. Nothing was changed.');
    await tx.delete(stepItems).where(own);
    const kept = tx.select({ id: stepItems.fileId }).from(stepItems).where(eq(stepItems.stepId, stepId));
    await tx.delete(stepParts).where(and(eq(stepParts.stepId, stepId), notInArray(stepParts.fileId, kept)));
    const [left] = await tx
      .select({ files: SUMS.files, bytes: sql`COALESCE(SUM(${TAKEN_BYTES}), 0)`.mapWith(Number) })
      .from(stepItems)
      .where(eq(stepItems.stepId, stepId));
    if (left!.files === 0) await tx.delete(steps).where(eq(steps.id, stepId));
    else await tx.update(steps).set(left!).where(eq(steps.id, stepId));
    return out!;
  });
}
