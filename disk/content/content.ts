// Copying and hashing files in warm threads, and reading back what was written from the medium itself rather than from
// memory. Called by the archiving and restoring jobs.
import { execFile } from 'node:child_process';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { promisify } from 'node:util';
import { ThreadPool } from '../threads/pool.ts';
import type { ContentRequest, ContentResult } from './content-thread.ts';

export type ContentPool = ThreadPool<ContentRequest, ContentResult>;
export type { ContentRequest, ContentResult };

export const contentPool = (size = 2): ContentPool =>
  new ThreadPool(path.join(path.dirname(fileURLToPath(import.meta.url)), 'content-thread.ts'), size);

const run = promisify(execFile);

/**
 * Asks the system to forget what it holds of a flushed file in memory, so that the next reading comes from the medium.
 * Uses dd of coreutils (posix_fadvise); where it is not there, nothing happens and false is returned.
 */
export async function dropFromMemory(file: string): Promise<boolean> {
  try {
    await run('dd', [`if=${file}`, 'iflag=nocache', 'count=0', 'status=none']);
    return true;
  } catch {
    return false;
  }
}
