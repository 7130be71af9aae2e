// That a file which lies aside has its like in another place, on another volume unless that was never said, proved in this very step: both are read whole and have the
// same sum, and the like is still the file that was read right before the other goes.
import { sql } from 'drizzle-orm';
import { KEPT_HERE } from '#core/steps/keep-other.ts';
import { sumFile } from '#disk/content/content.ts';
import { codeOf, isMissing, isUnchanged, look } from '#disk/facts.ts';
import { type CataloguedNames, OutsideError, placeOfFile } from '#disk/paths.ts';
import type { Db } from '../db/connect.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import type { Item } from '../runtime/run-items.ts';

export interface Like extends CataloguedNames {
  /** The file that lies aside, or is to. */
  fileId: number;
  /** The like itself. */
  likeId: number;
  volumeId: number;
  sizeBytes: number;
  modifiedUs: number;
  device: number | null;
  inode: number | null;
  changedUs: number | null;
}

/** Items of a step that lie aside because the same lies on their own volume once more, which no other has. */
const SAID_HERE = sql`(SELECT 1 FROM aside x WHERE x.file_id = i.file_id AND x.state = 'aside' AND x.level = 3 AND x.reason = ${KEPT_HERE})`;

export async function saidHere(db: Db, stepId: number): Promise<Set<number>> {
  const [rows] = (await db.execute(
    sql`SELECT i.file_id AS id FROM step_items i WHERE i.step_id = ${stepId} AND EXISTS ${SAID_HERE}`,
  )) as unknown as [{ id: number }[]];
  return new Set(rows.map((row) => Number(row.id)));
}

/**
 * Of each item a file of the same sums that is there: on another volume than its own; on its own as well where no more than that
 * was said of it, or, with `here`, where that is what is wanted.
 */
export async function likesOf(db: Db, stepId: number, { here = false } = {}): Promise<Like[]> {
  const [rows] = (await db.execute(sql`
    SELECT i.file_id AS fileId, f.id AS likeId, f.volume_id AS volumeId, f.size_bytes AS sizeBytes, f.modified_us AS modifiedUs, v.device, f.inode, f.changed_us AS changedUs,
      f.name, f.raw_name AS rawName, d.path AS folder, d.raw_path AS rawFolder
    FROM step_items i JOIN file_sums a ON a.file_id = i.file_id AND a.size_bytes = i.size_bytes AND a.modified_us = i.modified_us
    JOIN file_sums b ON b.size_bytes = a.size_bytes AND b.xxh64 = a.xxh64 AND b.file_id <> a.file_id
    JOIN files f ON f.id = b.file_id AND f.gone_at IS NULL AND f.size_bytes = b.size_bytes AND f.modified_us = b.modified_us
      AND (f.volume_id <> i.volume_id OR ${here ? sql`TRUE` : sql`EXISTS ${SAID_HERE}`})
    JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id AND v.retired_at IS NULL AND v.state = 'reachable'
    WHERE i.step_id = ${stepId} AND i.state IN ('waiting', 'started', 'taken') ORDER BY i.id, f.id`)) as unknown as [
    Like[],
  ];
  return rows;
}

/** The likes that were read and are the same to the byte, by the file that lies aside. */
export async function proveLikes(context: JobContext, items: readonly Item[], likes: readonly Like[]) {
  const byFile = new Map<number, Like[]>();
  for (const like of likes) byFile.set(Number(like.fileId), [...(byFile.get(Number(like.fileId)) ?? []), like]);
  const proved = new Map<number, Like>();
  await inParallel(context.pools.content.size, items, async (item) => {
    context.check();
    const own = await sumOf(context, item.volumeId, { path: item.path, raw: item.rawPath }, item);
    if (own === null) return;
    for (const like of byFile.get(item.fileId) ?? []) {
      const theirs = await sumOf(context, like.volumeId, placeOfFile(like), like);
      if (theirs !== own) continue;
      proved.set(item.fileId, like);
      return;
    }
  });
  return proved;
}

export async function sumOf(
  context: JobContext,
  volumeId: number,
  inside: { path: string; raw?: Buffer | null },
  expected: Pick<Like, 'sizeBytes' | 'modifiedUs' | 'device' | 'inode' | 'changedUs'>,
): Promise<string | null> {
  const root = await context.root(volumeId);
  if (!root) return null;
  try {
    const sum = await sumFile(context.pools.content, root.place(inside), {
      expected,
      sha512: true,
      stop: context.stop,
    });
    return sum.sha512;
  } catch (error) {
    if (codeOf(error) === 'stopped') throw error;
    return null;
  }
}

/** The like is there, and nothing of it changed since it was read. */
export async function isLikeThere(context: JobContext, like: Like): Promise<boolean> {
  const root = await context.root(like.volumeId);
  if (!root) return false;
  try {
    const facts = look(root.place(placeOfFile(like)));
    return facts.is === 'file' && isUnchanged(facts, like);
  } catch (error) {
    if (isMissing(error) || error instanceof OutsideError) return false;
    throw error;
  }
}
