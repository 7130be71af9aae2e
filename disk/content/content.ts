// Copying and hashing files in warm threads, and reading back what was written from the medium itself rather than from
// memory. Called by the archiving and restoring jobs.
import { execFile } from 'node:child_process';
import { closeSync, constants, openSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { promisify } from 'node:util';
import { ThreadPool } from '../threads/pool.ts';
import type { Expectation } from '#core/model.ts';
import type { ContentRequest, ContentResult, ManyRequest } from './content-thread.ts';

export type ContentPool = ThreadPool<ContentRequest | ManyRequest, ContentResult>;
export type { ContentRequest, ContentResult };

export const contentPool = (size = 2): ContentPool =>
  new ThreadPool(path.join(path.dirname(fileURLToPath(import.meta.url)), 'content-thread.ts'), size);

const run = promisify(execFile);

export interface Reading {
  expected?: Expectation;
  sha512: boolean;
  progress?: (bytes: number) => void;
  stop?: Int32Array;
}

/** Opens a file without following a link: its number stays that file's until it is closed. */
export const openToRead = (place: string | Buffer): number =>
  openSync(place, constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK);

/** Sums a file, reading it whole. Rejects with the system's code, or 'changed', 'not a file', 'stopped'. */
export async function sumFile(pool: ContentPool, place: string | Buffer, reading: Reading): Promise<ContentResult> {
  const { expected, sha512, ...asking } = reading;
  const from = openToRead(place);
  try {
    return await pool.ask({ from, expected, sha512 }, asking);
  } finally {
    closeSync(from);
  }
}

/** As many as one question takes: open files are not without number. */
export const MOST_AT_ONCE = 128;

/**
 * XXH64 of many files, of their ends or of their whole, in their order; null where one is not what it was, or cannot be
 * read. What the system refuses while they are opened counts as not read too.
 */
export async function sumMany(
  pool: ContentPool,
  files: readonly { place: () => string | Buffer; expected: Expectation }[],
  { sums, stop }: { sums: ManyRequest['sums']; stop?: Int32Array },
): Promise<(string | null)[]> {
  const told: (string | null)[] = files.map(() => null);
  const open: { at: number; from: number; expected: Expectation }[] = [];
  try {
    for (const [at, { place, expected }] of files.entries())
      try {
        open.push({ at, from: openToRead(place()), expected });
      } catch {
        // Not there, a link by now, or not ours to read: it is left out.
      }
    const { many = [] } = await pool.ask(
      { sums, files: open.map(({ from, expected }) => ({ from, expected })) },
      { stop },
    );
    for (const [i, { at }] of open.entries()) told[at] = many[i] ?? null;
    return told;
  } finally {
    for (const { from } of open) closeSync(from);
  }
}

/** Copies a file under a name of our own that nothing has, and flushes it. The caller removes it after an error. */
export async function copyFile(
  pool: ContentPool,
  { from, to }: { from: string | Buffer; to: string },
  reading: Reading,
): Promise<ContentResult> {
  const { expected, sha512, ...asking } = reading;
  const source = openToRead(from);
  try {
    const target = openSync(to, constants.O_RDWR | constants.O_CREAT | constants.O_EXCL | constants.O_NOFOLLOW, 0o600);
    try {
      return await pool.ask({ from: source, to: target, expected, sha512 }, asking);
    } finally {
      closeSync(target);
    }
  } finally {
    closeSync(source);
  }
}

/** A place as another program of this machine finds it: our open folders are reached through our own process. */
export const forPrograms = (place: string): string => place.replace(/^\/proc\/self\//, `/proc/${process.pid}/`);

/**
 * Gives a copy the mode, owner, times and extended attributes of its source, with coreutils' cp. Gives what could not be
 * kept, in words; empty where everything was.
 */
export async function keepAttributes(from: string, to: string): Promise<string> {
  const with_ = (what: string) =>
    run('cp', [
      '--attributes-only',
      '--no-dereference',
      `--preserve=${what}`,
      '--',
      forPrograms(from),
      forPrograms(to),
    ]);
  const lost: string[] = [];
  // Times last: nothing after them may change anything.
  for (const [what, words] of [
    ['ownership', 'its owner'],
    ['mode', 'its permissions'],
    ['xattr', 'its extended attributes'],
    ['timestamps', 'its times'],
  ] as const)
    await with_(what).catch(() => lost.push(words));
  return lost.join(', ');
}

/**
 * Asks the system to forget what it holds of a flushed file in memory, so that the next reading comes from the medium.
 * Uses dd of coreutils (posix_fadvise); where it is not there, nothing happens and false is returned.
 */
export async function dropFromMemory(file: string): Promise<boolean> {
  try {
    await run('dd', [`if=${forPrograms(file)}`, 'iflag=nocache', 'count=0', 'status=none']);
    return true;
  } catch {
    return false;
  }
}
