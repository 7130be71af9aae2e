// Which files are open on this machine right now, by device and inode. A file that a program has open is never removed.
// Sees the programs of this machine only, and of those only the ones whose files it may look at: what it cannot see, it
// says.
import { readdirSync, statSync } from 'node:fs';
import { codeOf, inodeOf } from './facts.ts';

export interface OpenFiles {
  /** False where there are programs whose open files cannot be seen. */
  known: boolean;
  /** Why not, in words; empty where all is known. */
  why: string;
  has(device: number, inode: number): boolean;
}

/** Looks through /proc once. A process that ends meanwhile has nothing open any more. */
export function openFiles(proc = '/proc'): OpenFiles {
  const open = new Set<string>();
  let unseen = 0;
  const has = (device: number, inode: number) => open.has(`${device}:${inode}`);
  let processes: string[];
  try {
    processes = readdirSync(proc).filter((name) => /^\d+$/.test(name));
  } catch {
    return { known: false, why: 'this system does not tell which files are open', has };
  }
  for (const process of processes) {
    const folder = `${proc}/${process}/fd`;
    try {
      for (const fd of readdirSync(folder)) {
        try {
          const stats = statSync(`${folder}/${fd}`);
          if (stats.isFile()) open.add(`${stats.dev}:${inodeOf(stats)}`);
        } catch (error) {
          // Closed meanwhile, or a file that was removed while it was open.
          if (codeOf(error) !== 'ENOENT') unseen++;
        }
      }
    } catch (error) {
      if (!['ENOENT', 'ESRCH'].includes(codeOf(error))) unseen++;
    }
  }
  const why =
    unseen === 0 ? '' : `${unseen} programs of other people run on this machine, and their files cannot be seen`;
  return { known: unseen === 0, why, has };
}

const LOOK_EVERY_MS = 500;

/** The same, looked at anew when the last look is older than half a second. */
export function freshOpenFiles(): () => OpenFiles {
  let seen: OpenFiles | null = null;
  let at = 0;
  return () => {
    if (!seen || Date.now() - at > LOOK_EVERY_MS) {
      seen = openFiles();
      at = Date.now();
    }
    return seen;
  };
}
