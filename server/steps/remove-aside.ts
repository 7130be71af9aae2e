// Removing for good what was set aside. What was said to have a verified copy is proved to have one in this very step, from
// an archive that is there; what nothing proves stays where it lies.
import { and, eq, inArray, sql } from 'drizzle-orm';
import type { z } from 'zod';
import { removeAside as kind } from '#core/steps/remove-aside.ts';
import type { Held } from '#disk/remove.ts';
import { dropEmptyFolders } from '#disk/aside.ts';
import { endAside } from '../db/aside.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { usedByLiving } from '../db/naming.ts';
import { stepItems } from '../db/schema/plans.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import type { StoreNeed } from '../runtime/queue.ts';
import { finishItems, type Item, type ItemWork, runItems, type Step } from '../runtime/run-items.ts';
import { type Added, addFileStepIn } from './adding.ts';
import { finding, readOnly, unreachable } from './findings.ts';
import { serverStep } from './kind.ts';
import { removal, volumesOfItems } from './remove.ts';
import { isStillThere, type Proof, proveAll } from './remove-originals.ts';
import { isLikeThere, type Like, likesOf, proveLikes, saidHere, sumOf } from './twin-proof.ts';
import { type AsideChoice, insertAsideItems } from './take-back.ts';

type Params = z.infer<typeof kind.params>;

/** Adds the removal of what lies aside to the plan: a step for what has a copy, another for what has none. */
export function addAsideRemoval(
  db: Database,
  { ids, stepIds, what, now }: AsideChoice & { what: string; now: Date },
): Promise<Added[]> {
  return inTransaction(db, async (tx) => {
    const added: Added[] = [];
    for (const level of [2, 3] as const) {
      const [some] = (await tx.execute(sql`
        SELECT 1 FROM aside a WHERE a.state = 'aside' AND a.level = ${level} AND ${ids ? sql`a.id IN ${[...ids, 0]}` : sql`a.step_id IN ${[...(stepIds ?? []), 0]}`} LIMIT 1`)) as unknown as [
        unknown[],
      ];
      if (some.length === 0) continue;
      added.push(
        await addFileStepIn(tx, { kind, params: { what, level }, names: {}, now }, async (_tx, stepId) => {
          await insertAsideItems(tx, stepId, { ids, stepIds, level });
          return 'Nothing of it is set aside any more, or it is in a plan already. Nothing was added.';
        }),
      );
    }
    return added;
  });
}

/** Archived files that stand for items: of the same file as it was then, or of the same sum under another name. */
const ARCHIVED_ITEMS = (stepId: number) => sql`
  (SELECT r.id, r.archive_id FROM step_items i JOIN archive_files r ON r.file_id = i.file_id AND r.size_bytes = i.size_bytes AND r.modified_us = i.modified_us WHERE i.step_id = ${stepId}
   UNION SELECT r.id, r.archive_id FROM step_items i JOIN file_sums s ON s.file_id = i.file_id AND s.size_bytes = i.size_bytes AND s.modified_us = i.modified_us
     JOIN archive_files r ON r.size_bytes = s.size_bytes AND r.xxh64 = s.xxh64 WHERE i.step_id = ${stepId})`;

/** Archives that have a copy of one of the items read back. */
async function archivesOf(db: Db, stepId: number): Promise<number[]> {
  const [rows] = (await db.execute(sql`
    SELECT DISTINCT r.archive_id AS id FROM ${ARCHIVED_ITEMS(stepId)} r
    JOIN copy_files c ON c.archive_file_id = r.id AND c.state = 'read back' JOIN copy_parts p ON p.id = c.copy_part_id AND p.state = 'good'
    ORDER BY r.archive_id`)) as unknown as [{ id: number }[]];
  return rows.map((row) => Number(row.id));
}

interface Proved {
  archives: (Proof | Held)[];
  /** Files that lie aside with the very bytes that an archive was read back with. */
  same: ReadonlySet<number>;
  likes: ReadonlyMap<number, Like>;
  /** Files without a copy elsewhere that were set aside because their like lies on the same volume. */
  here: ReadonlySet<number>;
}

async function lastLook(
  context: JobContext,
  { params, proved }: { params: Params; proved: Proved },
  items: readonly Item[],
): Promise<Map<number, Held>> {
  const { db } = context;
  const held = new Map<number, Held>();
  const used = await usedByLiving(
    db,
    items.map((item) => item.fileId),
  );
  const good: Proof[] = [];
  for (const proof of proved.archives) if (!('reason' in proof) && (await isStillThere(proof))) good.push(proof);
  const why = proved.archives.find((proof): proof is Held => 'reason' in proof);
  const isProved = async (fileId: number) => {
    if (proved.same.has(fileId) && good.some((proof) => proof.fileIds.has(fileId))) return true;
    const like = proved.likes.get(fileId);
    return like !== undefined && (await isLikeThere(context, like));
  };
  for (const item of items)
    // Somebody made a timeline use it since: it has to come back first.
    if (used.has(item.fileId)) held.set(item.id, { done: false, reason: 'in use' });
    else if ((params.level === 2 || proved.here.has(item.fileId)) && !(await isProved(item.fileId)))
      held.set(item.id, unprovenIn(proved, item.fileId) ?? why ?? { done: false, reason: 'no good copy' });
  return held;
}

/** Why the archives that hold a file prove nothing of it. */
const unprovenIn = ({ archives }: Proved, fileId: number): Held | undefined =>
  archives.flatMap((proof) => ('reason' in proof ? [] : (proof.unproven.get(fileId) ?? [])))[0];

function workOf(context: JobContext, step: Step, params: Params): ItemWork {
  const proved: Proved = { archives: [], same: new Set(), likes: new Map(), here: new Set() };
  return {
    kind,
    projectId: null,
    prepare: async () => {
      proved.here = await saidHere(context.db, step.id);
      if (params.level !== 2 && proved.here.size === 0) return;
      context.rename('reading back');
      proved.archives = [];
      if (params.level !== 2) {
        proved.likes = await likesOfRest(context, step, (id) => proved.here.has(id));
        context.rename(kind.phase);
        return;
      }
      for (const archiveId of await archivesOf(context.db, step.id))
        proved.archives.push(await proveAll(context, { archiveId, stepId: step.id, bySums: true }));
      proved.same = await sameAsArchived(context, step, proved.archives);
      proved.likes = await likesOfRest(context, step, (id) => !proved.same.has(id));
      context.rename(kind.phase);
    },
    lastLook: (items) => lastLook(context, { params, proved }, items),
    ...removal(context),
    followUp: async (tx, outcomes) => {
      const went = outcomes.filter(({ result }) => result.done || result.reason === 'gone');
      const ids = went.map(({ item }) => item.fileId);
      await endAside(tx, ids, { state: 'removed', now: context.now() });
    },
    conclude: () => dropFolders(context, step),
  };
}

/** An archive may have the file as it was before somebody changed it: what lies aside is read too, and must be the same. */
async function sameAsArchived(
  context: JobContext,
  step: Step,
  proofs: readonly (Proof | Held)[],
): Promise<Set<number>> {
  const same = new Set<number>();
  for (const proof of proofs) {
    if ('reason' in proof) continue;
    for (const ids of inSlices([...proof.fileIds], 500)) {
      const items = await context.db
        .select()
        .from(stepItems)
        .where(and(eq(stepItems.stepId, step.id), inArray(stepItems.fileId, ids)));
      await inParallel(context.pools.content.size, items, async (item) => {
        context.check();
        const own = await sumOf(context, item.volumeId, { path: item.path, raw: item.rawPath }, item);
        if (own !== null && own === proof.sums.get(item.fileId)) same.add(item.fileId);
      });
      await context.checkIn();
    }
  }
  return same;
}

/** What no archive proves is held against its like in another place, a page of items at a time. */
async function likesOfRest(
  context: JobContext,
  step: Step,
  isWanted: (fileId: number) => boolean,
): Promise<Map<number, Like>> {
  const all = await likesOf(context.db, step.id);
  const wanted = new Set(all.map((like) => Number(like.fileId)).filter(isWanted));
  const proved = new Map<number, Like>();
  for (const ids of inSlices([...wanted], 500)) {
    const items = await context.db
      .select()
      .from(stepItems)
      .where(and(eq(stepItems.stepId, step.id), inArray(stepItems.fileId, ids)));
    for (const [fileId, like] of await proveLikes(context, items, all)) proved.set(fileId, like);
    await context.checkIn();
  }
  return proved;
}

/** Folders of ours in which nothing lies any more. */
async function dropFolders(context: JobContext, step: Step): Promise<void> {
  const items = await context.db
    .select()
    .from(stepItems)
    .where(sql`${eq(stepItems.stepId, step.id)} AND ${stepItems.state} = 'done'`);
  for (const item of items) {
    const root = await context.root(item.volumeId);
    if (root) dropEmptyFolders(root, { path: item.path, raw: item.rawPath });
  }
}

export const removeAside = serverStep({
  kind,
  async findings(db, step, { level }) {
    const ids = step.onVolumes.map((part) => part.volumeId);
    const findings = [...(await unreachable(db, step, ids)), ...(await readOnly(db, step, ids))];
    if (level === 2 && (await archivesOf(db, step.stepId)).length + (await likesOf(db, step.stepId)).length === 0)
      findings.push(finding(step, 'no copy known', 'stop', { what: step.title }));
    return findings;
  },
  async stores(tx, step) {
    const [rows] = (await tx.execute(sql`
      SELECT DISTINCT p.carrier_id AS id FROM ${ARCHIVED_ITEMS(step.id)} r
      JOIN copy_files c ON c.archive_file_id = r.id JOIN copy_parts p ON p.id = c.copy_part_id AND p.state = 'good'
      JOIN carriers k ON k.id = p.carrier_id AND k.state = 'reachable'`)) as unknown as [{ id: number }[]];
    const own = await volumesOfItems(tx, step.id);
    const had = new Set(own.map((need) => need.id));
    const likes = new Set((await likesOf(tx, step.id)).map((like) => like.volumeId).filter((id) => !had.has(id)));
    return [
      ...own,
      ...[...likes].map((id): StoreNeed => ({ store: 'volume', id, mode: 'look' })),
      ...rows.map((row): StoreNeed => ({ store: 'carrier', id: Number(row.id), mode: 'look' })),
    ];
  },
  run: (context, step, params) => runItems(context, step, workOf(context, step, params)),
  giveUp: (context, step, params) =>
    finishItems(context, step, {
      work: workOf(context, step, params),
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
