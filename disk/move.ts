// Moves one file, but only if it is what was expected, and never over another. On one volume it is taken under a private
// name, looked at there, and given its new one. Across volumes it is copied, flushed, read back and compared, put into
// place, and only then is the original removed. Killed anywhere, the next run settles it. Called by the moving job.
import { mkdirSync, renameSync, rmSync } from 'node:fs';
import path from 'node:path';
import type { Expectation } from '#core/model.ts';
import { type ContentPool, dropFromMemory } from './content/content.ts';
import { codeOf, isMissing, look, sameFacts } from './facts.ts';
import type { OpenFiles } from './open-files.ts';
import { absoluteText, locate, OutsideError, refuseLinks } from './paths.ts';
import { PRIVATE_FOLDER, renameNew, syncFolder } from './private.ts';
import { putBack, type RemovalResult, takenPlace } from './remove.ts';

export interface Move {
  itemId: number;
  /** Where it lies, and where it goes: paths inside their volumes. */
  path: string;
  to: string;
  expected: Expectation;
}

/** Moves a file within the volume at `root`. Running it again is safe. */
export function moveWithin(root: string, move: Move, open: () => OpenFiles): RemovalResult {
  return heldOrThrown(() => {
    const taken = takenPlace(root, move.itemId);
    const target = absoluteText(root, move.to);
    if (look(taken).is === 'gone') {
      const place = locate(root, move);
      const facts = look(place);
      if (facts.is === 'gone') return { done: false, reason: 'gone' };
      if (facts.is !== 'file') return { done: false, reason: 'not a file' };
      if (!sameFacts(facts, move.expected)) return { done: false, reason: 'changed' };
      if (open().has(facts.device, facts.inode)) return { done: false, reason: 'open' };
      refuseLinks(root, move.to);
      if (look(target).is !== 'gone') return { done: false, reason: 'name taken' };
      mkdirSync(path.dirname(taken), { recursive: true });
      renameSync(place, taken);
    }
    const facts = look(taken);
    if (facts.is !== 'file' || !sameFacts(facts, move.expected))
      return putBack(root, move, taken, facts.is === 'file' ? 'changed' : 'not a file');
    try {
      refuseLinks(root, move.to);
      mkdirSync(path.dirname(target), { recursive: true });
      renameNew(taken, target);
    } catch (error) {
      const back = putBack(root, move, taken, codeOf(error) === 'EEXIST' ? 'name taken' : 'not permitted');
      return error instanceof OutsideError ? { done: false, reason: 'outside' } : back;
    }
    syncFolder(path.dirname(target));
    return { done: true };
  });
}

export interface Copying {
  fromRoot: string;
  toRoot: string;
  move: Move;
  progress: (bytes: number) => void;
  stop: Int32Array;
}

const partOf = (toRoot: string, itemId: number) => path.join(toRoot, PRIVATE_FOLDER, 'moving', String(itemId));

/** Copies a file to its new volume under a private name and reads it back. Gives its XXH3-128, or why it was held. */
export async function copyOver(
  pool: ContentPool,
  { fromRoot, toRoot, move, progress, stop }: Copying,
): Promise<{ done: true; xxh128: string } | Exclude<RemovalResult, { done: true }>> {
  const part = partOf(toRoot, move.itemId);
  try {
    refuseLinks(toRoot, move.to);
    if (look(absoluteText(toRoot, move.to)).is !== 'gone') return { done: false, reason: 'name taken' };
    mkdirSync(path.dirname(part), { recursive: true });
    rmSync(part, { force: true });
    const from = locate(fromRoot, move);
    const written = await pool.ask({ from, to: part, expected: move.expected, sha512: false }, { progress, stop });
    await dropFromMemory(part);
    const read = await pool.ask({ from: part, sha512: false }, { stop });
    if (read.xxh128 === written.xxh128 && read.sizeBytes === move.expected.sizeBytes)
      return { done: true, xxh128: read.xxh128 };
    rmSync(part, { force: true });
    return { done: false, reason: 'copy differs' };
  } catch (error) {
    rmSync(part, { force: true });
    const code = codeOf(error);
    if (error instanceof OutsideError) return { done: false, reason: 'outside' };
    if (isMissing(error)) return { done: false, reason: 'gone' };
    if (code === 'changed' || code === 'not a file') return { done: false, reason: code };
    if (code === 'ELOOP') return { done: false, reason: 'not a file' };
    if (code === 'EACCES' || code === 'EPERM' || code === 'EROFS')
      return { done: false, reason: 'not permitted', detail: code };
    throw error;
  }
}

/** Gives a copy that was read back its place. Its private name tells that it is ours: run again, it is placed once. */
export function placeCopy(toRoot: string, move: Move): RemovalResult {
  return heldOrThrown(() => {
    const part = partOf(toRoot, move.itemId);
    const target = absoluteText(toRoot, move.to);
    try {
      refuseLinks(toRoot, move.to);
      mkdirSync(path.dirname(target), { recursive: true });
      renameNew(part, target);
    } catch (error) {
      rmSync(part, { force: true });
      if (codeOf(error) === 'EEXIST') return { done: false, reason: 'name taken' };
      throw error;
    }
    syncFolder(path.dirname(target));
    return { done: true };
  });
}

/** True where a copy waits under its private name. */
export const hasPart = (toRoot: string, itemId: number): boolean => look(partOf(toRoot, itemId)).is === 'file';

function heldOrThrown(work: () => RemovalResult): RemovalResult {
  try {
    return work();
  } catch (error) {
    if (error instanceof OutsideError) return { done: false, reason: 'outside' };
    if (isMissing(error)) return { done: false, reason: 'gone' };
    const code = codeOf(error);
    if (code === 'EACCES' || code === 'EPERM' || code === 'EROFS')
      return { done: false, reason: 'not permitted', detail: code };
    if (code === 'EBUSY' || code === 'ETXTBSY') return { done: false, reason: 'open', detail: code };
    throw error;
  }
}
