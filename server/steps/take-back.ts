// Taking back what was set aside: it gets the very path it had, and is read into the catalogue there.
import { inArray, sql } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import { folderOf, liesIn } from '#core/paths.ts';
import { takeBack as kind } from '#core/steps/take-back.ts';
import { dropEmptyFolders, finishBack, takeBack as giveBack } from '#disk/aside.ts';
import { endAside } from '../db/aside.ts';
import type { Database, Transaction } from '../db/connect.ts';
import { aside } from '../db/schema/aside.ts';
import { folders } from '../db/schema/catalogue.ts';
import { readDocuments } from '../readings/read-documents.ts';
import { readVolume } from '../readings/read-volume.ts';
import type { JobContext } from '../runtime/context.ts';
import { finishItems, type Item, type ItemWork, type Outcome, runItems, type Step } from '../runtime/run-items.ts';
import { addFileStepIn } from './adding.ts';
import { readOnly, unreachable } from './findings.ts';
import { serverStep } from './kind.ts';
import { volumesOfItems } from './remove.ts';

/** Items are where a file lies; where it goes is in its row. Chosen by rows of what lies aside, or whole steps. */
export async function addTakingBack(
  tx: Transaction,
  { ids, stepIds, what, planId, now }: AsideChoice & { what: string; planId: PlanIdOf; now: Date },
): Promise<number> {
  const { stepId } = await addFileStepIn(
    tx,
    { kind, params: { what }, names: {}, now, planId },
    async (_tx, stepId) => {
      await insertAsideItems(tx, stepId, { ids, stepIds });
      return 'Nothing of it is set aside any more, or it is in a plan already. Nothing was done.';
    },
  );
  return stepId;
}

type PlanIdOf = Parameters<typeof addFileStepIn>[1]['planId'];

export interface AsideChoice {
  ids?: readonly number[];
  stepIds?: readonly number[];
  level?: 2 | 3;
}

/** Adds what lies aside as items: where each lies now. What a plan has already is left out. */
export async function insertAsideItems(
  tx: Transaction,
  stepId: number,
  { ids, stepIds, level }: AsideChoice,
): Promise<void> {
  const chosen = ids ? sql`a.id IN ${[...ids, 0]}` : sql`a.step_id IN ${[...(stepIds ?? []), 0]}`;
  await tx.execute(sql`
    INSERT INTO step_items (step_id, volume_id, file_id, path, raw_path, size_bytes, modified_us, device, inode, changed_us, target_path)
    SELECT ${stepId}, a.volume_id, a.file_id, a.aside_path, a.aside_raw, a.size_bytes, a.modified_us, a.device, a.inode, a.changed_us, NULL
    FROM aside a WHERE a.state = 'aside' AND ${chosen} ${level === undefined ? sql`` : sql`AND a.level = ${level}`}
      AND NOT EXISTS (SELECT 1 FROM step_items i JOIN steps s ON s.id = i.step_id JOIN plans p ON p.id = s.plan_id
        WHERE i.file_id = a.file_id AND (p.draft = 1 OR p.state = 'running') AND i.state IN ('waiting', 'started', 'taken') AND i.step_id <> ${stepId})`);
}

type Row = typeof aside.$inferSelect;

/** What lies aside of these items, by the item. */
export async function asideOf(db: Pick<Database, 'select'>, items: readonly Item[]): Promise<Map<number, Row>> {
  if (items.length === 0) return new Map();
  const rows = await db
    .select()
    .from(aside)
    .where(
      inArray(
        aside.fileId,
        items.map((item) => item.fileId),
      ),
    );
  const byPlace = new Map(rows.map((row) => [`${row.volumeId} ${row.asidePath}`, row]));
  return new Map(
    items.flatMap((item) => {
      const row = byPlace.get(`${item.volumeId} ${item.path}`);
      return row ? [[item.id, row] as const] : [];
    }),
  );
}

function workOf(context: JobContext, step: Step): ItemWork {
  return {
    kind,
    projectId: null,
    act: (items) => takeBackItems(context, items),
    finishOrUndo: (items) => finishItemsBack(context, items),
    followUp: async (tx, outcomes) => {
      const done = outcomes.filter(({ result }) => result.done).map(({ item }) => item.fileId);
      await endAside(tx, done, { state: 'taken back', now: context.now() });
    },
    conclude: () => readBack(context, step),
  };
}

const wayOf = (row: Row, item: Item): Parameters<typeof giveBack>[1] => ({
  aside: { path: row.asidePath, raw: row.asideRaw },
  home: { path: row.path, raw: row.rawPath },
  expected: item as Parameters<typeof giveBack>[1]['expected'],
});

/** What had begun is finished, the rest lies aside as before. */
async function finishItemsBack(context: JobContext, items: readonly Item[]): ReturnType<ItemWork['finishOrUndo']> {
  const rows = await asideOf(context.db, items);
  const ended: Awaited<ReturnType<ItemWork['finishOrUndo']>> = [];
  for (const item of items) {
    const root = await context.root(item.volumeId);
    const row = rows.get(item.id);
    if (root) await context.assertLease();
    const result = root && row ? finishBack(root, wayOf(row, item)) : null;
    ended.push({ item, result: result?.done ? { done: true } : result });
  }
  return ended;
}

async function takeBackItems(context: JobContext, items: readonly Item[]): Promise<Outcome[]> {
  const outcomes: Outcome[] = [];
  const rows = await asideOf(context.db, items);
  for (const item of items) {
    if (context.isToEnd) break;
    const root = await context.root(item.volumeId);
    const row = rows.get(item.id);
    if (!root) outcomes.push({ item, result: { done: false, reason: 'unreachable' } });
    else if (!row) outcomes.push({ item, result: { done: false, reason: 'gone' } });
    else {
      await context.assertLease();
      const way = wayOf(row, item);
      const result = giveBack(root, way);
      if (result.done) dropEmptyFolders(root, way.aside);
      outcomes.push({ item, result: result.done ? { done: true } : result });
    }
    context.add(item.sizeBytes);
  }
  return outcomes;
}

/** The folders that files came back to are read, so that the catalogue knows them by what they are now. */
async function readBack(context: JobContext, step: Step): Promise<void> {
  const { db, pools, stop, now } = context;
  const rows = await db
    .selectDistinct({ volumeId: aside.volumeId, path: aside.path })
    .from(aside)
    .where(
      sql`${aside.state} = 'taken back' AND EXISTS (SELECT 1 FROM step_items i WHERE i.step_id = ${step.id} AND i.state = 'done' AND i.file_id = ${aside.fileId} AND i.path = ${aside.asidePath})`,
    );
  const wanted = new Map<number, Set<string>>();
  for (const row of rows) wanted.set(row.volumeId, (wanted.get(row.volumeId) ?? new Set()).add(folderOf(row.path)));
  for (const [volumeId, paths] of wanted) {
    const path = context.pathOf(volumeId);
    if (path === null) continue;
    for (const folder of await knownAbove(db, volumeId, [...paths]))
      await readVolume(db, pools.walk, volumeId as VolumeId, { stop, now, path, ...(folder === '' ? {} : { folder }) });
    await readDocuments(db, pools.documents, volumeId as VolumeId, { now, path });
  }
}

const MOST_FOLDERS = 20;

/** The nearest folders at or above these that the catalogue knows, none inside another; the top where they are many. */
async function knownAbove(db: Database, volumeId: number, paths: readonly string[]): Promise<string[]> {
  const above = new Set<string>();
  for (const path of paths) for (let at = path; at !== ''; at = folderOf(at)) above.add(at);
  const known = new Set<string>();
  for (const path of above) {
    const [row] = await db
      .select({ id: folders.id })
      .from(folders)
      .where(sql`${folders.volumeId} = ${volumeId} AND ${folders.path} = ${path} AND ${folders.goneAt} IS NULL`);
    if (row) known.add(path);
  }
  const nearest = new Set(
    paths.map((path) => {
      let at = path;
      while (at !== '' && !known.has(at)) at = folderOf(at);
      return at;
    }),
  );
  const apart = [...nearest].filter((path) => ![...nearest].some((other) => other !== path && liesIn(path, other)));
  return apart.length > MOST_FOLDERS || apart.includes('') ? [''] : apart;
}

export const takeBack = serverStep({
  kind,
  async findings(db, step) {
    const ids = step.onVolumes.map((part) => part.volumeId);
    return [...(await unreachable(db, step, ids)), ...(await readOnly(db, step, ids))];
  },
  stores: (tx, step) => volumesOfItems(tx, step.id),
  run: (context, step) => runItems(context, step, workOf(context, step)),
  giveUp: (context, step) =>
    finishItems(context, step, { work: workOf(context, step), ending: { state: 'failed', trouble: context.givenUp } }),
});
