// Small pictures of media, made by ffmpeg a few at a time and kept in a folder of Keramion's own that never grows beyond a
// bound: those not looked at for longest go first. A picture that cannot be made is remembered as an empty file.
import { execFile } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, renameSync, rmSync, utimesSync, writeFileSync } from 'node:fs';
import { readdir, rm, stat } from 'node:fs/promises';
import path from 'node:path';

const AT_ONCE = 2;
const MOST_WAITING = 200;
const TAKES_AT_MOST_MS = 15_000;

export interface PosterWish {
  /** Names the picture: another key for another file, version or moment of it. */
  key: string;
  media: string;
  /** Where in the media, in seconds. */
  seconds: number;
  height: number;
}

export interface PosterStore {
  /** The picture as JPEG; null where none can be made, or too many are being made. */
  get(wish: PosterWish): Promise<Buffer | null>;
}

/** @param mostBytes the bound of the folder */
export function posterStore(folder: string, mostBytes: number): PosterStore {
  const making = new Map<string, Promise<Buffer | null>>();
  const waiting: (() => void)[] = [];
  let running = 0;
  /** What lies in the folder; Infinity until it was counted, once. */
  let held = Infinity;
  let added = 0;
  let bounding = false;
  const keepWithin = async () => {
    if (bounding) return;
    bounding = true;
    try {
      while (held + added > mostBytes) {
        // What is added meanwhile may be counted twice: then it is looked at once more.
        added = 0;
        held = await bound(folder, mostBytes);
      }
    } catch {
      // The folder cannot be looked through now: the next picture tries again.
    } finally {
      bounding = false;
    }
  };
  const turn = async () => {
    if (running >= AT_ONCE) await new Promise<void>((resolve) => waiting.push(resolve));
    running++;
  };
  const make = async (wish: PosterWish, place: string): Promise<Buffer | null> => {
    await turn();
    try {
      mkdirSync(path.dirname(place), { recursive: true });
      const picture = await frameOf(wish, `${place}.part`);
      writeFileSync(`${place}.new`, picture ?? '');
      renameSync(`${place}.new`, place);
      added += picture?.length ?? 0;
      void keepWithin();
      return picture;
    } finally {
      running--;
      waiting.shift()?.();
    }
  };
  return {
    async get(wish) {
      if (!/^[\w-]+$/.test(wish.key)) throw new Error('A picture has a key of letters, digits and lines.');
      const place = path.join(folder, wish.key.slice(-2), `${wish.key}.jpg`);
      const known = kept(place);
      if (known) return known.length > 0 ? known : null;
      const open = making.get(wish.key);
      if (open) return open;
      if (making.size >= MOST_WAITING) return null;
      const work = make(wish, place).finally(() => making.delete(wish.key));
      making.set(wish.key, work);
      return work;
    },
  };
}

function kept(place: string): Buffer | null {
  if (!existsSync(place)) return null;
  try {
    const now = new Date();
    utimesSync(place, now, now);
    return readFileSync(place);
  } catch {
    // It went to keep the bound.
    return null;
  }
}

function frameOf({ media, seconds, height }: PosterWish, to: string): Promise<Buffer | null> {
  const args = [
    '-v',
    'error',
    '-nostdin',
    '-protocol_whitelist',
    'file',
    '-ss',
    seconds.toFixed(3),
    '-i',
    `file:${media}`,
  ];
  const picture = [
    '-an',
    '-frames:v',
    '1',
    '-vf',
    `scale=-2:${height}`,
    '-q:v',
    '6',
    '-f',
    'image2',
    '-update',
    '1',
    '-y',
  ];
  return new Promise((resolve) => {
    execFile(
      'ffmpeg',
      [...args, ...picture, `file:${to}`],
      { timeout: TAKES_AT_MOST_MS, killSignal: 'SIGKILL' },
      (error) => {
        let made: Buffer | null = null;
        if (!error && existsSync(to)) made = readFileSync(to);
        rmSync(to, { force: true });
        resolve(made && made.length > 0 ? made : null);
      },
    );
  });
}

/** Removes what was not looked at for longest until the folder is within three quarters of its bound; gives the bytes left. */
async function bound(folder: string, mostBytes: number): Promise<number> {
  const all: { place: string; size: number; mtimeMs: number }[] = [];
  for (const entry of await readdir(folder, { recursive: true, withFileTypes: true })) {
    if (!entry.isFile() || !entry.name.endsWith('.jpg')) continue;
    const place = path.join(entry.parentPath, entry.name);
    const { size, mtimeMs } = await stat(place);
    all.push({ place, size, mtimeMs });
  }
  let bytes = all.reduce((sum, file) => sum + file.size, 0);
  if (bytes <= mostBytes) return bytes;
  for (const file of all.sort((a, b) => a.mtimeMs - b.mtimeMs)) {
    if (bytes <= mostBytes * 0.75) break;
    await rm(file.place, { force: true });
    bytes -= file.size;
  }
  return bytes;
}
