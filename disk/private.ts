// Keramion's own folder on a volume: its identity, files on their way out, half-written archives. The reader passes
// it over.
import { randomUUID } from 'node:crypto';
import {
  accessSync,
  closeSync,
  constants,
  fsyncSync,
  linkSync,
  mkdirSync,
  openSync,
  readFileSync,
  renameSync,
  statfsSync,
  statSync,
  unlinkSync,
  writeSync,
} from 'node:fs';
import path from 'node:path';
import { roomOf } from '#core/places/space.ts';
import { codeOf, isMissing } from './facts.ts';

export const PRIVATE_FOLDER = '.keramion';
const IDENTITY = 'identity.json';

export type VolumeLook =
  | {
      state: 'reachable';
      identity: string | null;
      totalBytes: number;
      freeBytes: number;
      credible: boolean;
      writable: boolean;
    }
  | { state: 'unreachable'; code: string };

/** Looks at the place where a volume should be: is it there, which one is it, how much is free. */
export function lookAtVolume(root: string): VolumeLook {
  try {
    if (!statSync(root).isDirectory()) return { state: 'unreachable', code: 'ENOTDIR' };
    const fs = statfsSync(root);
    return {
      state: 'reachable',
      identity: readIdentity(root),
      ...roomOf(fs),
      writable: canWrite(root),
    };
  } catch (error) {
    return { state: 'unreachable', code: codeOf(error) };
  }
}

function canWrite(root: string): boolean {
  try {
    const folder = path.join(root, PRIVATE_FOLDER);
    mkdirSync(folder, { recursive: true });
    // A file system mounted for reading only lets the folder stand; asking to write into it tells.
    accessSync(folder, constants.W_OK);
    return true;
  } catch {
    return false;
  }
}

/** The identity a volume or carrier was given; null where it has none. */
export function readIdentity(root: string): string | null {
  try {
    const text = readFileSync(path.join(root, PRIVATE_FOLDER, IDENTITY), 'utf8');
    const value = (JSON.parse(text) as { identity?: unknown }).identity;
    return typeof value === 'string' && value.length <= 64 ? value : null;
  } catch (error) {
    if (isMissing(error) || error instanceof SyntaxError) return null;
    throw error;
  }
}

/** Gives a volume an identity, unless it has one. Returns the one it has. */
export function giveIdentity(root: string): string {
  const known = readIdentity(root);
  if (known) return known;
  const identity = randomUUID();
  const folder = path.join(root, PRIVATE_FOLDER);
  mkdirSync(folder, { recursive: true });
  writeWhole(path.join(folder, IDENTITY), JSON.stringify({ identity }) + '\n');
  return identity;
}

/** Writes a small file under a temporary name, flushes it and renames it into place; never over an existing file. */
export function writeWhole(target: string, content: string | Uint8Array): void {
  const temporary = `${target}.part`;
  const fd = openSync(temporary, 'w', 0o644);
  try {
    const bytes = typeof content === 'string' ? Buffer.from(content, 'utf8') : content;
    for (let at = 0; at < bytes.length;) at += writeSync(fd, bytes, at, bytes.length - at);
    fsyncSync(fd);
  } finally {
    closeSync(fd);
  }
  renameNew(temporary, target);
  syncFolder(path.dirname(target));
}

/** Renames, but never over something: a plain rename would silently replace it. EEXIST where the name is taken. */
export function renameNew(from: string | Buffer, to: string | Buffer): void {
  try {
    linkSync(from, to);
  } catch (error) {
    if (!['EPERM', 'ENOTSUP', 'EOPNOTSUPP', 'EMLINK', 'ENOSYS'].includes(codeOf(error))) throw error;
    // A file system without hard links: look first, then rename.
    if (exists(to)) throw Object.assign(new Error(`${String(to)} is there already.`), { code: 'EEXIST' });
    renameSync(from, to);
    return;
  }
  unlinkSync(from);
}

function exists(target: string | Buffer): boolean {
  try {
    statSync(target);
    return true;
  } catch (error) {
    if (isMissing(error)) return false;
    throw error;
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
