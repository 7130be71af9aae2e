// From chosen lines to steps of the plan: what rebuilds itself or can be made again goes for good, all else is set aside.
// All steps are added, or none.
import { sql } from 'drizzle-orm';
import type { FolderId, Kind, Level } from '#core/model.ts';
import { isForGood, type Group } from '#core/reclaim/worth.ts';
import { AGAIN_WORDS, groupWords, REASON_WORDS } from '#core/wording/reclaim.ts';
import { idList } from '../db/conditions.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { currentAssessment } from '../db/worth.ts';
import { Refused } from '../runtime/refused.ts';
import { type Added, NothingToAdd } from './adding.ts';
import { addCacheRemovalIn } from './remove-caches.ts';
import { addFileRemovalIn } from './remove-files.ts';
import { addFolderRemovalIn } from './remove-folders.ts';
import { addSettingAsideIn } from './set-aside.ts';
import { type LineChoice, lineOf } from '../reclaim/lines.ts';

export interface Chosen {
  keys: readonly string[];
  /** Caches that were changed on this day or later stay. */
  cutDay: number;
  /** Only these of the files that the lines stand for, as a search found them. */
  among?: readonly number[] | null;
  now: Date;
}

/** Adds what the lines hold to the plan. Throws Refused where nothing of it can go. */
export const addChosen = (db: Database, chosen: Chosen): Promise<AddedSteps> =>
  inTransaction(db, (tx) => addChosenIn(tx, chosen));

export interface AddedSteps {
  files: number;
  bytes: number;
  steps: number;
}

/** The same inside a transaction. */
export async function addChosenIn(tx: Transaction, { keys, cutDay, among, now }: Chosen): Promise<AddedSteps> {
  const chosen = keys.map(lineOf);
  if (chosen.length === 0) throw new Refused('Nothing is chosen, so nothing was added. Choose at least one line.');
  if (among && chosen.some((line) => line?.group === 'caches' || line?.group === 'empty folders'))
    throw new Refused('Caches and empty folders go folder by folder, so nothing was added. Choose them under Reclaim.');
  if (chosen.some((line) => line === null))
    throw new Refused('The choice could not be understood, so nothing was added. Load the page again and choose anew.');
  const run = (await currentAssessment(tx))?.run ?? 0;
  const sum = { files: 0, bytes: 0, steps: 0 };
  let refused: NothingToAdd | null = null;
  for (const lines of together(chosen as LineChoice[]))
    try {
      const added = await addTogether(tx, lines, { run, cutDay, among, now });
      sum.files += added.files;
      sum.bytes += added.bytes;
      sum.steps++;
    } catch (error) {
      if (!(error instanceof NothingToAdd)) throw error;
      refused = error;
    }
  if (sum.steps === 0) throw refused!;
  return sum;
}

/** Lines that become one step: of one group, level and reason. */
function together(lines: readonly LineChoice[]): LineChoice[][] {
  const all = new Map<string, LineChoice[]>();
  for (const line of lines) {
    const key = `${line.group} ${line.level} ${line.reason}`;
    const own = all.get(key);
    if (own) own.push(line);
    else all.set(key, [line]);
  }
  return [...all.values()];
}

const FILE_KIND: Partial<Record<Group, Kind>> = { renders: 'render', proxies: 'proxy' };

async function addTogether(
  tx: Transaction,
  lines: readonly LineChoice[],
  { run, cutDay, among, now }: Pick<Chosen, 'cutDay' | 'among' | 'now'> & { run: number },
): Promise<Added> {
  const { group, level, reason } = lines[0]!;
  if (group === 'caches')
    return addCacheRemovalIn(tx, { folderIds: lines.map((line) => line.folderId as FolderId), cutDay, now });
  if (group === 'empty folders') return addFolderRemovalIn(tx, { folderIds: lines.map((line) => line.folderId), now });
  const pairs = sql.join(
    lines.map((line) => sql`(${line.folderId}, ${line.projectId})`),
    sql`, `,
  );
  // By folder first: else every file of the site would be looked at.
  const found = among ? sql`f.id IN ${idList([...among, 0])} AND` : sql``;
  const chosen = sql`${found} f.folder_id IN ${[...new Set(lines.map((line) => line.folderId))]} AND EXISTS (SELECT 1 FROM worth w WHERE w.run = ${run} AND w.file_id = f.id AND w.size_bytes = f.size_bytes AND w.what = ${group} AND w.level = ${level} AND w.reason = ${reason}
    AND (w.folder_id, w.project_id) IN (${pairs}))`;
  const what = await whatOf(tx, lines);
  if (isForGood(level))
    return addFileRemovalIn(tx, {
      params: { what, fileKind: FILE_KIND[group]!, level, again: AGAIN_WORDS[reason] ?? 'made again' },
      chosen,
      now,
    });
  return addSettingAsideIn(tx, {
    params: { what, reason: REASON_WORDS[reason], level: level as Level & (2 | 3) },
    chosen,
    now,
  });
}

async function whatOf(tx: Transaction, lines: readonly LineChoice[]): Promise<string> {
  const ids = [...new Set(lines.map((line) => line.projectId))];
  const [rows] = (await tx.execute(
    sql`SELECT name FROM projects WHERE id IN ${[...ids, 0]} ORDER BY name`,
  )) as unknown as [{ name: string }[]];
  const names = rows.map((row) => row.name);
  return groupWords(lines[0]!.group, ids.includes(0) ? [] : names).slice(0, 200);
}
