// What moving home and parking share. Each file is looked at once more at the last moment and held if it differs. On one
// volume it is taken and gets its new name; across volumes a copy is read back, written down, placed, and only then does
// the original go. Documents that named the files get new versions at the end. Choosing the items is in moving-items.ts.
import { and, eq, inArray, isNull, ne, sql } from 'drizzle-orm';
import type { Connection, RowDataPacket } from 'mysql2/promise';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { nextVersion } from '#core/documents/versions.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import type { Finding, StepSummary } from '#core/plan/model.ts';
import type { StepKind } from '#core/steps/kind.ts';
import { codeOf, type FileFacts, look } from '#disk/facts.ts';
import { copyOver, dropCopy, keepCopy, type Move, placeCopy, placeTaken, removeOriginal } from '#disk/move.ts';
import { freshOpenFiles } from '#disk/open-files.ts';
import { type ItemResult, putBack, take } from '#disk/remove.ts';
import type { Root } from '#disk/root.ts';
import { ensureFolder } from '../db/catalogue-writer.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { lockFolders, refreshHoldings } from '../db/holdings.ts';
import { documentsNamingItems } from '../db/naming.ts';
import { files } from '../db/schema/catalogue.ts';
import { documents } from '../db/schema/documents.ts';
import { stepItems } from '../db/schema/plans.ts';
import { volumes } from '../db/schema/stores.ts';
import { recomputeProjectSumsIn } from '../readings/project-sums.ts';
import { readDocuments } from '../readings/read-documents.ts';
import { readVolume } from '../readings/read-volume.ts';
import type { JobContext } from '../runtime/context.ts';
import { markItems } from '../runtime/item-marks.ts';
import type { StoreNeed } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import {
  finishItems,
  type Item,
  type ItemWork,
  type Outcome,
  runItems,
  type Step,
  type Tally,
} from '../runtime/run-items.ts';
import { trustsUnseenPrograms } from '../site/house-rules.ts';
import { tooSmall } from '../stores/look.ts';
import { volumeFree } from '../stores/volume-free.ts';
import { commonFindings, finding, tooFull } from './findings.ts';
import { type ServerStep, serverStep } from './kind.ts';
import { type NewVersion, type Place, relinkMoved } from './move-documents.ts';
import { volumesOfItems } from './remove.ts';

interface Moving {
  context: JobContext;
  step: Step;
  projectId: number;
  target: typeof volumes.$inferSelect;
  /** Facts of moved files at their new place, by item. */
  placed: Map<number, FileFacts>;
}

export const moveOf = (item: Item): Move => ({
  itemId: item.id,
  path: item.path,
  to: item.targetPath!,
  expected: item,
});

/** Nothing is begun where it cannot all fit. What stays on its volume takes no room, unless it is copied. */
export async function refuseWithoutRoom({
  context,
  step,
  target,
  copies = false,
}: Pick<Moving, 'context' | 'step' | 'target'> & { copies?: boolean }): Promise<void> {
  const [coming] = await context.db
    .select({ bytes: sql`COALESCE(SUM(${stepItems.sizeBytes}), 0)`.mapWith(Number) })
    .from(stepItems)
    .where(
      and(
        eq(stepItems.stepId, step.id),
        eq(stepItems.state, 'waiting'),
        copies ? undefined : ne(stepItems.volumeId, target.id),
      ),
    );
  const free = await volumeFree(context.db, target.id as VolumeId);
  if (coming!.bytes > free) throw new Refused(tooSmall(target.name, coming!.bytes, free, copies ? 'copied' : 'moved'));
}

async function moveItems(moving: Moving, items: readonly Item[]): Promise<Outcome[]> {
  const outcomes: Outcome[] = [];
  for (const item of items) {
    const from = await moving.context.root(item.volumeId);
    const to = await moving.context.root(moving.target.id);
    const result: ItemResult =
      !from || !to
        ? { done: false, reason: 'unreachable' }
        : item.rawPath
          ? { done: false, reason: 'name unreadable' }
          : item.volumeId === moving.target.id
            ? await within(moving, item, from)
            : await across(moving, item, { from, to });
    if (result.done && to) notePlaced(moving, item, to);
    outcomes.push({ item, result });
  }
  return outcomes;
}

function notePlaced(moving: Moving, item: Item, to: Root): void {
  try {
    const facts = look(to.placeText(item.targetPath!));
    if (facts.is === 'file') moving.placed.set(item.id, facts);
  } catch {
    // Somebody moved it on already: the next reading finds it.
  }
}

async function within({ context }: Moving, item: Item, root: Root): Promise<ItemResult> {
  const names = await context.names();
  const move = moveOf(item);
  const open = freshOpenFiles(await trustsUnseenPrograms(context.db));
  await context.assertLease();
  const taken = take(root, names, move, open);
  if (!taken.done && !(item.state === 'taken' && taken.reason === 'gone')) return taken;
  if (item.state !== 'taken') await markItems(context, [item], 'taken');
  await context.assertLease();
  const placed = placeTaken(root, names, move);
  context.add(item.sizeBytes);
  return placed;
}

async function across(moving: Moving, item: Item, { from, to }: { from: Root; to: Root }): Promise<ItemResult> {
  const { context } = moving;
  const names = await context.names();
  const move = moveOf(item);
  const places = { from, to, move, names };
  let copy = copyOf(item);
  let detail: string | undefined;
  if (item.state !== 'taken' || copy === null) {
    // An earlier run was killed right after it took the original: it begins anew.
    if (look(names.place(from, 'out', item.id)).is !== 'gone') {
      const back = putBack({ root: from, names }, move, 'changed');
      if (back.reason === 'name taken') return back;
      item.changedUs = null;
    }
    const copied = await copyAndNote(moving, item, { from, to });
    if (!copied.done) return copied;
    copy = copyOf(item)!;
    detail = copied.detail;
    await context.assertLease();
    const taken = take(from, names, move, freshOpenFiles(await trustsUnseenPrograms(context.db)));
    if (!taken.done) {
      await context.assertLease();
      if (taken.reason !== 'gone') dropCopy(to, names, move);
      else {
        const kept = keepCopy(to, names, move);
        if (kept) taken.detail = `the copy that had been made of it is at ${kept}`;
      }
      return taken;
    }
    await markItems(context, [item], 'taken');
  } else context.add(item.sizeBytes);
  await context.assertLease();
  const placed = placeCopy(places);
  if (!placed.done) return placed;
  await context.assertLease();
  const removed = removeOriginal(places, copy);
  return removed.done && detail ? { done: true, detail } : removed;
}

export const copyOf = (item: Item) =>
  item.xxh64 === null || item.copyDevice === null || item.copyInode === null
    ? null
    : { xxh64: item.xxh64, device: item.copyDevice, inode: item.copyInode };

export async function copyAndNote(
  { context }: Pick<Moving, 'context'>,
  item: Item,
  { from, to }: { from: Root; to: Root },
): Promise<ItemResult> {
  try {
    const copied = await copyOver(context.pools.content, {
      from,
      to,
      move: moveOf(item),
      names: await context.names(),
      progress: (bytes) => context.add(bytes),
      stop: context.stop,
    });
    if (!copied.done) return copied;
    const noted = { xxh64: copied.copy.xxh64, copyDevice: copied.copy.device, copyInode: copied.copy.inode };
    await context.transaction((tx) => tx.update(stepItems).set(noted).where(eq(stepItems.id, item.id)));
    Object.assign(item, noted);
    return { done: true, detail: copied.detail };
  } catch (error) {
    context.check();
    if (['ENOSPC', 'EDQUOT'].includes(codeOf(error)))
      throw new Refused(
        `The volume is full. What had got there is there whole; ${item.path} and what comes after it stayed where it was. Free some space and add the step again.`,
      );
    throw error;
  }
}

/** What is on its way gets to its end; what is not yet, goes back. */
async function finishOrUndoItems(moving: Moving, items: readonly Item[]): ReturnType<ItemWork['finishOrUndo']> {
  const { context, target } = moving;
  const names = await context.names();
  const ended: Awaited<ReturnType<ItemWork['finishOrUndo']>> = [];
  for (const item of items) {
    const from = await context.root(item.volumeId);
    const to = await context.root(target.id);
    if (!from || !to) {
      ended.push({ item, result: item.state === 'taken' ? { done: false, reason: 'unreachable' } : null });
      continue;
    }
    await context.assertLease();
    if (item.state === 'taken') {
      const result =
        item.volumeId === target.id ? await within(moving, item, from) : await across(moving, item, { from, to });
      if (result.done) notePlaced(moving, item, to);
      ended.push({ item, result });
      continue;
    }
    const back = putBack({ root: from, names }, moveOf(item), 'changed');
    dropCopy(to, names, moveOf(item));
    ended.push({ item, result: back.reason === 'name taken' ? back : null });
  }
  return ended;
}

/** A moved file stays the same file in the catalogue, at its new place. */
async function followMoved(moving: Moving, tx: Transaction, outcomes: readonly Outcome[]): Promise<void> {
  const { context, target, placed } = moving;
  const { $connection: connection } = tx;
  const done = outcomes.filter((o) => o.result.done);
  const gone = outcomes.filter((o) => !o.result.done && o.result.reason === 'gone');
  if (done.length + gone.length === 0) return;
  const ids = [...done, ...gone].map((o) => o.item.fileId);
  const [rows] = await connection.query<RowDataPacket[]>('SELECT DISTINCT folder_id AS id FROM files WHERE id IN (?)', [
    ids,
  ]);
  const touched = new Set(rows.map((row) => Number(row.id)));
  const folderIds = new Map<string, number>();
  for (const { item } of done) {
    const folder = folderOf(item.targetPath!);
    if (!folderIds.has(folder)) folderIds.set(folder, await ensureFolder(connection, target.id, folder, context.now()));
    touched.add(folderIds.get(folder)!);
  }
  await lockFolders(connection, [...touched]);
  for (const { item } of done) {
    const facts = placed.get(item.id);
    const folderId = folderIds.get(folderOf(item.targetPath!))!;
    const name = nameOf(item.targetPath!);
    await forgetDoubles(connection, { folderId, name, fileId: item.fileId, now: context.now() });
    await connection.query(
      'UPDATE files SET volume_id = ?, folder_id = ?, name = ?, modified_us = ?, inode = ?, changed_us = ?, gone_at = NULL WHERE id = ?',
      [
        target.id,
        folderId,
        name,
        facts?.modifiedUs ?? item.modifiedUs,
        facts?.inode ?? null,
        facts?.changedUs ?? null,
        item.fileId,
      ],
    );
  }
  if (gone.length > 0)
    await connection.query('UPDATE files SET gone_at = ? WHERE id IN (?) AND gone_at IS NULL', [
      context.now(),
      gone.map((o) => o.item.fileId),
    ]);
  await refreshHoldings(connection, [...touched]);
}

/** A reading between the move and its journal may have met the file as a new one: there is one file, ours. */
async function forgetDoubles(
  connection: Connection,
  { folderId, name, fileId, now }: { folderId: number; name: string; fileId: number; now: Date },
): Promise<void> {
  const [doubles] = await connection.query<RowDataPacket[]>(
    'SELECT id FROM files WHERE folder_id = ? AND name = ? AND id <> ? AND gone_at IS NULL',
    [folderId, name, fileId],
  );
  for (const double of doubles) {
    await connection.query('UPDATE media_targets SET file_id = ? WHERE file_id = ?', [fileId, double.id]);
    await connection.query('UPDATE files SET gone_at = ? WHERE id = ?', [now, double.id]);
  }
}

/**
 * Documents that named what is elsewhere now get new versions, and the folders of those are read, so that they count at
 * once. Of one project's documents alone, where only that has the files elsewhere.
 */
export async function relinkDocuments(
  context: JobContext,
  { step, volumeId, only }: { step: Step; volumeId: number; only?: ProjectId },
): Promise<{ versions: NewVersion[]; left: string[] }> {
  const done = await context.db
    .select({ fileId: stepItems.fileId, path: stepItems.targetPath })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), eq(stepItems.state, 'done')));
  const moved = new Map(done.map((item): [number, Place] => [item.fileId, { volumeId, path: item.path! }]));
  return relinkPlaces(context, moved, only);
}

/** The same for places that are known, by file. */
export async function relinkPlaces(
  context: JobContext,
  places: ReadonlyMap<number, Place>,
  only?: ProjectId,
): Promise<{ versions: NewVersion[]; left: string[] }> {
  if (places.size === 0) return { versions: [], left: [] };
  const { db, pools, stop, now } = context;
  context.rename('relinking documents');
  const { versions, left } = await relinkMoved(context, places, only);
  for (const { volumeId, folder } of versions)
    await readVolume(db, pools.walk, volumeId as VolumeId, { stop, now, folder, path: context.pathOf(volumeId)! });
  for (const volumeId of new Set(versions.map((version) => version.volumeId)))
    await readDocuments(db, pools.documents, volumeId as VolumeId, { now, path: context.pathOf(volumeId)! });
  return { versions, left };
}

/** What a receipt says of them. */
export const relinkedFacts = ({ versions, left }: { versions: readonly NewVersion[]; left: readonly string[] }) => ({
  newVersions: versions.map((version) => version.name),
  ...(left.length > 0 ? { notRelinked: left } : {}),
});

/** What every step that moves files knows. */
export interface MoveParams {
  projectId: ProjectId;
  volumeId: VolumeId;
  folder: string;
}

/** What a kind of move changes beside the files. */
interface Beside<Params> {
  /** Before the first file moves, at every run: a reading may come before the work has ended. */
  before?: (tx: Transaction, params: Params, stepId: number) => Promise<void>;
  /** In the transaction of the receipt. */
  settle?: (tx: Transaction, params: Params, tally: Tally) => Promise<void>;
}

async function workOf<Params extends MoveParams>(
  context: JobContext,
  step: Step,
  { kind, params, before, settle }: { kind: StepKind<Params>; params: Params } & Beside<Params>,
): Promise<ItemWork> {
  const { projectId, volumeId } = params;
  const [target] = await context.db.select().from(volumes).where(eq(volumes.id, volumeId));
  if (!target) throw new Refused('The volume of this move is not known any more. Nothing was moved.');
  const moving: Moving = { context, step, projectId, target, placed: new Map() };
  let relinked: { versions: NewVersion[]; left: string[] } = { versions: [], left: [] };
  return {
    kind: kind as unknown as StepKind,
    projectId,
    batch: 20,
    prepare: async () => {
      await refuseWithoutRoom(moving);
      if (before) await context.transaction((tx) => before(tx, params, step.id));
    },
    act: (items) => moveItems(moving, items),
    finishOrUndo: (items) => finishOrUndoItems(moving, items),
    followUp: (tx, outcomes) => followMoved(moving, tx, outcomes),
    conclude: async () => {
      relinked = await relinkDocuments(context, { step, volumeId });
    },
    lastWords: async (tx, tally) => {
      await settle?.(tx, params, tally);
      await recomputeProjectSumsIn(tx, [projectId]);
      return relinkedFacts(relinked);
    },
  };
}

/** Says that documents will get new versions, where there are some. */
export const relinkedFinding = async (
  db: Db,
  step: StepSummary,
  naming: readonly { id: number; name: string }[],
): Promise<Finding[]> =>
  naming.length === 0
    ? []
    : [
        finding(step, 'documents relinked', 'note', {
          documents: naming.length,
          example: await nextName(db, naming[0]!),
        }),
      ];

/** The name that the next version of a document would get beside those that are there. */
async function nextName(db: Db, document: { id: number; name: string }): Promise<string> {
  const own = db
    .select({ folderId: files.folderId })
    .from(files)
    .innerJoin(documents, eq(documents.fileId, files.id))
    .where(eq(documents.id, document.id));
  const there = await db
    .select({ name: files.name })
    .from(files)
    .where(and(inArray(files.folderId, own), isNull(files.goneAt)));
  return nextVersion(
    document.name,
    there.map((file) => file.name),
  );
}

/** A kind of step that moves files: all it needs to be one of the server's. */
export const movingStep = <Params extends MoveParams>(
  kind: StepKind<Params>,
  beside: Beside<Params> = {},
): ServerStep<Params> =>
  serverStep({
    kind,
    async findings(db, step, { volumeId }) {
      const coming = step.onVolumes
        .filter((part) => part.volumeId !== volumeId)
        .reduce((sum, part) => sum + part.bytes, 0);
      return [
        ...(await commonFindings(db, step, [volumeId])),
        ...(await tooFull(db, step, { volumeId, neededBytes: coming })),
        ...(await relinkedFinding(db, step, await documentsNamingItems(db, step.stepId))),
      ];
    },
    async stores(tx, step, { volumeId }) {
      const naming = await documentsNamingItems(tx, step.id);
      return [
        ...(await volumesOfItems(tx, step.id)),
        ...[volumeId, ...naming.map((row) => row.volumeId)].flatMap((id): StoreNeed[] => [
          { store: 'volume', id, mode: 'change' },
          { store: 'catalogue', id, mode: 'change' },
        ]),
      ];
    },
    run: async (context, step, params) =>
      runItems(context, step, await workOf(context, step, { kind, params, ...beside })),
    giveUp: async (context, step, params) =>
      finishItems(context, step, {
        work: { ...(await workOf(context, step, { kind, params, ...beside })), conclude: undefined },
        ending: { state: 'failed', trouble: context.givenUp },
      }),
  });
