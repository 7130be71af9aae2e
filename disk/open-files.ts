// Which files are open on this machine right now, by device and inode. A file that a program has open is never removed.
// Sees the programs of this machine only; on systems without /proc it sees none, and says so.
import { readdirSync, statSync } from 'node:fs';

export interface OpenFiles {
  /** False where this machine cannot tell. */
  known: boolean;
  has(device: number, inode: number): boolean;
}

/** Looks through /proc once. Processes that vanish or belong to others are passed over. */
export function openFiles(): OpenFiles {
  const open = new Set<string>();
  let processes: string[];
  try {
    processes = readdirSync('/proc').filter((name) => /^\d+$/.test(name));
  } catch {
    return { known: false, has: () => false };
  }
  for (const process of processes) {
    const folder = `/proc/${process}/fd`;
    let fds: string[];
    try {
      fds = readdirSync(folder);
    } catch {
      continue;
    }
    for (const fd of fds) {
      try {
        const stats = statSync(`${folder}/${fd}`);
        if (stats.isFile()) open.add(`${stats.dev}:${stats.ino}`);
      } catch {
        continue;
      }
    }
  }
  return { known: true, has: (device, inode) => open.has(`${device}:${inode}`) };
}
