// Moves strayed files home, each looked at once more at the last moment and held if it differs. Journaled file by file:
// the sum of a copy that was read back is written down before the copy gets its name, so that a killed run knows what
// is its own. Documents that named the files get new versions at the end.
import { eq, inArray } from 'drizzle-orm';
import type { Connection, RowDataPacket } from 'mysql2/promise';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import type { MoveStep } from '#core/plan/plan.ts';
import { size } from '#core/wording/amounts.ts';
import { codeOf, look } from '#disk/facts.ts';
import { copyOver, hasPart, type Move, moveWithin, placeCopy } from '#disk/move.ts';
import { absoluteText } from '#disk/paths.ts';
import { removeExpected, type RemovalResult } from '#disk/remove.ts';
import { inTransaction, withConnection } from '../db/connect.ts';
import { ensureFolder } from '../db/catalogue-writer.ts';
import { refreshHoldings } from '../db/holdings.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../ledger/ledger.ts';
import { settleProjects } from '../readings/project-sums.ts';
import { lookAgain, stateOf, tooSmall } from '../stores/stores.ts';
import { volumeFree } from '../stores/volume-free.ts';
import { Cancelled, type JobContext } from '../runtime/context.ts';
import { type NewVersion, type Place, relinkMoved } from './move-documents.ts';
import { endJob } from '../runtime/queue.ts';
import { freshOpenFiles } from './remove.ts';
import { readDocuments } from '../readings/read-documents.ts';
import { readVolume } from '../readings/read-volume.ts';

type Item = typeof stepItems.$inferSelect;

interface Moving {
  context: JobContext;
  step: typeof steps.$inferSelect;
  what: MoveStep;
  target: typeof volumes.$inferSelect;
  open: ReturnType<typeof freshOpenFiles>;
}

export async function runMove(context: JobContext): Promise<void> {
  const { db, job } = context;
  const [step] = await db.select().from(steps).where(eq(steps.id, job.stepId!));
  if (step?.what.kind !== 'move home') throw new Error('This job has no step that moves.');
  const [target] = await db.select().from(volumes).where(eq(volumes.id, step.what.volumeId));
  if (!target) throw new Error('The volume of this move is not in the catalogue.');
  const moving: Moving = { context, step, what: step.what, target, open: freshOpenFiles() };
  let ended: Ended = { state: 'done' };
  try {
    await moveAll(moving);
  } catch (thrown) {
    const error = context.reasonOf(thrown);
    if (error instanceof Cancelled) ended = { state: 'cancelled' };
    else if (error instanceof Refused) ended = { state: 'failed', trouble: error.message };
    else throw error;
  }
  await finish(moving, ended);
}

type Ended = { state: 'done' | 'cancelled' } | { state: 'failed'; trouble: string };

async function moveAll(moving: Moving): Promise<void> {
  const { context, step, target } = moving;
  const { db } = context;
  const all = await db.select().from(stepItems).where(eq(stepItems.stepId, step.id)).orderBy(stepItems.id);
  const settled = all.filter((item) => item.state === 'done' || item.state === 'held');
  context.phase(
    'moving',
    'bytes',
    step.bytes,
    settled.reduce((sum, item) => sum + item.sizeBytes, 0),
  );
  const roots = await rootsOf(moving, all);
  const open = all.filter((item) => item.state === 'waiting' || item.state === 'started');
  const coming = open.filter((item) => item.volumeId !== target.id && item.state === 'waiting');
  const needed = coming.reduce((sum, item) => sum + item.sizeBytes, 0);
  const free = await volumeFree(db, target.id as VolumeId);
  if (needed > free) throw new Refused(tooSmall(target.name, needed, free).replace('written', 'moved'));
  for (const item of open) {
    await context.checkLease();
    await db.update(stepItems).set({ state: 'started' }).where(eq(stepItems.id, item.id));
    const root = roots.get(item.volumeId);
    const toRoot = roots.get(target.id);
    const result: RemovalResult =
      !root || !toRoot
        ? { done: false, reason: 'unreachable' }
        : item.rawPath
          ? { done: false, reason: 'name unreadable' }
          : item.volumeId === target.id
            ? within(moving, item, root)
            : await across(moving, item, root, toRoot);
    await journal(moving, item, result);
  }
}

/** Roots of the volumes that are there and are the ones they should be. */
async function rootsOf({ context, target }: Moving, items: readonly Item[]): Promise<Map<number, string>> {
  const ids = [...new Set([target.id, ...items.map((item) => item.volumeId)])];
  const rows = await context.db.select().from(volumes).where(inArray(volumes.id, ids));
  return new Map(
    rows.filter((volume) => stateOf(volume).state === 'reachable').map((volume) => [volume.id, volume.path]),
  );
}

const moveOf = (item: Item): Move => ({ itemId: item.id, path: item.path, to: item.targetPath!, expected: item });

function within({ context, open }: Moving, item: Item, root: string): RemovalResult {
  const result = moveWithin(root, moveOf(item), open);
  context.add(item.sizeBytes);
  // Begun by an earlier run, gone from its old place and there at its new one: that run was killed before it could say so.
  if (!result.done && result.reason === 'gone' && item.state === 'started') {
    const facts = look(absoluteText(root, item.targetPath!));
    if (facts.is === 'file' && facts.sizeBytes === item.sizeBytes && facts.modifiedUs === item.modifiedUs)
      return { done: true };
  }
  return result;
}

async function across(moving: Moving, item: Item, root: string, toRoot: string): Promise<RemovalResult> {
  const { context, open } = moving;
  const move = moveOf(item);
  const placed = item.xxh128 !== null && (await isOurs(moving, item, toRoot));
  if (!placed) {
    const copied = await copyAndNote(moving, { item, move, root, toRoot });
    if (!copied.done) return copied;
    await context.checkLease();
    const result = placeCopy(toRoot, move);
    if (!result.done) return result;
  } else context.add(item.sizeBytes);
  const removed = removeExpected(root, { itemId: item.id, path: item.path, expected: item }, open);
  if (removed.done) return removed;
  // Removed by an earlier run that was killed before it could say so.
  if (removed.reason === 'gone' && placed) return { done: true };
  return takeBack(toRoot, { move, held: removed, open });
}

async function copyAndNote(
  { context }: Moving,
  { item, move, root, toRoot }: { item: Item; move: Move; root: string; toRoot: string },
): Promise<RemovalResult> {
  try {
    const copied = await copyOver(context.pools.content, {
      fromRoot: root,
      toRoot,
      move,
      progress: (bytes) => context.add(bytes),
      stop: context.stop,
    });
    if (!copied.done) return copied;
    await context.db.update(stepItems).set({ xxh128: copied.xxh128 }).where(eq(stepItems.id, item.id));
    item.xxh128 = copied.xxh128;
    return { done: true };
  } catch (error) {
    context.check();
    if (codeOf(error) === 'ENOSPC')
      throw new Refused(
        `The volume is full. What had been moved is in its home; ${item.path} and what comes after it stayed where it was. Free some space and stage the move again.`,
      );
    throw error;
  }
}

/** True where the file at the target is the copy that an earlier run read back and placed. */
async function isOurs({ context }: Moving, item: Item, toRoot: string): Promise<boolean> {
  const target = absoluteText(toRoot, item.targetPath!);
  if (hasPart(toRoot, item.id) && look(target).is === 'gone') return false;
  if (look(target).is !== 'file') return false;
  const sums = await context.pools.content.ask({ from: target, sha512: false }, { stop: context.stop });
  return sums.xxh128 === item.xxh128;
}

/** The original stays, so the copy we placed goes again, unless somebody has changed or opened it meanwhile. */
function takeBack(
  toRoot: string,
  { move, held, open }: { move: Move; held: Exclude<RemovalResult, { done: true }>; open: Moving['open'] },
): RemovalResult {
  const facts = look(absoluteText(toRoot, move.to));
  if (facts.is === 'file' && held.reason !== 'gone')
    removeExpected(toRoot, { itemId: move.itemId, path: move.to, expected: facts }, open);
  return held;
}

/** Writes down what became of a file and, where it moved, its new place in the catalogue: it stays the same file. */
async function journal({ context, target }: Moving, item: Item, result: RemovalResult): Promise<void> {
  const { db, now } = context;
  await withConnection(db, async (connection) => {
    if (!result.done) {
      await connection.query("UPDATE step_items SET state = 'held', reason = ?, detail = ? WHERE id = ?", [
        result.reason,
        result.detail ?? null,
        item.id,
      ]);
      return;
    }
    await connection.query("UPDATE step_items SET state = 'done' WHERE id = ?", [item.id]);
    const facts = look(absoluteText(target.path, item.targetPath!));
    const folderId = await ensureFolder(connection, target.id, folderOf(item.targetPath!), now());
    const [rows] = await connection.query<RowDataPacket[]>('SELECT folder_id AS folderId FROM files WHERE id = ?', [
      item.fileId,
    ]);
    await forgetTwins(connection, { folderId, name: nameOf(item.targetPath!), fileId: item.fileId, now: now() });
    await connection.query(
      'UPDATE files SET volume_id = ?, folder_id = ?, name = ?, modified_us = ?, gone_at = NULL WHERE id = ?',
      [
        target.id,
        folderId,
        nameOf(item.targetPath!),
        facts.is === 'file' ? facts.modifiedUs : item.modifiedUs,
        item.fileId,
      ],
    );
    await refreshHoldings(connection, [folderId, ...rows.map((row) => Number(row.folderId))]);
  });
}

/** A reading between the move and its journal may have met the file as a new one: there is one file, ours. */
async function forgetTwins(
  connection: Connection,
  { folderId, name, fileId, now }: { folderId: number; name: string; fileId: number; now: Date },
): Promise<void> {
  const [twins] = await connection.query<RowDataPacket[]>(
    'SELECT id FROM files WHERE folder_id = ? AND name = ? AND id <> ? AND gone_at IS NULL',
    [folderId, name, fileId],
  );
  for (const twin of twins) {
    await connection.query('UPDATE media_targets SET file_id = ? WHERE file_id = ?', [fileId, twin.id]);
    await connection.query('UPDATE files SET gone_at = ? WHERE id = ?', [now, twin.id]);
  }
}

async function finish(moving: Moving, ended: Ended): Promise<void> {
  const { context, step, what, target } = moving;
  const { db, job } = context;
  const items = await db.select().from(stepItems).where(eq(stepItems.stepId, step.id)).orderBy(stepItems.id);
  const done = items.filter((item) => item.state === 'done');
  const held = items.filter((item) => item.state === 'held');
  const moved = new Map(
    done.map((item): [number, Place] => [item.fileId, { volumeId: target.id, path: item.targetPath! }]),
  );
  context.rename('relinking documents');
  const versions = moved.size > 0 ? await relinkMoved(db, moved) : [];
  await makeKnown(moving, versions);
  const bytes = done.reduce((sum, item) => sum + item.sizeBytes, 0);
  const reasons: Record<string, number> = {};
  for (const item of held) reasons[item.reason!] = (reasons[item.reason!] ?? 0) + 1;
  await inTransaction(db, async (tx) => {
    await writeReceipt(tx, {
      at: context.now(),
      who: job.who,
      action: ended.state === 'done' ? 'files moved' : 'work ended early',
      title: ended.state === 'done' ? step.title : `${step.title}: ended early after ${size(bytes)}`,
      projectId: what.projectId,
      jobId: job.id,
      stepId: step.id,
      files: done.length,
      bytes,
      held: held.length,
      facts: {
        held: reasons,
        notReached: items.length - done.length - held.length,
        newVersions: versions.map((version) => version.name),
      },
      itemsSha256: itemsHash(
        items.map(
          (item) =>
            `${item.volumeId}\t${item.path}\t${item.sizeBytes}\t${item.modifiedUs}\t${item.state}\t${item.reason ?? ''}\t${target.id}\t${item.targetPath}\t${item.xxh128 ?? ''}`,
        ),
      ),
    });
    await endJob(tx, job, ended);
  });
  for (const volumeId of new Set([target.id, ...items.map((item) => item.volumeId)]))
    await lookAgain(db, volumeId as VolumeId, context.now());
}

/** Reads the folders of new versions, so that they count at once. */
async function makeKnown({ context, what }: Moving, versions: readonly NewVersion[]): Promise<void> {
  const { db, pools, stop, now } = context;
  // Cancelling ends the moving, not the reading of what is there now.
  const going = stop[0] === 1 ? new Int32Array(new SharedArrayBuffer(4)) : stop;
  for (const { volumeId, folder } of versions)
    await readVolume(db, pools.walk, volumeId as VolumeId, { stop: going, now, folder });
  for (const volumeId of new Set(versions.map((version) => version.volumeId)))
    await readDocuments(db, pools.documents, volumeId as VolumeId, { now });
  if (versions.length === 0) await settleProjects(db, [what.projectId as ProjectId]);
}
