// What all steps that go over files share: a cursor in batches, the lease, the last look, holding, progress, the journal,
// what follows in the catalogue, cancelling, and a receipt however it ends. An item is 'waiting' until its batch begins,
// 'started' from then on, 'taken' once the job alone can reach it, and 'done' or 'held' in the end.
import { and, asc, eq, gt, inArray, sql } from 'drizzle-orm';
import type { HeldReason } from '#core/plan/plan.ts';
import type { StepKind } from '#core/steps/kind.ts';
import { size } from '#core/wording/amounts.ts';
import type { Held, ItemResult } from '#disk/remove.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { stepItems, type steps } from '../db/schema/plans.ts';
import type { JobContext } from './context.ts';
import { endingOf } from './endings.ts';
import { endJob, type Ending, noteProgress } from './queue.ts';
import { addFreed, freedFacts, freeNow, noteFreeBefore } from './freed.ts';
import { markBegun, markItems, setState, settleMarks } from './item-marks.ts';
import { itemsHasher, type NewReceipt, writeReceipt } from './receipts.ts';

export type Item = typeof stepItems.$inferSelect;
export type Step = typeof steps.$inferSelect;

export interface Outcome {
  item: Item;
  result: ItemResult;
}

/** What was done in all, as the receipt has it. */
export interface Tally {
  files: number;
  bytes: number;
  held: number;
  reasons: Partial<Record<HeldReason, number>>;
  notReached: number;
  itemsSha256: string;
}

export interface ItemWork {
  kind: StepKind;
  projectId: number | null;
  /** Before the first batch, at every run: what must be there. May throw Refused. */
  prepare?(): Promise<void>;
  /** What the catalogue and other stores have against items of a batch, right before it is touched. */
  lastLook?(items: readonly Item[]): Promise<ReadonlyMap<number, Held>>;
  /**
   * Does a batch that may be done, or as much of it as there is time for where the job is to end: what has no outcome is
   * settled afterwards. Begun items of an earlier run come again, in the state they were left in.
   */
  act(items: readonly Item[]): Promise<Outcome[]>;
  /** After cancelling, a refusal or an error: finishes items that are begun, or puts them back; null leaves one waiting. */
  finishOrUndo(items: readonly Item[]): Promise<{ item: Item; result: ItemResult | null }[]>;
  /** What outcomes change in the catalogue, in the transaction that writes them down. */
  followUp?(tx: Transaction, outcomes: readonly Outcome[]): Promise<void>;
  /** After the last batch, however it ended, before the receipt. What it throws becomes the trouble of the job. */
  conclude?(ending: Ending): Promise<void>;
  /**
   * In the transaction of the receipt: what follows the whole step, and what the receipt says beside the sums. `bytes` among
   * it stands for the sum of the items, where less than the whole of them was done.
   */
  lastWords?(tx: Transaction, tally: Tally, ending: Ending): Promise<Record<string, unknown>>;
  /** What was done and does not stand after all is told as not done: before the items are summed for the receipt. */
  takeBack?(tx: Transaction, ending: Ending): Promise<void>;
  /** So many items make a batch. */
  batch?: number;
  /** Its bytes are copied: a batch ends with the item that makes it this large, so that little of large files is done again. */
  batchBytes?: number;
  /** Its files go for good: the receipt says what that gave back. */
  frees?: boolean;
  /**
   * The next batch may be touched while what became of the last is still being written down: for work that can tell from the
   * disk alone what became of an item that was in its hands.
   */
  overlaps?: boolean;
}

/** Large enough that what a batch costs in the database is little beside its files. */
const BATCH = 1000;
const BEGUN = ['started', 'taken'] as const;

/** Batches of work that copies bytes: many small files, or a few large ones, as several are copied at once. */
export const COPYING = { batch: 500, batchBytes: 1 << 30 };
const LEAST_COPIED = 4;
const LARGE_FILE = 16 << 20;

/** How many files of a batch are copied at once by so many threads: small ones wait for the disk to flush them more than they take to write. */
export const besideEachOther = (threads: number, items: readonly Pick<Item, 'sizeBytes'>[]): number =>
  threads * (items.reduce((sum, { sizeBytes }) => sum + sizeBytes, 0) >= LARGE_FILE * items.length ? 2 : 4);

/** As many as make a batch. */
export function asBatch<Of extends Pick<Item, 'sizeBytes'>>(items: readonly Of[], batchBytes = Infinity): Of[] {
  let bytes = 0;
  const end = items.findIndex((item, i) => {
    bytes += item.sizeBytes;
    return bytes >= batchBytes && i + 1 >= LEAST_COPIED;
  });
  return items.slice(0, end < 0 ? items.length : end + 1);
}

export async function runItems(context: JobContext, step: Step, work: ItemWork): Promise<void> {
  let ending: Ending = { state: 'done' };
  try {
    await resumeProgress(context, step, work.kind.phase);
    await settleMarks(context, step);
    await context.checkIn();
    await work.prepare?.();
    if (work.frees) await noteFreeBefore(context, step);
    await runBatches(context, step, work);
  } catch (thrown) {
    ending = endingOf(context, thrown);
  }
  context.endingNow();
  await finishItems(context, step, { work, ending });
}

/** Settles what is begun, writes the receipt and ends the job: also for a job that is not to be run any more. */
export async function finishItems(
  context: JobContext,
  step: Step,
  { work, ending: asked }: { work: ItemWork; ending: Ending },
): Promise<void> {
  let ending = asked;
  try {
    if (ending.state !== 'done') await finishOrUndoBegun(context, step, work);
    await work.conclude?.(ending);
  } catch (thrown) {
    const worse = endingOf(context, thrown);
    ending = { state: 'failed', trouble: [ending.trouble, worse.trouble].filter(Boolean).join(' ') };
  }
  const freeAfter = work.frees ? await freeNow(context, step) : null;
  await context.transaction(async (tx) => {
    await work.takeBack?.(tx, ending);
    const tally = await tallyOf(tx, step.id);
    const { bytes = tally.bytes, ...facts } = (await work.lastWords?.(tx, tally, ending)) ?? {};
    const freed = freeAfter ? { freed: await freedFacts(tx, step, freeAfter) } : {};
    const ended = ending.state === 'done';
    await writeReceipt(tx, {
      at: context.now(),
      who: context.job.who,
      action: ended ? work.kind.action : 'work ended early',
      title: ended ? step.title : `${step.title}: ended early after ${size(tally.bytes)}`,
      projectId: work.projectId,
      jobId: context.job.id,
      stepId: step.id,
      files: tally.files,
      bytes: Number(bytes),
      held: tally.held,
      facts: {
        held: tally.reasons,
        notReached: tally.notReached,
        itemLines: ITEM_LINES,
        ...(ending.trouble ? { trouble: ending.trouble } : {}),
        ...freed,
        ...facts,
      },
      itemsSha256: tally.itemsSha256,
    } satisfies NewReceipt);
    await endJob(tx, context.job, ending);
  });
}

async function resumeProgress(context: JobContext, step: Step, phase: string): Promise<void> {
  const [sum] = await context.db
    .select({ bytes: sql`COALESCE(SUM(${stepItems.sizeBytes}), 0)`.mapWith(Number) })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), inArray(stepItems.state, ['done', 'held'])));
  context.phase(phase, 'bytes', step.bytes, sum!.bytes);
}

/** One batch after the other, until nothing waits. Whatever ends it, nothing of it is still being written down afterwards. */
async function runBatches(context: JobContext, step: Step, work: ItemWork): Promise<void> {
  const cursor: Cursor = { isFresh: false, after: 0 };
  let journaled = Promise.resolve();
  try {
    let items = await beginBatch(context, step, { work, cursor });
    while (items.length > 0) {
      const outcomes = await runBatch(context, work, items);
      for (const { item } of outcomes.stayed) context.add(item.sizeBytes);
      await journaled;
      // What an earlier run had begun is found by its state, which has to be written down first.
      const isAhead = work.overlaps === true && cursor.isFresh;
      if (isAhead) {
        items = await beginBatch(context, step, { work, cursor });
        await context.renew();
      }
      journaled = quietly(journal(context, step, work, outcomes.all));
      if (isAhead) {
        // Only now: what became of the last batch is told, also where the work is to end here.
        context.check();
        continue;
      }
      await journaled;
      await context.checkIn();
      items = await beginBatch(context, step, { work, cursor });
    }
  } finally {
    await journaled;
  }
}

/** It is waited for later; until then nobody else hears of its trouble. */
export function quietly<Value>(work: Promise<Value>): Promise<Value> {
  work.catch(() => undefined);
  return work;
}

async function beginBatch(
  context: JobContext,
  step: Step,
  { work, cursor }: { work: ItemWork; cursor: Cursor },
): Promise<Item[]> {
  const items = await nextItems(context, step, { work, cursor });
  if (cursor.isFresh && items.length > 0) await markBegun(context, step, cursor.after);
  return items;
}

async function runBatch(
  context: JobContext,
  work: ItemWork,
  items: readonly Item[],
): Promise<{ all: Outcome[]; stayed: Outcome[] }> {
  const held = (await work.lastLook?.(items.filter((item) => item.state !== 'taken'))) ?? new Map<number, Held>();
  const stays = items.filter((item) => held.has(item.id));
  // One that an earlier run had in its hands goes back first.
  const begun = stays.some((item) => item.state !== 'waiting');
  // What is taken next is written down up to a number, and these are not among it.
  if (!begun) await markItems(context, stays, 'started');
  const already = new Map<number, ItemResult | null>();
  if (begun) for (const { item, result } of await work.finishOrUndo(stays)) already.set(item.id, result);
  const stayed: Outcome[] = stays.map((item) => {
    const result = already.get(item.id);
    return { item, result: result?.done ? result : held.get(item.id)! };
  });
  const rest = items.filter((item) => !held.has(item.id));
  return { stayed, all: rest.length > 0 ? [...stayed, ...(await work.act(rest))] : stayed };
}

/** Where a run is: what an earlier one had begun comes first, then what waits, by number. */
interface Cursor {
  isFresh: boolean;
  after: number;
}

/** One state at a time and from a number on: so the index gives them at once, however many were done before. */
async function nextItems(
  { db }: JobContext,
  step: Step,
  { work, cursor }: { work: ItemWork; cursor: Cursor },
): Promise<Item[]> {
  const of = async (state: Item['state']) => {
    const next = await db
      .select()
      .from(stepItems)
      .where(and(eq(stepItems.stepId, step.id), eq(stepItems.state, state), gt(stepItems.id, cursor.after)))
      .orderBy(stepItems.id)
      .limit(work.batch ?? BATCH);
    return asBatch(next, work.batchBytes);
  };
  if (!cursor.isFresh)
    for (const state of BEGUN) {
      const items = await of(state);
      if (items.length > 0) return items;
    }
  cursor.isFresh = true;
  const items = await of('waiting');
  cursor.after = items.at(-1)?.id ?? cursor.after;
  return items;
}

async function finishOrUndoBegun(context: JobContext, step: Step, work: ItemWork): Promise<void> {
  await settleMarks(context, step);
  const begun = await context.db
    .select()
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), inArray(stepItems.state, [...BEGUN])))
    .orderBy(stepItems.id);
  if (begun.length === 0) return;
  const settled = await work.finishOrUndo(begun);
  const waiting = settled.flatMap(({ item, result }) => (result === null ? [item] : []));
  await journal(
    context,
    step,
    work,
    settled.flatMap(({ item, result }) => (result === null ? [] : [{ item, result }])),
  );
  await markItems(context, waiting, 'waiting');
}

/** Writes down what became of a batch, and what follows from it in the catalogue, all in one transaction. */
async function journal(context: JobContext, step: Step, work: ItemWork, outcomes: readonly Outcome[]): Promise<void> {
  if (outcomes.length === 0) return;
  const plain = outcomes.filter(({ result }) => result.done && result.detail === undefined);
  const own = async (tx: Transaction) => {
    await work.followUp?.(tx, outcomes);
    if (plain.length > 0)
      await setState(
        tx,
        plain.map(({ item }) => item),
        'done',
      );
    for (const { item, result } of outcomes)
      if (!result.done)
        await tx
          .update(stepItems)
          .set({ state: 'held', reason: result.reason, detail: result.detail?.slice(0, 1000) ?? null })
          .where(eq(stepItems.id, item.id));
      else if (result.detail !== undefined)
        await tx
          .update(stepItems)
          .set({ state: 'done', detail: result.detail.slice(0, 1000) })
          .where(eq(stepItems.id, item.id));
  };
  await context.transactionLeaseLast(own, async (tx) => {
    await noteProgress(tx, context.job);
    if (work.frees) await addFreed(tx, step, outcomes);
  });
}

const PAGE = 2000;

/** The form of those lines: a receipt says which one it has, so that it can be checked later. */
export const ITEM_LINES = 2;

/** The line of an item in the sum over a receipt's items. */
export const itemLine = (item: Item): string =>
  [
    item.volumeId,
    item.path,
    item.sizeBytes,
    item.modifiedUs,
    item.state,
    item.reason ?? '',
    item.targetPath ?? '',
    item.xxh64 ?? '',
  ].join('\t');

/** Sums over a step's items, page by page: they may be millions. */
export async function tallyOf(db: Db, stepId: number): Promise<Tally> {
  const hash = itemsHasher();
  const tally = { files: 0, bytes: 0, held: 0, reasons: {} as Tally['reasons'], notReached: 0 };
  for (let last = 0; ;) {
    const page = await db
      .select()
      .from(stepItems)
      .where(and(eq(stepItems.stepId, stepId), gt(stepItems.id, last)))
      .orderBy(asc(stepItems.id))
      .limit(PAGE);
    for (const item of page) {
      hash.add(itemLine(item));
      last = item.id;
      if (item.state === 'done') {
        tally.files++;
        tally.bytes += item.sizeBytes;
      } else if (item.state === 'held') {
        tally.held++;
        tally.reasons[item.reason!] = (tally.reasons[item.reason!] ?? 0) + 1;
      } else tally.notReached++;
    }
    if (page.length < PAGE) return { ...tally, itemsSha256: hash.digest() };
  }
}
