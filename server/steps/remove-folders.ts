// Removing folders in which nothing lies, the deepest first. Each is looked at when its turn comes: what somebody put there
// meanwhile holds it and all above it.
import { inArray, sql } from 'drizzle-orm';
import { emptyTrees } from '#core/reclaim/empty.ts';
import { folderOf } from '#core/paths.ts';
import { removeFolders as kind } from '#core/steps/remove-folders.ts';
import { removeEmptyFolder } from '#disk/empty-folders.ts';
import type { Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { folders } from '../db/schema/catalogue.ts';
import { stepItems } from '../db/schema/plans.ts';
import { emptyFolders, wantedFolders } from '../reclaim/empty.ts';
import { forgetFolderLines } from '../db/worth.ts';
import type { JobContext } from '../runtime/context.ts';
import { finishItems, type Item, type ItemWork, type Outcome, runItems, type Step } from '../runtime/run-items.ts';
import { type Added, addFileStepIn } from './adding.ts';
import { commonFindings } from './findings.ts';
import { serverStep } from './kind.ts';
import { reached, volumesOfItems } from './remove.ts';

const DAY_MS = 86_400_000;

/** Adds the removal of these empty folders and of all below them. */
export function addFolderRemovalIn(
  tx: Transaction,
  { folderIds, now }: { folderIds: readonly number[]; now: Date },
): Promise<Added> {
  return addFileStepIn(tx, { kind, params: {}, names: {}, now }, async (_tx, stepId) => {
    const empty = await emptyFolders(tx);
    const asked = new Set(folderIds);
    const trees = emptyTrees(empty, await wantedFolders(tx)).filter((tree) => asked.has(tree.id));
    const tops = new Map<string, true>(trees.map((tree) => [`${tree.volumeId} ${tree.path}`, true]));
    const isBelow = ({ volumeId, path }: (typeof empty)[number]) => {
      for (let at = path; at !== ''; at = folderOf(at)) if (tops.has(`${volumeId} ${at}`)) return true;
      return false;
    };
    const busy = await inPlans(tx);
    const rows = empty.filter((one) => isBelow(one) && !busy.has(`${one.volumeId} ${one.path}`));
    const depth = (path: string) => path.split('/').length;
    rows.sort((a, b) => depth(b.path) - depth(a.path) || a.id - b.id);
    for (const some of inSlices(rows, 1000))
      await tx.insert(stepItems).values(
        some.map(({ volumeId, path, rawPath }) => ({
          stepId,
          volumeId,
          fileId: 0,
          path,
          rawPath,
          sizeBytes: 0,
          modifiedUs: 0,
        })),
      );
    return 'None of them is empty any more, or they are in a plan already. Nothing was added.';
  });
}

/** Folders that a plan has which is a draft or running. */
async function inPlans(tx: Transaction): Promise<Set<string>> {
  const [rows] = (await tx.execute(sql`
    SELECT i.volume_id AS volumeId, i.path FROM step_items i JOIN steps s ON s.id = i.step_id JOIN plans p ON p.id = s.plan_id
    WHERE i.file_id = 0 AND (p.draft = 1 OR p.state = 'running') AND i.state IN ('waiting', 'started')`)) as unknown as [
    { volumeId: number; path: string }[],
  ];
  return new Set(rows.map((row) => `${row.volumeId} ${row.path}`));
}

/** Folders whose own change was ours: what lay in them was removed by this run. */
type Ours = Set<string>;

async function removeAll(context: JobContext, items: readonly Item[], ours: Ours): Promise<Outcome[]> {
  const outcomes: Outcome[] = [];
  for await (const { item, root } of reached(context, items, outcomes)) {
    const changedBefore = ours.has(`${item.volumeId} ${item.path}`) ? Infinity : context.now().getTime() - DAY_MS;
    const result = removeEmptyFolder(root, { path: item.path, raw: item.rawPath }, changedBefore);
    // Begun by an earlier run and not there: that run removed it.
    const isDone = result.done || (result.reason === 'gone' && item.state === 'started');
    if (isDone) ours.add(`${item.volumeId} ${folderOf(item.path)}`);
    outcomes.push({ item, result: isDone ? { done: true } : result });
  }
  return outcomes;
}

async function forget(tx: Transaction, outcomes: readonly Outcome[], now: Date): Promise<void> {
  const went = outcomes.filter(({ result }) => result.done || result.reason === 'gone').map(({ item }) => item);
  const ids: number[] = [];
  for (const some of inSlices(went, 500)) {
    const rows = await tx
      .select({ id: folders.id })
      .from(folders)
      .where(
        sql`(${folders.volumeId}, ${folders.path}) IN (${sql.join(
          some.map((item) => sql`(${item.volumeId}, ${item.path})`),
          sql`, `,
        )}) AND ${folders.goneAt} IS NULL AND ${folders.totalFiles} = 0`,
      );
    ids.push(...rows.map((row) => row.id));
  }
  if (ids.length === 0) return;
  await tx.update(folders).set({ goneAt: now }).where(inArray(folders.id, ids));
  await forgetFolderLines(tx, ids);
}

function workOf(context: JobContext): ItemWork {
  const ours: Ours = new Set();
  return {
    kind,
    projectId: null,
    act: (items) => removeAll(context, items, ours),
    finishOrUndo: async (items) => items.map((item) => ({ item, result: null })),
    followUp: (tx, outcomes) => forget(tx, outcomes, context.now()),
  };
}

export const removeFolders = serverStep({
  kind,
  findings: (db, step) => commonFindings(db, step),
  stores: (tx, step) => volumesOfItems(tx, step.id),
  run: (context, step: Step) => runItems(context, step, workOf(context)),
  giveUp: (context, step: Step) =>
    finishItems(context, step, { work: workOf(context), ending: { state: 'failed', trouble: context.givenUp } }),
});
