// A place for one file that a program of ours has to open by a path, while it is looked at: in the system's own folder for such, gone
// afterwards.
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';

/** `use` is given a path where nothing is yet. What lies there when it ends is removed, whatever became of it. */
export async function withScratch<T>(use: (path: string) => Promise<T>): Promise<T> {
  const folder = mkdtempSync(path.join(tmpdir(), 'keramion-'));
  try {
    return await use(path.join(folder, 'file'));
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}
