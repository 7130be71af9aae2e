// Copying what a project borrows into its homes: a copy is read back, written down, and gets its name; the original is not
// touched. The project's own documents get new versions that name the copies; everybody else's go on naming the originals.
import { and, eq, inArray } from 'drizzle-orm';
import { homeKindOf } from '#core/homes/homes.ts';
import type { FileId, Kind, ProjectId, VolumeId } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { copyHome as kind } from '#core/steps/copy-home.ts';
import { type FileFacts, look } from '#disk/facts.ts';
import { dropCopy, isCopy, placeCopy } from '#disk/move.ts';
import type { ItemResult } from '#disk/remove.ts';
import { ensureFolder } from '../db/catalogue-writer.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { inSlices, lockFolders, refreshHoldings } from '../db/holdings.ts';
import { documentsNamingItems, usedFiles } from '../db/naming.ts';
import { files } from '../db/schema/catalogue.ts';
import { documents } from '../db/schema/documents.ts';
import { volumes } from '../db/schema/stores.ts';
import { recomputeProjectSumsIn } from '../readings/project-sums.ts';
import type { JobContext } from '../runtime/context.ts';
import type { StoreNeed } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import {
  COPYING,
  finishItems,
  type Item,
  type ItemWork,
  type Outcome,
  runItems,
  type Step,
} from '../runtime/run-items.ts';
import { type Added, addFileStepIn, NothingToAdd } from './adding.ts';
import { commonFindings, tooFull } from './findings.ts';
import { serverStep } from './kind.ts';
import { filesWhere, homeFor, insertMoves, type Moved, projectOf, unitsWithin } from './moving-items.ts';
import {
  copyAndNote,
  copyOf,
  moveOf,
  refuseWithoutRoom,
  relinkDocuments,
  relinkedFacts,
  relinkedFinding,
} from './moving.ts';
import { volumesOfItems } from './remove.ts';

/** Adds a step for each home that something borrowed is copied to; what is used of others, whole units. */
export async function addBorrowedIn(
  tx: Transaction,
  { projectId, now }: { projectId: ProjectId; now: Date },
): Promise<Added[]> {
  const project = await projectOf(tx, projectId);
  const byKind = new Map<Kind, Moved[]>();
  for (const file of await borrowedUnits(tx, projectId)) {
    const home = homeKindOf(file);
    byKind.set(home, [...(byKind.get(home) ?? []), file]);
  }
  const added: Added[] = [];
  for (const [fileKind, moved] of byKind) {
    const { home, volume } = await homeFor(tx, project, fileKind);
    const { volumeId, folder } = home;
    const params = { projectId, project: project.name, fileKind, volumeId, folder };
    try {
      added.push(
        await addFileStepIn(tx, { kind, params, names: { volume }, now }, async (_tx, stepId) => {
          await insertMoves(tx, { stepId, projectId, moved, home });
          return 'It is in a plan already. Nothing was added.';
        }),
      );
    } catch (error) {
      if (!(error instanceof NothingToAdd)) throw error;
    }
  }
  return added;
}

/** Files of others that its timelines use, each with its unit. */
export async function borrowedUnits(tx: Transaction, projectId: ProjectId): Promise<Moved[]> {
  const used = await usedFiles(tx, projectId, { newest: true });
  const borrowed: Moved[] = [];
  for (const ids of inSlices([...used], 1000))
    borrowed.push(
      ...(await filesWhere(tx, inArray(files.id, [...ids]))).filter((file) => file.projectId !== projectId),
    );
  const isBorrowed = new Set<FileId>(borrowed.map((file) => file.fileId));
  const units: Moved[] = [];
  for (const folderIds of inSlices([...new Set(borrowed.map((file) => file.folderId))], 200))
    for (const unit of unitsWithin(await filesWhere(tx, inArray(files.folderId, [...folderIds]))))
      if (unit.some((file) => isBorrowed.has(file.fileId)))
        units.push(...unit.filter((file) => file.projectId !== projectId));
  return units;
}

interface Copying {
  context: JobContext;
  step: Step;
  params: { projectId: ProjectId; fileKind: Kind; volumeId: VolumeId };
  target: typeof volumes.$inferSelect;
  /** Facts of copies at their place, by item. */
  placed: Map<number, FileFacts>;
}

async function copyItems(copying: Copying, items: readonly Item[]): Promise<Outcome[]> {
  const outcomes: Outcome[] = [];
  for (const item of items) {
    const result = await copyItem(copying, item);
    outcomes.push({ item, result });
  }
  return outcomes;
}

async function copyItem(copying: Copying, item: Item): Promise<ItemResult> {
  const { context, target } = copying;
  const [from, to] = [await context.root(item.volumeId), await context.root(target.id)];
  if (!from || !to) return { done: false, reason: 'unreachable' };
  if (item.rawPath) return { done: false, reason: 'name unreadable' };
  if (await isPlaced(copying, item)) {
    context.add(item.sizeBytes);
    return { done: true };
  }
  const copied = await copyAndNote({ context }, item, { from, to });
  if (!copied.done) return copied;
  await context.assertLease();
  const names = await context.names();
  const placed = placeCopy({ from, to, move: moveOf(item), names });
  if (!placed.done) return placed;
  if (!(await isPlaced(copying, item))) return { done: false, reason: 'copy differs', detail: item.targetPath! };
  return copied.detail ? { done: true, detail: copied.detail } : { done: true };
}

/** Whether the copy that was written down is at its place, by this run or an earlier one. */
async function isPlaced({ context, target, placed }: Copying, item: Item): Promise<boolean> {
  const to = await context.root(target.id);
  const copy = copyOf(item);
  if (!to || !copy || !isCopy(to, moveOf(item), copy)) return false;
  const facts = look(to.placeText(item.targetPath!));
  if (facts.is === 'file') placed.set(item.id, facts);
  return facts.is === 'file';
}

async function finishOrUndo(copying: Copying, items: readonly Item[]): ReturnType<ItemWork['finishOrUndo']> {
  const { context, target } = copying;
  const ended: Awaited<ReturnType<ItemWork['finishOrUndo']>> = [];
  for (const item of items) {
    const to = await context.root(target.id);
    if (!to) {
      ended.push({ item, result: null });
      continue;
    }
    await context.assertLease();
    const isThere = await isPlaced(copying, item);
    if (!isThere) dropCopy(to, await context.names(), moveOf(item));
    ended.push({ item, result: isThere ? { done: true } : null });
  }
  return ended;
}

/** The copies are in the catalogue at once, as the project's own. */
async function catalogue(
  { context, params, target, placed }: Copying,
  tx: Transaction,
  outcomes: readonly Outcome[],
): Promise<void> {
  const { $connection: connection } = tx;
  const done = outcomes.filter(({ item, result }) => result.done && placed.has(item.id));
  if (done.length === 0) return;
  const folderIds = new Map<string, number>();
  for (const { item } of done) {
    const folder = folderOf(item.targetPath!);
    if (!folderIds.has(folder)) folderIds.set(folder, await ensureFolder(connection, target.id, folder, context.now()));
  }
  const touched = [...folderIds.values()];
  await lockFolders(connection, touched);
  for (const { item } of done) {
    const { sizeBytes, modifiedUs, inode, changedUs } = placed.get(item.id)!;
    const at = { folderId: folderIds.get(folderOf(item.targetPath!))!, name: nameOf(item.targetPath!) };
    const [known] = await tx
      .select({ id: files.id })
      .from(files)
      .where(and(eq(files.folderId, at.folderId), eq(files.name, at.name)));
    const row = { ...at, sizeBytes, modifiedUs, inode, changedUs, volumeId: target.id, goneAt: null };
    const own = { kind: params.fileKind, projectId: params.projectId };
    if (known)
      await tx
        .update(files)
        .set({ ...row, ...own })
        .where(eq(files.id, known.id));
    else await tx.insert(files).values({ ...row, ...own });
  }
  await refreshHoldings(connection, touched);
}

async function workOf(context: JobContext, step: Step, params: Copying['params']): Promise<ItemWork> {
  const { projectId, volumeId } = params;
  const [target] = await context.db.select().from(volumes).where(eq(volumes.id, volumeId));
  if (!target) throw new Refused('The volume of this step is not known any more. Nothing was copied.');
  const copying: Copying = { context, step, params, target, placed: new Map() };
  let relinked: Awaited<ReturnType<typeof relinkDocuments>> = { versions: [], left: [] };
  return {
    kind,
    projectId,
    ...COPYING,
    prepare: () => refuseWithoutRoom({ context, step, target, copies: true }),
    act: (items) => copyItems(copying, items),
    finishOrUndo: (items) => finishOrUndo(copying, items),
    followUp: (tx, outcomes) => catalogue(copying, tx, outcomes),
    conclude: async () => {
      relinked = await relinkDocuments(context, { step, volumeId, only: projectId });
    },
    lastWords: async (tx) => {
      await recomputeProjectSumsIn(tx, [projectId]);
      return relinkedFacts(relinked);
    },
  };
}

/** The project's documents that name one of the items. */
async function ownNaming(db: Db, stepId: number, projectId: ProjectId) {
  const naming = await documentsNamingItems(db, stepId);
  const own = new Set(
    (await db.select({ id: documents.id }).from(documents).where(eq(documents.projectId, projectId))).map(
      (row) => row.id,
    ),
  );
  return naming.filter((row) => own.has(row.id));
}

export const copyHome = serverStep({
  kind,
  findings: async (db, step, { projectId, volumeId }) => [
    ...(await commonFindings(db, step, [volumeId])),
    ...(await tooFull(db, step, { volumeId, neededBytes: step.bytes })),
    ...(await relinkedFinding(db, step, await ownNaming(db, step.stepId, projectId))),
  ],
  stores: async (tx, step, { projectId, volumeId }) => [
    ...(await volumesOfItems(tx, step.id))
      .filter((need) => need.id !== volumeId)
      .map((need): StoreNeed => ({ ...need, mode: 'look' })),
    ...[volumeId, ...(await ownNaming(tx, step.id, projectId)).map((row) => row.volumeId)].flatMap(
      (id): StoreNeed[] => [
        { store: 'volume', id, mode: 'change' },
        { store: 'catalogue', id, mode: 'change' },
      ],
    ),
  ],
  run: async (context, step, params) => runItems(context, step, await workOf(context, step, params)),
  giveUp: async (context, step, params) =>
    finishItems(context, step, {
      work: { ...(await workOf(context, step, params)), conclude: undefined },
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
