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
import type { FolderAsked, FolderFound, SubFolder, WalkRequest, WalkResponse } from './protocol.ts';

/** Given by the caller: what is known, and where findings go. */
export interface WalkSink {
  /** Told the number of the file system before anything is read: nothing of another is. */
  begin?(device: number): Promise<void>;
  /** Number, owner and known fingerprint of a folder about to be read. */
  enter(
    path: string,
    folder: SubFolder,
    parentId: number | null,
  ): Promise<Pick<FolderAsked, 'folderId' | 'projectId' | 'known'>>;
  /** A folder was read. Waiting here slows the walk down to what the sink can take. */
  found(path: string, folder: FolderFound): Promise<void>;
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

/** Threads that walk. Two are as fast as the disks of most stations answer. */
export const walkPool = (size = 2): WalkPool =>
  new ThreadPool(path.join(path.dirname(fileURLToPath(import.meta.url)), 'walk-thread.ts'), size);

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
  const waiting: FolderAsked[] = [
    { path: from.path, raw: from.raw, ...(await sink.enter(from.path, top, from.parentId)) },
  ];
  const running = new Set<Promise<void>>();
  let failure: unknown = null;
  let inFolder = ENTRIES_A_REQUEST / FOLDERS_A_REQUEST;

  const readSome = async (folders: FolderAsked[]) => {
    const { stop, ...rest } = base;
    const response = await pool.ask({ ...rest, folders }, { stop });
    const ask: AskOne = async (one) => (await pool.ask({ ...rest, folders: [one] }, { stop })).folders[0];
    const entries = response.folders.reduce((sum, found) => sum + found.entries + found.subFolders.length, 0);
    inFolder = (inFolder * 3 + entries / Math.max(1, response.folders.length)) / 4;
    for (const [i, found] of response.folders.entries()) {
      const asked = folders[i]!;
      for (const sub of found.subFolders) {
        const at = joinPath(asked.path, sub.name);
        waiting.push({ path: at, raw: sub.raw, ...(await sink.enter(at, sub, asked.folderId)) });
      }
      const whole = found.state === 'large' ? await readLarge(ask, asked, found, options.ruleMark) : found;
      if (whole && whole.state !== 'part') await sink.found(asked.path, whole);
    }
  };
  while ((waiting.length > 0 || running.size > 0) && failure === null && Atomics.load(options.stop, 0) === 0) {
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

function real(place: string): string {
  try {
    return realpathSync(place);
  } catch {
    return place;
  }
}
