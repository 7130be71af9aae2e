// Writing so that nothing is ever half there and nothing is ever written over: under a temporary name that is ours alone,
// flushed, then given its name, which must be free.
import {
  closeSync,
  constants,
  fsyncSync,
  linkSync,
  lstatSync,
  openSync,
  renameSync,
  unlinkSync,
  writeSync,
} from 'node:fs';
import { open } from 'node:fs/promises';
import path from 'node:path';
import { codeOf, look } from './facts.ts';

/**
 * Writes a file whole under a name that must be free, by way of `temporary`, a name of our own on the same volume.
 * Throws EEXIST where the name is taken; then, and after any other error, nothing is left behind.
 */
export function writeNew(target: string, content: string | Uint8Array, temporary: string): void {
  try {
    writeTemporary(temporary, content);
    renameNew(temporary, target);
  } catch (error) {
    if (codeOf(error) !== 'EEXIST' || look(temporary).is === 'file') removeOwn(temporary);
    throw error;
  }
  syncFolder(path.dirname(target));
}

/** Puts other content into a file of a private folder of ours, at once: whoever comes after finds the old or the new. */
export function replaceOwn(target: string, content: string, temporary: string): void {
  removeOwn(temporary);
  writeTemporary(temporary, content);
  renameSync(temporary, target);
  syncFolder(path.dirname(target));
}

/** Writes a file whole under a name of our own, and flushes it; after any error nothing of it is left. */
export function writeTemporary(temporary: string, content: string | Uint8Array): void {
  const flags = constants.O_WRONLY | constants.O_CREAT | constants.O_EXCL | constants.O_NOFOLLOW;
  const fd = openSync(temporary, flags, 0o644);
  try {
    const bytes = typeof content === 'string' ? Buffer.from(content, 'utf8') : content;
    for (let at = 0; at < bytes.length;) at += writeSync(fd, bytes, at, bytes.length - at);
    fsyncSync(fd);
  } catch (error) {
    // Half of it helps nobody: it is ours alone, and goes.
    removeOwn(temporary);
    throw error;
  } finally {
    closeSync(fd);
  }
}

/** Removes a file under a name of our own; that it is gone already is fine. */
export function removeOwn(place: string): void {
  try {
    unlinkSync(place);
  } catch (error) {
    if (codeOf(error) !== 'ENOENT') throw error;
  }
}

/**
 * Gives a file another name on its volume, but never over something: a plain rename would silently replace it. Throws
 * EEXIST where the name is taken. Where an earlier run was killed between the two halves, both names are of one file: then
 * only the old one is taken away.
 */
export function renameNew(from: string | Buffer, to: string | Buffer): void {
  try {
    linkSync(from, to);
  } catch (error) {
    const code = codeOf(error);
    if (code === 'EEXIST' && isOneFile(from, to)) return unlinkSync(from);
    if (!['EPERM', 'ENOTSUP', 'EOPNOTSUPP', 'EMLINK', 'ENOSYS'].includes(code)) throw error;
    // A file system without hard links: look first, then rename.
    if (look(to).is !== 'gone') throw Object.assign(new Error(`${String(to)} is there already.`), { code: 'EEXIST' });
    renameSync(from, to);
    return;
  }
  unlinkSync(from);
}

/** True where both names are of one and the same file. */
export function isOneFile(a: string | Buffer, b: string | Buffer): boolean {
  try {
    const [one, other] = [lstatSync(a), lstatSync(b)];
    return one.isFile() && other.isFile() && one.dev === other.dev && one.ino === other.ino;
  } catch {
    return false;
  }
}

const flushes = new Map<string, { now: Promise<void>; next: Promise<void> | null }>();

/** As `syncFolder`, without waiting in it: who asks while a folder is flushed shares the flush after that with all who ask by then. */
export function flushFolder(folder: string): Promise<void> {
  const under = flushes.get(folder);
  if (!under) return beginFlush(folder);
  return (under.next ??= under.now.then(() => beginFlush(folder)));
}

function beginFlush(folder: string): Promise<void> {
  const now = flushed(folder).then(() => {
    if (flushes.get(folder)?.next === null) flushes.delete(folder);
  });
  flushes.set(folder, { now, next: null });
  return now;
}

async function flushed(folder: string): Promise<void> {
  try {
    const handle = await open(folder, 'r');
    try {
      await handle.sync();
    } finally {
      await handle.close();
    }
  } catch {
    // Some file systems refuse to flush a folder; the file itself was flushed.
  }
}

/** Flushes a folder's entries, where the system can. */
export function syncFolder(folder: string): void {
  let fd: number;
  try {
    fd = openSync(folder, 'r');
  } catch {
    return;
  }
  try {
    fsyncSync(fd);
  } catch {
    // Some file systems refuse to flush a folder; the file itself was flushed.
  } finally {
    closeSync(fd);
  }
}
