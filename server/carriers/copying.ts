// The threads that move bytes between disks and carriers. Called by the steps that archive, restore and remove originals.
import { closeSync, constants, openSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import type { Wanted } from '#core/essence/cut/cut.ts';
import type { Expectation } from '#core/model.ts';
import type { HeldReason } from '#core/plan/plan.ts';
import { codeOf } from '#disk/facts.ts';
import { openToRead } from '#disk/content/content.ts';
import { ThreadPool } from '#disk/threads/pool.ts';
import type { CopyRequest, CopyResult, To } from './copy-thread.ts';

export type CarrierPool = ThreadPool<CopyRequest, CopyResult>;
export type { CopyResult, To };

export const carrierPool = (size = 2): CarrierPool =>
  new ThreadPool(path.join(path.dirname(fileURLToPath(import.meta.url)), 'copy-thread.ts'), size, { together: 4 });

interface Telling {
  progress?: (bytes: number) => void;
  stop?: Int32Array;
}

/** Why a source cannot be opened, by the words for what is held: a carrier that says the same is another matter. */
const SOURCE: Record<string, HeldReason> = {
  ENOENT: 'gone',
  ELOOP: 'not a file',
  EACCES: 'not permitted',
  EPERM: 'not permitted',
  EIO: 'unreadable',
};

/** Does what touches a source; what the disk says of it becomes a word for what is held. */
export function ofSource<T>(touch: () => T): T {
  try {
    return touch();
  } catch (error) {
    throw Object.assign(error as Error, { code: SOURCE[codeOf(error)] ?? codeOf(error) });
  }
}

interface From {
  from: string | Buffer;
  expected: Expectation;
}

/**
 * One reading of a file, or of a range of its frames, to all of these carriers. Rejects with the system's code where a carrier
 * says it; for the source with a word for what is held ('gone', 'changed', 'unreadable' …), 'stopped' or 'cannot_cut'.
 */
export async function writeToCarriers(
  pool: CarrierPool,
  {
    from,
    expected,
    part,
    to,
    mostPerSecond,
  }: From & { part: Wanted | null; to: readonly To[]; mostPerSecond?: number },
  telling: Telling,
): Promise<CopyResult> {
  const fd = ofSource(() => openToRead(from));
  try {
    return await pool.ask({ do: 'write', from: fd, expected, part, to, mostPerSecond }, telling);
  } finally {
    closeSync(fd);
  }
}

/** What a range of a file's frames will weigh, to the byte, and which frames it will have. Rejects as writing it would. */
export async function measurePart(
  pool: CarrierPool,
  { from, expected, part }: From & { part: Wanted },
  telling: Telling,
): Promise<CopyResult> {
  const fd = ofSource(() => openToRead(from));
  try {
    return await pool.ask({ do: 'measure', from: fd, expected, part }, telling);
  } finally {
    closeSync(fd);
  }
}

/** A range of the frames of a file of our own to another name that nothing has. Rejects as measuring it would. The caller removes it after an error. */
export async function cutOwn(
  pool: CarrierPool,
  { from, expected, part, to }: { from: string; expected: Expectation; part: Wanted; to: string },
  telling: Telling,
): Promise<CopyResult> {
  const source = openToRead(from);
  try {
    const fd = openSync(to, constants.O_WRONLY | constants.O_CREAT | constants.O_EXCL | constants.O_NOFOLLOW, 0o644);
    try {
      return await pool.ask({ do: 'cut', from: source, expected, part, to: fd }, telling);
    } finally {
      closeSync(fd);
    }
  } finally {
    closeSync(source);
  }
}

/** A file of a carrier to a name of our own that nothing has. The caller removes it after an error. */
export async function readFromCarrier(
  pool: CarrierPool,
  { from, to }: { from: Omit<Extract<CopyRequest, { do: 'read' }>, 'do' | 'to'>; to: string },
  telling: Telling,
): Promise<CopyResult> {
  const fd = openSync(to, constants.O_WRONLY | constants.O_CREAT | constants.O_EXCL | constants.O_NOFOLLOW, 0o644);
  try {
    return await pool.ask({ do: 'read', ...from, to: fd }, telling);
  } finally {
    closeSync(fd);
  }
}
