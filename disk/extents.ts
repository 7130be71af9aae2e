// How much of a file lies in blocks that other files hold as well: a copy that was made by sharing them frees nothing when it
// goes. Asked of filefrag, which asks the file system (FS_IOC_FIEMAP, Documentation/filesystems/fiemap.rst). Called by whoever
// compares files.
import { execFile } from 'node:child_process';
import { statfs } from 'node:fs/promises';
import { forPrograms } from './content/content.ts';

/** File systems whose files may share blocks, by the numbers that statfs(2) gives: Btrfs, XFS, bcachefs, OCFS2. */
const MAY_SHARE = new Set([0x9123683e, 0x58465342, 0xca451a4e, 0x7461636f]);
const WITHIN_MS = 20_000;
const MOST_BYTES = 64 << 20;

/** Whether files below a path may share their blocks at all; false where nobody can tell. */
export async function mayShareBlocks(at: string): Promise<boolean> {
  try {
    return MAY_SHARE.has((await statfs(at)).type);
  } catch {
    return false;
  }
}

/** Bytes of a file in shared blocks; null where its file system does not tell. A path into a folder that this process holds open will do. */
export function sharedBytes(place: string): Promise<number | null> {
  return new Promise((resolve) =>
    execFile(
      'filefrag',
      ['-v', '-b1024', '--', forPrograms(place)],
      { timeout: WITHIN_MS, maxBuffer: MOST_BYTES, env: { ...process.env, LC_ALL: 'C' } },
      (error, told) => resolve(error ? null : sharedIn(told)),
    ),
  );
}

/** Bytes of the extents marked as shared, of what filefrag tells of one file in blocks of 1024; null where it tells none. */
export function sharedIn(told: string): number | null {
  if (!/: \d+ extents? found\s*$/.test(told)) return null;
  let blocks = 0;
  for (const line of told.split('\n')) {
    const [, length, flags] = /^\s*\d+:\s*\d+\.\.\s*\d+:\s*\d+\.\.\s*\d+:\s*(\d+):(.*)$/.exec(line) ?? [];
    if (length !== undefined && /(^|[\s,])shared(,|$)/.test(flags!)) blocks += Number(length);
  }
  return blocks * 1024;
}
