// What a file is at this moment: size and modified time, rounded the same way wherever they are compared.
import { lstatSync, type Stats } from 'node:fs';
import type { Expectation } from '#core/model.ts';

/** Modified time in whole microseconds since 1970, the finest that a double holds exactly. */
export const modifiedUsOf = (stats: Stats): number => Math.round(stats.mtimeMs * 1000);

export type Facts =
  | ({ is: 'file' } & Expectation & { device: number; inode: number })
  | { is: 'folder' | 'link' | 'other' }
  | { is: 'gone' };

/** Looks without following a link. Errors other than 'not there' are thrown with their code. */
export function look(path: string | Buffer): Facts {
  let stats: Stats;
  try {
    stats = lstatSync(path);
  } catch (error) {
    if (isMissing(error)) return { is: 'gone' };
    throw error;
  }
  if (stats.isFile()) return { is: 'file', ...expectationOf(stats), device: stats.dev, inode: stats.ino };
  return { is: stats.isDirectory() ? 'folder' : stats.isSymbolicLink() ? 'link' : 'other' };
}

export const expectationOf = (stats: Stats): Expectation => ({
  sizeBytes: stats.size,
  modifiedUs: modifiedUsOf(stats),
});

export const sameFacts = (a: Expectation, b: Expectation): boolean =>
  a.sizeBytes === b.sizeBytes && a.modifiedUs === b.modifiedUs;

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
