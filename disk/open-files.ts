// Which files are open on this machine right now, by device and inode. A file that a program has open is never removed.
// Sees the programs of this machine only, and of those only the ones whose files it may look at: what it cannot see, it
// says.
import { readdirSync, readFileSync, readlinkSync, realpathSync, statSync } from 'node:fs';
import path from 'node:path';
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

export interface OpenPath<Key> {
  /** Which of the folders it is below, and its path in there. */
  below: Key;
  path: string;
  /** The name of one program that has it open. */
  program: string;
}

const MOST_OPEN = 5_000;

/**
 * Files below these folders that another program of this machine has open, by their paths: to be told before anything is
 * done. What may be removed is decided by `openFiles`, which knows a file by more than its path. What cannot be seen is left out.
 */
export function openPaths<Key>(folders: ReadonlyMap<Key, string>, proc = '/proc'): OpenPath<Key>[] {
  const roots = [...folders].flatMap(([key, folder]) => {
    const root = attempt(() => realpathSync(folder));
    return root === null ? [] : [{ key, root: root === path.sep ? root : `${root}${path.sep}` }];
  });
  // Of a folder inside another the inner one is meant.
  roots.sort((a, b) => b.root.length - a.root.length);
  const found = new Map<string, OpenPath<Key>>();
  for (const id of attempt(() => readdirSync(proc)) ?? []) {
    if (!/^\d+$/.test(id) || id === String(process.pid)) continue;
    for (const fd of attempt(() => readdirSync(`${proc}/${id}/fd`)) ?? []) {
      const at = attempt(() => readlinkSync(`${proc}/${id}/fd/${fd}`));
      const below = at === null || found.has(at) ? undefined : roots.find(({ root }) => at.startsWith(root));
      if (!at || !below) continue;
      if (found.size >= MOST_OPEN) return [...found.values()];
      const program = attempt(() => readFileSync(`${proc}/${id}/comm`, 'utf8').trim()) ?? '';
      found.set(at, { below: below.key, path: at.slice(below.root.length), program });
    }
  }
  return [...found.values()];
}

/** Null where the system does not tell: it is of another, or gone meanwhile. */
function attempt<T>(ask: () => T): T | null {
  try {
    return ask();
  } catch {
    return null;
  }
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
