// Moves one file, but only if it is what was expected, and never over another. The original is taken under a private name
// first (disk/remove.ts), and that is written down; only then does the file, or a copy of it that was flushed and read
// back, get its new name. The original is removed last, and only while the copy is there. Killed anywhere, the next run
// finds what there is and goes on. Called by the moving step.
import { unlinkSync } from 'node:fs';
import path from 'node:path';
import { type ContentPool, copyFile, dropFromMemory, keepAttributes, sumFile } from './content/content.ts';
import { codeOf, isMissing, isSameFile, look } from './facts.ts';
import { OutsideError } from './paths.ts';
import type { PrivateNames } from './private-names.ts';
import { type Held, heldFor, type ItemResult, putBack, type Removal } from './remove.ts';
import type { Root } from './root.ts';
import { removeOwn, renameNew, syncFolder } from './write.ts';

export interface Move extends Removal {
  /** Where it goes: a path inside the volume of its home. */
  to: string;
}

/** A copy that was read back, and which file it is. */
export interface Copy {
  xxh64: string;
  device: number;
  inode: number;
}

/** Gives a file that was taken its new name on the same volume. Run again, a file that has it already is done. */
export function placeTaken(root: Root, names: PrivateNames, move: Move): ItemResult {
  return heldFor(() => {
    const taken = names.place(root, 'out', move.itemId);
    // Only this job reaches it there: where it is gone, an earlier run gave it its name.
    if (look(taken).is === 'gone') return { done: true };
    try {
      const target = root.make(move.to);
      renameNew(taken, target);
      syncFolder(path.dirname(target));
      return { done: true };
    } catch (error) {
      return notPlaced(error, (reason, detail) => putBack({ root, names }, move, reason, detail));
    }
  });
}

function notPlaced(error: unknown, back: (reason: Held['reason'], detail?: string) => Held): Held {
  if (error instanceof OutsideError) return back('outside');
  const code = codeOf(error);
  if (code === 'EEXIST') return back('name taken');
  if (code === 'ENOSPC' || code === 'EDQUOT') return back('no space', code);
  if (['EACCES', 'EPERM', 'EROFS', 'ENOTDIR'].includes(code)) return back('not permitted', code);
  throw error;
}

export interface Copying {
  from: Root;
  to: Root;
  move: Move;
  names: PrivateNames;
  progress: (bytes: number) => void;
  stop: Int32Array;
}

/** Copies a file to its new volume under a private name and reads it back from the medium. */
export async function copyOver(
  pool: ContentPool,
  { from, to, move, names, progress, stop }: Copying,
): Promise<{ done: true; copy: Copy; detail?: string } | Held> {
  let part: string | null = null;
  try {
    part = names.place(to, 'copy', move.itemId);
    removeOwn(part);
    const place = from.place(move);
    const written = await copyFile(
      pool,
      { from: place, to: part },
      { expected: move.expected, sha512: false, progress, stop },
    );
    const lost = typeof place === 'string' ? await keepAttributes(place, part) : 'its owner and permissions';
    await dropFromMemory(part);
    const read = await sumFile(pool, part, { sha512: false, stop });
    const facts = look(part);
    if (facts.is !== 'file' || read.xxh64 !== written.xxh64 || read.sizeBytes !== move.expected.sizeBytes) {
      removeOwn(part);
      return { done: false, reason: 'copy differs' };
    }
    const copy = { xxh64: read.xxh64, device: facts.device, inode: facts.inode };
    return { done: true, copy, detail: lost === '' ? undefined : `${lost} could not be kept` };
  } catch (error) {
    if (part !== null) removeOwn(part);
    if (error instanceof OutsideError) return { done: false, reason: 'outside' };
    if (isMissing(error)) return { done: false, reason: 'gone' };
    const code = codeOf(error);
    if (code === 'changed' || code === 'not a file') return { done: false, reason: code };
    if (code === 'ELOOP') return { done: false, reason: 'not a file' };
    if (['EACCES', 'EPERM', 'EROFS'].includes(code)) return { done: false, reason: 'not permitted', detail: code };
    throw error;
  }
}

/** Throws away a copy that was not placed: the original is where it was. */
export const dropCopy = (to: Root, names: PrivateNames, move: Move): void =>
  removeOwn(names.place(to, 'copy', move.itemId));

/**
 * Places a copy while the original lies under its private name, then removes the original. The original is never removed
 * unless the very copy that was read back is at the new place in that moment; where it is not, the original goes back.
 */
export function placeCopy({ from, to, move, names }: Omit<Copying, 'progress' | 'stop'>): ItemResult {
  return heldFor(() => {
    const part = names.place(to, 'copy', move.itemId);
    const back = (reason: Held['reason'], detail?: string) => {
      const held = putBack({ root: from, names }, move, reason, detail);
      removeOwn(part);
      return held;
    };
    try {
      const target = to.make(move.to);
      if (look(part).is !== 'gone') renameNew(part, target);
      syncFolder(path.dirname(target));
    } catch (error) {
      return notPlaced(error, back);
    }
    return { done: true };
  });
}

/** Removes the original of a copy that was placed. One that is gone was removed by an earlier run. */
export function removeOriginal({ from, to, move, names }: Omit<Copying, 'progress' | 'stop'>, copy: Copy): ItemResult {
  return heldFor(() => {
    const taken = names.place(from, 'out', move.itemId);
    const original = look(taken);
    if (original.is === 'gone') return { done: true };
    if (original.is !== 'file' || !isSameFile(original, move.expected))
      return putBack({ root: from, names }, move, original.is === 'file' ? 'changed' : 'not a file');
    if (!isCopy(to, move, copy)) return putBack({ root: from, names }, move, 'copy differs', move.to);
    unlinkSync(taken);
    return { done: true };
  });
}

/** Whether the very copy that was read back is at its new place. */
export function isCopy(to: Root, move: Move, copy: Copy): boolean {
  try {
    const facts = look(to.placeText(move.to));
    return (
      facts.is === 'file' &&
      facts.device === copy.device &&
      facts.inode === copy.inode &&
      facts.sizeBytes === move.expected.sizeBytes
    );
  } catch (error) {
    if (isMissing(error) || error instanceof OutsideError) return false;
    throw error;
  }
}

/**
 * The original vanished after it was copied and before it was taken: the copy may be all there is, so it is kept. Gives
 * where; null where it could not be placed and stays under its private name.
 */
export function keepCopy(to: Root, names: PrivateNames, move: Move): string | null {
  const part = names.place(to, 'copy', move.itemId);
  if (look(part).is === 'gone') return null;
  for (const place of [move.to, `${move.to} (kept by Keramion ${move.itemId})`])
    try {
      renameNew(part, to.make(place));
      return place;
    } catch (error) {
      if (codeOf(error) !== 'EEXIST') throw error;
    }
  return null;
}
