// Walks a volume with two threads and tells its sink what every folder holds. Knows no database: the sink says what is
// known and takes what is found. Called by the reading job and the benchmark.
import { lstatSync, realpathSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import type { KindRule } from '#core/kinds/kinds.ts';
import type { Duty } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { ThreadPool } from '../threads/pool.ts';
import { type AskOne, readLarge } from './large.ts';
import {
  type FolderAsked,
  type FolderFound,
  rowOfAsked,
  type SubFolder,
  type WalkRequest,
  type WalkResponse,
} from './protocol.ts';

type Known = Pick<FolderAsked, 'folderId' | 'projectId' | 'known'>;

/** Given by the caller: what is known, and where findings go. */
export interface WalkSink {
  /** Told the number of the file system before anything is read: nothing of another is. */
  begin?(device: number): Promise<void>;
  /** Number, owner and known fingerprint of a folder about to be read. */
  enter(path: string, folder: SubFolder, parentId: number | null): Known | Promise<Known>;
  /** A folder was read. Waiting here slows the walk down to what the sink can take. */
  found(path: string, folder: FolderFound): void | Promise<void>;
}

export interface WalkOptions {
  root: string;
  volumeId: number;
  duty: Duty;
  rules: readonly KindRule[];
  ruleMark: string;
  exclude: readonly string[];
  stop: Int32Array;
  /** From so many entries on a folder is parted between the threads. */
  largeFrom?: number;
  /** The folder to begin at, with its parent's number; left out for the volume's top. */
  from?: { path: string; raw: string | null; parentId: number | null };
}

export type WalkPool = ThreadPool<WalkRequest, WalkResponse>;

/**
 * Threads that walk. Two are as fast as the disks of most stations answer. Nothing they make outlives its answer by long: with
 * 12 MB for it they walk as fast as with four times as much.
 */
export const walkPool = (size = 2): WalkPool =>
  new ThreadPool(path.join(path.dirname(fileURLToPath(import.meta.url)), 'walk-thread.ts'), size, { shortLivedMb: 12 });

/** Folders asked for at once: more where they hold few entries, so that messages do not cost more than what they ask. */
const FOLDERS_A_REQUEST = 24;
const MOST_FOLDERS_A_REQUEST = 256;
const ENTRIES_A_REQUEST = 2_400;
const REQUESTS_A_THREAD = 2;
/** One thread looks at so many while another would begin. */
const LARGE_FROM = 12_000;

/** Walks from the volume's top. Throws the system's error where the top itself cannot be read. */
export async function walk(pool: WalkPool, options: WalkOptions, sink: WalkSink): Promise<void> {
  const root = realpathSync(options.root);
  const { dev: device } = lstatSync(root);
  await sink.begin?.(device);
  const { from = { path: '', raw: null, parentId: null }, ...plain } = options;
  const base = {
    ...plain,
    largeFrom: options.largeFrom ?? LARGE_FROM,
    root,
    device,
    exclude: options.exclude.map(real),
  };
  const top = { name: '', raw: from.raw };
  const waiting = [askedOf(from.path, from.raw, await sink.enter(from.path, top, from.parentId))];
  const running = new Set<Promise<void>>();
  let failure: unknown = null;
  let inFolder = ENTRIES_A_REQUEST / FOLDERS_A_REQUEST;

  const { stop, ...rest } = base;
  const askAll = async (folders: readonly FolderAsked[]) => {
    const response = await pool.ask({ ...rest, folders: folders.map(rowOfAsked) }, { stop });
    return response.folders.map((one, i) => (typeof one === 'number' ? sameLeaf(folders[i]!.folderId, one) : one));
  };
  const askOne: AskOne = async (one) => (await askAll([one]))[0];

  const readSome = async (folders: FolderAsked[]) => {
    const all = await askAll(folders);
    const entries = all.reduce((sum, found) => sum + found.entries + found.subFolders.length, 0);
    inFolder = (inFolder * 3 + entries / Math.max(1, all.length)) / 4;
    for (const [i, found] of all.entries()) {
      const asked = folders[i]!;
      for (const sub of found.subFolders) {
        const at = joinPath(asked.path, sub.name);
        const known = sink.enter(at, sub, asked.folderId);
        waiting.push(askedOf(at, sub.raw, known instanceof Promise ? await known : known));
      }
      const whole = found.state === 'large' ? await readLarge(askOne, asked, found, options.ruleMark) : found;
      const taken = whole && whole.state !== 'part' ? sink.found(asked.path, whole) : null;
      if (taken) await taken;
    }
  };
  while ((waiting.length > 0 || running.size > 0) && failure === null && Atomics.load(stop, 0) === 0) {
    while (waiting.length > 0 && running.size < pool.size * REQUESTS_A_THREAD) {
      // Small requests while little is waiting, so that both threads have work from the start.
      const most = Math.min(
        MOST_FOLDERS_A_REQUEST,
        Math.max(FOLDERS_A_REQUEST, ENTRIES_A_REQUEST / Math.max(1, inFolder)),
      );
      const share = Math.max(
        1,
        Math.min(Math.floor(most), Math.ceil(waiting.length / (pool.size * REQUESTS_A_THREAD))),
      );
      const task: Promise<void> = readSome(waiting.splice(-share))
        .catch((error: unknown) => void (failure ??= error))
        .finally(() => running.delete(task));
      running.add(task);
    }
    await Promise.race(running);
  }
  await Promise.all(running);
  if (failure !== null) throw failure;
}

// Field by field: a copy of an object with more added to it took a tenth of the main thread's time.
const askedOf = (path: string, raw: string | null, { folderId, projectId, known }: Known): FolderAsked => ({
  path,
  raw,
  folderId,
  projectId,
  known,
});

const NOTHING: never[] = [];
const sameLeaf = (folderId: number, entries: number): FolderFound => ({
  folderId,
  state: 'same',
  entries,
  notices: NOTHING,
  subFolders: NOTHING,
});

function real(place: string): string {
  try {
    return realpathSync(place);
  } catch {
    return place;
  }
}
