// What lies where somebody looks for a folder to register: the folders of one folder, and what is mounted on this machine. Only looks;
// links are not followed, so that what is chosen is what is seen.
import { accessSync, constants, readdirSync, readFileSync, statfsSync } from 'node:fs';
import path from 'node:path';

export interface Place {
  path: string;
  totalBytes: number;
  freeBytes: number;
}

export interface FolderList extends Place {
  /** Null at the very top. */
  parent: string | null;
  /** Names, in their order; those with a dot before them left out. */
  folders: string[];
  files: number;
  /** Folders that there are beyond those told. */
  more: number;
  writable: boolean;
}

const MOST = 500;

/** Throws what the disk says, for example ENOENT or EACCES. */
export function listFolders(at: string): FolderList {
  const entries = readdirSync(at, { withFileTypes: true });
  const shown = entries.filter((entry) => !entry.name.startsWith('.'));
  const names = shown.filter((entry) => entry.isDirectory()).map((entry) => entry.name);
  names.sort((a, b) => a.localeCompare(b, 'en', { numeric: true }));
  const parent = path.dirname(at);
  return {
    ...placeAt(at),
    parent: parent === at ? null : parent,
    folders: names.slice(0, MOST),
    files: shown.filter((entry) => entry.isFile()).length,
    more: Math.max(0, names.length - MOST),
    writable: isWritable(at),
  };
}

function placeAt(at: string): Place {
  const { blocks, bavail, bsize } = statfsSync(at);
  return { path: at, totalBytes: blocks * bsize, freeBytes: bavail * bsize };
}

function isWritable(at: string): boolean {
  try {
    accessSync(at, constants.W_OK);
    return true;
  } catch {
    return false;
  }
}

/** File systems of the kernel itself, of packages, and in memory: nothing is kept there. */
const NOT_KEPT =
  /^(proc|sysfs|devtmpfs|devpts|tmpfs|cgroup2?|securityfs|debugfs|tracefs|pstore|bpf|mqueue|hugetlbfs|configfs|fusectl|autofs|squashfs|efivarfs|binfmt_misc|nsfs|ramfs|rpc_pipefs)$/;

/** What is mounted on this machine and can hold files, the longest paths last. Source: proc(5), mountinfo. */
export function mountedPlaces(mountinfo = readFileSync('/proc/self/mountinfo', 'utf8')): Place[] {
  const paths = new Set<string>();
  for (const line of mountinfo.split('\n')) {
    const [before, after] = line.split(' - ');
    const at = before?.split(' ')[4];
    const type = after?.split(' ')[0];
    if (!at || !type || NOT_KEPT.test(type) || /^\/(proc|sys|dev|run|boot|etc)(\/|$)/.test(at)) continue;
    paths.add(at.replace(/\\([0-7]{3})/g, (_, octal: string) => String.fromCharCode(parseInt(octal, 8))));
  }
  return [...paths].sort().flatMap((at) => {
    try {
      return [placeAt(at)];
    } catch {
      return [];
    }
  });
}
