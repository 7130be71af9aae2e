// A project document as it is at one moment: read whole while nobody writes it, kept on another volume, read back from its
// medium. Called by the snapshots of documents.
import { closeSync, fstatSync, readFileSync } from 'node:fs';
import { lstat } from 'node:fs/promises';
import path from 'node:path';
import { xxh64 } from '@node-rs/xxhash';
import { dropFromMemory, openToRead } from './content/content.ts';
import { type FileFacts, factsOf, isMissing, isUnchanged, modifiedUsOf } from './facts.ts';
import { PRIVATE_FOLDER } from './identity.ts';
import { type Inside, OutsideError } from './paths.ts';
import { SNAPSHOTS } from './private-names.ts';
import type { Root } from './root.ts';
import { removeOwn, renameNew, syncFolder, writeTemporary } from './write.ts';

/** Documents beyond that are no documents. */
const LARGEST_BYTES = 400_000_000;
/** What was written a moment ago may not be written to its end. */
const QUIET_MS = 1_500;

export interface Moment {
  bytes: Buffer;
  facts: FileFacts;
  xxh64: string;
}

const sumOf = (bytes: Uint8Array): string => xxh64(bytes).toString(16).padStart(16, '0');

/** The whole of it; null while it is being written. Throws the system's code, or 'not a file'. */
export function readMoment(root: Root, inside: Inside, nowMs: number): Moment | null {
  const fd = openToRead(root.place(inside));
  try {
    const before = fstatSync(fd);
    if (!before.isFile() || before.size > LARGEST_BYTES)
      throw Object.assign(new Error(`${inside.path} is no document that can be read.`), { code: 'not a file' });
    if (Math.abs(nowMs - before.mtimeMs) < QUIET_MS) return null;
    const bytes = readFileSync(fd);
    const facts = factsOf(before);
    if (bytes.length !== before.size || !isUnchanged(factsOf(fstatSync(fd)), facts)) return null;
    return { bytes, facts, xxh64: sumOf(bytes) };
  } finally {
    closeSync(fd);
  }
}

/** Below our own folder of a volume, which no reading counts as anybody's files. */
export const snapshotAt = (site: string, below: string): string => `${PRIVATE_FOLDER}/${SNAPSHOTS}/${site}/${below}`;

/**
 * Writes one and reads it back from its medium. `check` is asked before it gets its name and may throw: whoever was stopped
 * meanwhile finds that its temporary name was taken over. False where it does not read as it was written: then it is gone again.
 */
export async function keepMoment(
  root: Root,
  { at, temporary, check }: { at: string; temporary: string; check: () => Promise<void> },
  moment: Moment,
): Promise<boolean> {
  const place = root.make(at);
  const own = root.placeText(temporary);
  writeTemporary(own, moment.bytes);
  try {
    await check();
    renameNew(own, place);
  } catch (error) {
    removeOwn(own);
    throw error;
  }
  syncFolder(path.dirname(place));
  await dropFromMemory(place);
  if (sumOf(readFileSync(place)) === moment.xxh64) return true;
  removeOwn(place);
  return false;
}

/** The content of one, where it is there and as it was written; else null. */
export function readSnapshot(root: Root, at: string, xxh: string): Buffer | null {
  let fd: number;
  try {
    fd = openToRead(root.placeText(at));
  } catch {
    return null;
  }
  try {
    const bytes = readFileSync(fd);
    return sumOf(bytes) === xxh ? bytes : null;
  } finally {
    closeSync(fd);
  }
}

/** Removes one; that it, or its folder, is gone already is fine, or that something that is not ours lies in the way. */
export function removeSnapshot(root: Root, at: string): void {
  try {
    removeOwn(root.placeText(at));
  } catch (error) {
    if (!isMissing(error) && !(error instanceof OutsideError)) throw error;
  }
}

/** Size and time of a file in passing, by its path; null where it cannot be seen. */
export async function glance(
  volume: string,
  inside: string,
): Promise<{ sizeBytes: number; modifiedUs: number } | null> {
  try {
    const stats = await lstat(path.join(volume, inside));
    return stats.isFile() ? { sizeBytes: stats.size, modifiedUs: modifiedUsOf(stats) } : null;
  } catch {
    return null;
  }
}
