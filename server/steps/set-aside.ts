// Setting files aside: what a timeline of a living project uses, or may use, is never among them when it runs.
import { inArray, type SQL, sql } from 'drizzle-orm';
import type { z } from 'zod';
import { setAside as kind } from '#core/steps/set-aside.ts';
import { asideFacts, asidePlace, placeAside } from '#disk/aside.ts';
import { type FileFacts, look } from '#disk/facts.ts';
import { freshOpenFiles } from '#disk/open-files.ts';
import { type Held, putBack, take } from '#disk/remove.ts';
import { addAside } from '../db/aside.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { USED_BY_LIVING, usedByLiving } from '../db/naming.ts';
import { files } from '../db/schema/catalogue.ts';
import { siteMark } from '../db/site-mark.ts';
import type { JobContext } from '../runtime/context.ts';
import { markTaken } from '../runtime/item-marks.ts';
import { finishItems, type Item, type ItemWork, type Outcome, runItems, type Step } from '../runtime/run-items.ts';
import { trustsUnseenPrograms } from '../site/house-rules.ts';
import { type Added, addFileStepIn, FILE_FACTS, notInAPlan } from './adding.ts';
import { readDocumentsBefore, storesOfDocuments, unreadDocuments, unreadFindings } from './documents-before.ts';
import { commonFindings, inWork, lentAndThin } from './findings.ts';
import { serverStep } from './kind.ts';
import { itemsOfUsedUnits } from './units-in-use.ts';
import { markGone, recomputeAfterRemoval, removalOf, reached, volumesOfItems } from './remove.ts';

export type SetAsideParams = z.infer<typeof kind.params>;

/**
 * Adds the setting aside of files. `chosen` is a condition on files f, folders d, volumes v; what a timeline of a living
 * project uses, or a plan has already, is left out whatever it says.
 */
export const addSettingAside = (db: Database, asked: NewSettingAside): Promise<Added> =>
  inTransaction(db, (tx) => addSettingAsideIn(tx, asked));

export interface NewSettingAside {
  params: SetAsideParams;
  chosen: SQL;
  now: Date;
}

/** The same inside a transaction. */
export function addSettingAsideIn(tx: Transaction, { params, chosen, now }: NewSettingAside): Promise<Added> {
  return addFileStepIn(tx, { kind, params, names: {}, now }, async (_tx, stepId) => {
    await tx.execute(sql`
      INSERT INTO step_items (${FILE_FACTS.columns})
      SELECT ${stepId}, ${FILE_FACTS.values}
      FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id AND v.retired_at IS NULL
      WHERE f.gone_at IS NULL AND (${chosen}) AND NOT ${USED_BY_LIVING} AND ${notInAPlan}`);
    return 'None of them can be set aside: they are in use, gone, or in a plan already. Nothing was added.';
  });
}

/** What a document may have begun to use since it was chosen stays. */
export async function lastLookForUse(db: Db, items: readonly Item[]): Promise<Map<number, Held>> {
  const held = new Map<number, Held>();
  const ids = items.map((item) => item.fileId);
  if (ids.length === 0) return held;
  const used = await usedByLiving(db, ids);
  const owners = new Map(
    (await db.select({ id: files.id, projectId: files.projectId }).from(files).where(inArray(files.id, ids))).map(
      (row) => [row.id, row.projectId],
    ),
  );
  const doubtful = new Map(
    (await unreadDocuments(db, owners.values())).map((document) => [document.projectId, document.name]),
  );
  for (const item of items) {
    const owner = owners.get(item.fileId) ?? null;
    if (used.has(item.fileId)) held.set(item.id, { done: false, reason: 'in use' });
    else if (owner !== null && doubtful.has(owner))
      held.set(item.id, { done: false, reason: 'in doubt', detail: doubtful.get(owner) });
  }
  return held;
}

/** What sets files aside, whichever step asked for it. */
export function settingAside(
  context: JobContext,
  step: Step,
  params: Pick<SetAsideParams, 'level' | 'reason'>,
): Pick<ItemWork, 'act' | 'finishOrUndo' | 'followUp' | 'lastWords'> {
  /** What files are since they lie aside: giving them another name changes a time of theirs. */
  const lies = new Map<number, FileFacts>();
  return {
    act: (items) => setAsideItems(context, items, lies),
    finishOrUndo: (items) => finishOrUndo(context, items, lies),
    followUp: (tx, outcomes) => writeDown(context, tx, { step, params, outcomes, lies }),
    lastWords: async (tx) => {
      await recomputeAfterRemoval(tx, step.id);
      return { reason: params.reason };
    },
  };
}

function workOf(context: JobContext, step: Step, params: SetAsideParams): ItemWork {
  let ofUsedUnits: ReadonlySet<number> = new Set();
  return {
    kind,
    projectId: null,
    prepare: async () => {
      await readDocumentsBefore(context, step.id);
      ofUsedUnits = await itemsOfUsedUnits(context.db, step.id);
    },
    lastLook: async (items) => {
      const held = await lastLookForUse(context.db, items);
      for (const item of items) if (ofUsedUnits.has(item.fileId)) held.set(item.id, { done: false, reason: 'in use' });
      return held;
    },
    ...settingAside(context, step, params),
  };
}

const marks = async (context: JobContext) => ({ site: await siteMark(context.db), job: context.job.mark });

async function setAsideItems(
  context: JobContext,
  items: readonly Item[],
  lies: Map<number, FileFacts>,
): Promise<Outcome[]> {
  const names = await context.names();
  const own = await marks(context);
  const open = freshOpenFiles(await trustsUnseenPrograms(context.db));
  const outcomes: Outcome[] = [];
  const taken: Item[] = [];
  for await (const { item, root } of reached(context, items, outcomes)) {
    const removal = removalOf(item);
    const result = take(root, names, removal, open);
    const there = result.done ? null : asideFacts(root, asidePlace(own, removal), removal);
    if (result.done) taken.push(item);
    else if (there) {
      // An earlier run put it there.
      lies.set(item.id, there);
      outcomes.push({ item, result: { done: true } });
    } else outcomes.push({ item, result });
  }
  await markTaken(context, items, taken);
  for (const item of taken) {
    if (context.isToEnd) break;
    const root = (await context.root(item.volumeId))!;
    await context.assertLease();
    const removal = removalOf(item);
    const result = placeAside(root, names, { removal, aside: asidePlace(own, removal) });
    if (result.done) lies.set(item.id, result.facts);
    outcomes.push({ item, result: result.done ? { done: true } : result });
  }
  for (const { item } of outcomes) context.add(item.sizeBytes);
  return outcomes;
}

/** What lies aside already is done; what is under a private name goes back to its place. */
async function finishOrUndo(
  context: JobContext,
  items: readonly Item[],
  lies: Map<number, FileFacts>,
): ReturnType<ItemWork['finishOrUndo']> {
  const names = await context.names();
  const own = await marks(context);
  const ended: Awaited<ReturnType<ItemWork['finishOrUndo']>> = [];
  for (const item of items) {
    const root = await context.root(item.volumeId);
    if (!root) {
      ended.push({ item, result: item.state === 'taken' ? { done: false, reason: 'unreachable' } : null });
      continue;
    }
    await context.assertLease();
    const removal = removalOf(item);
    const aside = asidePlace(own, removal);
    const isTaken = look(names.place(root, 'out', item.id)).is !== 'gone';
    if (asideFacts(root, aside, removal)) {
      // There to its end, or under both names: then the private one goes.
      const result = placeAside(root, names, { removal, aside });
      if (result.done) lies.set(item.id, result.facts);
      ended.push({ item, result: result.done ? { done: true } : result });
    } else if (isTaken) {
      const back = putBack({ root, names }, removal, 'changed');
      ended.push({ item, result: back.reason === 'name taken' ? back : null });
    } else ended.push({ item, result: item.state === 'taken' ? { done: false, reason: 'gone' } : null });
  }
  return ended;
}

async function writeDown(
  context: JobContext,
  tx: Transaction,
  {
    step,
    params,
    outcomes,
    lies,
  }: {
    step: Step;
    params: Pick<SetAsideParams, 'level' | 'reason'>;
    outcomes: readonly Outcome[];
    lies: ReadonlyMap<number, FileFacts>;
  },
): Promise<void> {
  const now = context.now();
  const went = outcomes.filter(({ result }) => result.done || result.reason === 'gone');
  const done = outcomes.filter(({ result }) => result.done);
  if (done.length > 0) {
    const own = await marks(context);
    const rows = await tx
      .select({ id: files.id, kind: files.kind, projectId: files.projectId })
      .from(files)
      .where(
        inArray(
          files.id,
          done.map(({ item }) => item.fileId),
        ),
      );
    const known = new Map(rows.map((row) => [row.id, row]));
    await addAside(
      tx,
      done.map(({ item }) => {
        const place = asidePlace(own, removalOf(item));
        return {
          itemId: item.id,
          stepId: step.id,
          fileId: item.fileId,
          volumeId: item.volumeId,
          projectId: known.get(item.fileId)?.projectId ?? null,
          kind: known.get(item.fileId)?.kind ?? 'other',
          path: item.path,
          rawPath: item.rawPath,
          asidePath: place.path,
          asideRaw: place.raw ?? null,
          ...lies.get(item.id)!,
          level: params.level,
          reason: params.reason,
          at: now,
        };
      }),
    );
  }
  await markGone(
    tx,
    went.map(({ item }) => item.fileId),
    now,
  );
}

export const setAside = serverStep({
  kind,
  findings: async (db, step, { level }) => [
    ...(await commonFindings(db, step)),
    ...(await inWork(db, step)),
    ...(await unreadFindings(db, step)),
    ...(await lentAndThin(db, step, { archived: level === 2 })),
  ],
  stores: async (tx, step) => [...(await storesOfDocuments(tx, step.id)), ...(await volumesOfItems(tx, step.id))],
  run: (context, step, params) => runItems(context, step, workOf(context, step, params)),
  giveUp: (context, step, params) =>
    finishItems(context, step, {
      work: workOf(context, step, params),
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
