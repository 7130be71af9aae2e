// Which volume or carrier a folder is: a random identity kept in Keramion's own folder on it. Looking never makes that
// folder, nor anything else; giving an identity does, when somebody registers the place.
import { randomUUID } from 'node:crypto';
import { mkdirSync, readFileSync } from 'node:fs';
import { access, constants, readFile, stat, statfs } from 'node:fs/promises';
import path from 'node:path';
import { roomOf } from '#core/places/space.ts';
import { codeOf, isMissing } from './facts.ts';
import { writeNew } from './write.ts';

/** Keramion's own folder on a volume or carrier. The reader passes it over. */
export const PRIVATE_FOLDER = '.keramion';
const IDENTITY = 'identity.json';

export type StoreLook =
  | {
      state: 'reachable';
      identity: string | null;
      totalBytes: number;
      freeBytes: number;
      credible: boolean;
      writable: boolean;
      /** Which folder it is, so that one disk under two paths is seen. */
      device: number;
      inode: number;
    }
  | { state: 'unreachable'; code: string };

/** Looks at the place where a volume or carrier should be: is it there, which one is it, how much is free. Writes nothing. */
export async function lookAtStore(root: string): Promise<StoreLook> {
  try {
    const stats = await stat(root);
    if (!stats.isDirectory()) return { state: 'unreachable', code: 'ENOTDIR' };
    return {
      state: 'reachable',
      identity: parsed(await readFile(path.join(root, PRIVATE_FOLDER, IDENTITY), 'utf8').catch(nothing)),
      ...roomOf(await statfs(root)),
      writable: await canWrite(root),
      device: stats.dev,
      inode: stats.ino,
    };
  } catch (error) {
    return { state: 'unreachable', code: codeOf(error) };
  }
}

/** A file system mounted for reading only says so when it is asked, without being written to. */
async function canWrite(root: string): Promise<boolean> {
  for (const folder of [path.join(root, PRIVATE_FOLDER), root])
    try {
      await access(folder, constants.W_OK);
      return true;
    } catch (error) {
      if (!isMissing(error)) return false;
    }
  return false;
}

const nothing = (error: unknown): string => {
  if (isMissing(error)) return '';
  throw error;
};

function parsed(text: string): string | null {
  try {
    const value = (JSON.parse(text) as { identity?: unknown } | null)?.identity;
    return typeof value === 'string' && value.length <= 64 ? value : null;
  } catch {
    return null;
  }
}

/** The identity a volume or carrier was given; null where it has none. */
export function readIdentity(root: string): string | null {
  try {
    return parsed(readFileSync(path.join(root, PRIVATE_FOLDER, IDENTITY), 'utf8'));
  } catch (error) {
    if (isMissing(error)) return null;
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
  const text = JSON.stringify({ identity }) + '\n';
  writeNew(path.join(folder, IDENTITY), text, path.join(folder, `identity.${randomUUID()}.new`));
  return identity;
}
