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
  const hidden = new Set<string>();
  const has = (device: number, inode: number) => open.has(`${device}:${inode}`);
  let processes: string[];
  try {
    // The first process starts all others and opens nobody's files; it may not be looked at even by root.
    processes = readdirSync(proc).filter((name) => /^\d+$/.test(name) && name !== '1');
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
          if (!GONE.has(codeOf(error))) hidden.add(process);
        }
      }
    } catch (error) {
      if (!GONE.has(codeOf(error))) hidden.add(process);
    }
  }
  const why =
    hidden.size === 0
      ? ''
      : `${hidden.size} programs of others run on this machine, and their open files cannot be seen`;
  return { known: hidden.size === 0, why, has };
}

/** The process, or what it had open, is gone meanwhile. */
const GONE = new Set(['ENOENT', 'ESRCH']);

const LOOK_EVERY_MS = 500;

/**
 * The same, looked at anew when the last look is older than half a second.
 * @param trusting true where the house takes what cannot be seen as closed
 */
export function freshOpenFiles(trusting = false): () => OpenFiles {
  let seen: OpenFiles | null = null;
  let at = 0;
  return () => {
    if (!seen || Date.now() - at > LOOK_EVERY_MS) {
      seen = openFiles();
      if (trusting) seen.known = true;
      at = Date.now();
    }
    return seen;
  };
}
