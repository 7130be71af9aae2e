// Removes the items of a step, each looked at once more at the last moment and held if it differs. Journaled in
// batches: 'started' is written before a batch is touched, so that a killed run knows what it may have removed.
import { and, eq, inArray, sql } from 'drizzle-orm';
import type { HeldReason, StepWhat } from '#core/plan/plan.ts';
import { size } from '#core/wording/amounts.ts';
import { type OpenFiles, openFiles } from '#disk/open-files.ts';
import { absolute } from '#disk/paths.ts';
import { type RemovalResult, removeExpected } from '#disk/remove.ts';
import { look } from '#disk/facts.ts';
import { inTransaction, withConnection } from '../db/connect.ts';
import { refreshHoldings } from '../db/holdings.ts';
import { archiveCopies, archives } from '../db/schema/archives.ts';
import { files } from '../db/schema/catalogue.ts';
import { documents, media, mediaTargets } from '../db/schema/documents.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { itemsHash, writeReceipt } from '../ledger/ledger.ts';
import { settleProjects } from '../readings/project-sums.ts';
import { lookAgain, stateOf } from '../stores/stores.ts';
import { settleVersions } from '../readings/versions.ts';
import type { VolumeId } from '#core/model.ts';
import { Cancelled, type JobContext } from '../runtime/context.ts';
import { endJob } from '../runtime/queue.ts';

type Item = typeof stepItems.$inferSelect;
type Step = typeof steps.$inferSelect;
type Outcome = { item: Item; result: RemovalResult };

const BATCH = 200;
const LOOK_AT_OPEN_FILES_EVERY_MS = 500;

export async function runRemove(context: JobContext): Promise<void> {
  const { db, job } = context;
  const [step] = await db.select().from(steps).where(eq(steps.id, job.stepId!));
  if (!step) throw new Error('The step of this job is not there.');
  await resumeProgress(context, step);
  let cancelled = false;
  try {
    for (;;) {
      await context.checkLease();
      const batch = await db
        .select()
        .from(stepItems)
        .where(and(eq(stepItems.stepId, step.id), inArray(stepItems.state, ['waiting', 'started'])))
        .orderBy(stepItems.id)
        .limit(BATCH);
      if (batch.length === 0) break;
      await removeBatch(context, step, batch);
    }
  } catch (error) {
    if (!(error instanceof Cancelled)) throw error;
    cancelled = true;
  }
  await finish(context, step, cancelled);
}

async function resumeProgress(context: JobContext, step: Step): Promise<void> {
  const [sum] = await context.db
    .select({ bytes: sql`COALESCE(SUM(${stepItems.sizeBytes}), 0)`.mapWith(Number) })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), inArray(stepItems.state, ['done', 'held'])));
  context.phase('removing', 'bytes', step.bytes, sum!.bytes);
}

async function removeBatch(context: JobContext, step: Step, batch: Item[]): Promise<void> {
  const { db } = context;
  await db
    .update(stepItems)
    .set({ state: 'started' })
    .where(
      inArray(
        stepItems.id,
        batch.map((item) => item.id),
      ),
    );
  const held = await heldByCatalogue(context, step.what, batch);
  const roots = await rootsOf(context, batch);
  const open = freshOpenFiles();
  const outcomes: Outcome[] = [];
  for (const item of batch) {
    const reason = held.get(item.id) ?? (roots.has(item.volumeId) ? null : 'unreachable');
    outcomes.push({
      item,
      result: reason ? { done: false, reason } : removeOne(roots.get(item.volumeId)!, item, open),
    });
    context.add(item.sizeBytes);
    // Lets the heartbeat through.
    await new Promise((resolve) => setImmediate(resolve));
  }
  await journal(context, outcomes);
}

function removeOne(root: string, item: Item, open: () => OpenFiles): RemovalResult {
  const result = removeExpected(root, { itemId: item.id, path: item.path, raw: item.rawPath, expected: item }, open);
  // Begun by an earlier run and not there: that run removed it, and was killed before it could say so.
  if (
    !result.done &&
    result.reason === 'gone' &&
    item.state === 'started' &&
    look(absolute(root, { path: item.path, raw: item.rawPath })).is === 'gone'
  )
    return { done: true };
  return result;
}

export function freshOpenFiles(): () => OpenFiles {
  let seen: OpenFiles | null = null;
  let at = 0;
  return () => {
    if (!seen || Date.now() - at > LOOK_AT_OPEN_FILES_EVERY_MS) {
      seen = openFiles();
      at = Date.now();
    }
    return seen;
  };
}

/** Roots of the volumes that are there and are the ones they should be, looked at now. */
async function rootsOf(context: JobContext, batch: Item[]): Promise<Map<number, string>> {
  const ids = [...new Set(batch.map((item) => item.volumeId))];
  const rows = await context.db.select().from(volumes).where(inArray(volumes.id, ids));
  return new Map(
    rows.filter((volume) => stateOf(volume).state === 'reachable').map((volume) => [volume.id, volume.path]),
  );
}

/** What the catalogue has against items at this moment: used by a project, or no good copy of them. */
async function heldByCatalogue({ db }: JobContext, what: StepWhat, batch: Item[]): Promise<Map<number, HeldReason>> {
  const held = new Map<number, HeldReason>();
  const users = await db
    .select({ fileId: mediaTargets.fileId, projectId: media.projectId })
    .from(mediaTargets)
    .innerJoin(media, eq(media.id, mediaTargets.mediaId))
    .innerJoin(documents, eq(documents.id, media.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(
      and(
        inArray(
          mediaTargets.fileId,
          batch.map((item) => item.fileId),
        ),
        sql`${files.goneAt} IS NULL`,
      ),
    );
  if (what.kind === 'remove caches') {
    const named = new Set(users.map((user) => user.fileId));
    for (const item of batch) if (named.has(item.fileId)) held.set(item.id, 'in use');
    return held;
  }
  if (what.kind !== 'remove originals') throw new Error(`A step that does ${what.kind} removes nothing.`);
  const [archive] = await db.select().from(archives).where(eq(archives.id, what.archiveId));
  const good = await db
    .select()
    .from(archiveCopies)
    .where(
      and(
        eq(archiveCopies.archiveId, what.archiveId),
        eq(archiveCopies.state, 'good'),
        sql`${archiveCopies.readBackAt} IS NOT NULL`,
      ),
    );
  const borrowed = new Set(users.filter((user) => user.projectId !== archive?.projectId).map((user) => user.fileId));
  for (const item of batch) {
    if (archive?.state !== 'sealed' || good.length === 0) held.set(item.id, 'no good copy');
    else if (borrowed.has(item.fileId)) held.set(item.id, 'in use');
  }
  return held;
}

/** Writes down what became of a batch, takes what went out of the catalogue, all in one transaction. */
async function journal({ db, now }: JobContext, outcomes: Outcome[]): Promise<void> {
  await withConnection(db, async (connection) => {
    const went = outcomes.filter((o) => o.result.done || (!o.result.done && o.result.reason === 'gone'));
    const done = outcomes.filter((o) => o.result.done).map((o) => o.item.id);
    if (done.length > 0) await connection.query("UPDATE step_items SET state = 'done' WHERE id IN (?)", [done]);
    for (const { item, result } of outcomes)
      if (!result.done)
        await connection.query("UPDATE step_items SET state = 'held', reason = ?, detail = ? WHERE id = ?", [
          result.reason,
          result.detail ?? null,
          item.id,
        ]);
    if (went.length === 0) return;
    const ids = went.map((o) => o.item.fileId);
    await connection.query('UPDATE files SET gone_at = ? WHERE id IN (?) AND gone_at IS NULL', [now(), ids]);
    const [rows] = await connection.query('SELECT DISTINCT folder_id AS id FROM files WHERE id IN (?)', [ids]);
    await refreshHoldings(
      connection,
      (rows as { id: number }[]).map((row) => Number(row.id)),
    );
    await connection.query(
      `UPDATE media m JOIN (SELECT t.media_id, COUNT(f.id) AS n FROM media_targets t LEFT JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL
         WHERE t.media_id IN (SELECT media_id FROM media_targets WHERE file_id IN (?)) GROUP BY t.media_id) c ON c.media_id = m.id SET m.found = c.n`,
      [ids],
    );
  });
}

async function finish(context: JobContext, step: Step, cancelled: boolean): Promise<void> {
  const { db, job } = context;
  const items = await db.select().from(stepItems).where(eq(stepItems.stepId, step.id)).orderBy(stepItems.id);
  const done = items.filter((item) => item.state === 'done');
  const held = items.filter((item) => item.state === 'held');
  const bytes = done.reduce((sum, item) => sum + item.sizeBytes, 0);
  const reasons: Record<string, number> = {};
  for (const item of held) reasons[item.reason!] = (reasons[item.reason!] ?? 0) + 1;
  const projectId = await projectOf(context, step.what);
  const went = cancelled
    ? 'work ended early'
    : step.what.kind === 'remove originals'
      ? 'originals removed'
      : 'caches removed';
  await inTransaction(db, async (tx) => {
    await writeReceipt(tx, {
      at: context.now(),
      who: job.who,
      action: went,
      title: cancelled ? `${step.title}: ended early after ${size(bytes)}` : step.title,
      projectId,
      jobId: job.id,
      stepId: step.id,
      files: done.length,
      bytes,
      held: held.length,
      facts: { held: reasons, notReached: items.length - done.length - held.length },
      itemsSha256: itemsHash(
        items.map(
          (item) =>
            `${item.volumeId}\t${item.path}\t${item.sizeBytes}\t${item.modifiedUs}\t${item.state}\t${item.reason ?? ''}`,
        ),
      ),
    });
    if (!cancelled && step.what.kind === 'remove originals' && projectId !== null)
      await tx.update(projects).set({ state: 'archived', stateSince: context.now() }).where(eq(projects.id, projectId));
    await endJob(tx, job, { state: cancelled ? 'cancelled' : 'done' });
  });
  await settleVersions(db);
  await settleProjects(db);
  for (const volumeId of new Set(items.map((item) => item.volumeId)))
    await lookAgain(db, volumeId as VolumeId, context.now());
}

async function projectOf({ db }: JobContext, what: StepWhat): Promise<number | null> {
  if (what.kind !== 'remove originals') return null;
  const [archive] = await db.select({ id: archives.projectId }).from(archives).where(eq(archives.id, what.archiveId));
  return archive?.id ?? null;
}
