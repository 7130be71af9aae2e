// What a file is at this moment: which one it is, its size and its times, rounded the same way wherever they are compared.
import { lstatSync, type Stats } from 'node:fs';
import type { Expectation } from '#core/model.ts';

/** Modified time in whole microseconds since 1970, the finest that a double holds exactly. */
export const modifiedUsOf = (stats: Stats): number => Math.round(stats.mtimeMs * 1000);
/** When anything of it last changed, its name and owner included. */
export const changedUsOf = (stats: Stats): number => Math.round(stats.ctimeMs * 1000);
/** Numbers beyond what a double holds are folded, the same way everywhere. */
export const inodeOf = (stats: Stats): number => (Number.isSafeInteger(stats.ino) ? stats.ino : stats.ino % 2 ** 52);

/** Everything that says which file it is, and that it is still the same. */
export type FileFacts = { [Key in keyof Expectation]-?: number };

/** `links`: how many names it has; `allocatedBytes`: what it takes on the medium, less than its size where it has holes. */
export type Facts =
  | ({ is: 'file'; links: number; allocatedBytes: number } & FileFacts)
  | { is: 'folder' | 'link' | 'other' }
  | { is: 'gone' };

/** Looks without following a link. Errors other than 'not there' are thrown with their code. */
export function look(path: string | Buffer): Facts {
  let stats: Stats | undefined;
  try {
    // An error is dear, and that nothing is there is the usual answer.
    stats = lstatSync(path, { throwIfNoEntry: false });
  } catch (error) {
    if (!isMissing(error)) throw error;
  }
  if (!stats) return { is: 'gone' };
  if (stats.isFile()) return { is: 'file', links: stats.nlink, allocatedBytes: stats.blocks * 512, ...factsOf(stats) };
  return { is: stats.isDirectory() ? 'folder' : stats.isSymbolicLink() ? 'link' : 'other' };
}

export const factsOf = (stats: Stats): FileFacts => ({
  sizeBytes: stats.size,
  modifiedUs: modifiedUsOf(stats),
  device: stats.dev,
  inode: inodeOf(stats),
  changedUs: changedUsOf(stats),
});

const fits = (known: number | null | undefined, is: number) => known === null || known === undefined || known === is;

/** The very same file with the same content, as far as was known: also nothing of it changed since. */
export const isUnchanged = (is: FileFacts, known: Expectation): boolean =>
  isSameFile(is, known) && fits(known.changedUs, is.changedUs);

/**
 * The same without the time at which anything last changed: giving a file another name changes that, so it is left out
 * where the name was changed by us.
 */
export const isSameFile = (is: FileFacts, known: Expectation): boolean =>
  is.sizeBytes === known.sizeBytes &&
  is.modifiedUs === known.modifiedUs &&
  fits(known.device, is.device) &&
  fits(known.inode, is.inode);

/** True for the error of a path that is not there. */
export function isMissing(error: unknown): boolean {
  const code = codeOf(error);
  return code === 'ENOENT' || code === 'ENOTDIR';
}

/** The system's code of an error, 'error' where it has none. */
export function codeOf(error: unknown): string {
  const code = (error as { code?: unknown } | null)?.code;
  return typeof code === 'string' ? code : 'error';
}
