// Places for files that programs have to open by a path, and that nobody keeps: in the system's own folder for such, gone afterwards.
import { lstatSync, mkdirSync, mkdtempSync, readdirSync, renameSync, rmSync, statfsSync } from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';
import { type FileFacts, look } from './facts.ts';

/** `use` is given a path where nothing is yet. What lies there when it ends is removed, whatever became of it. */
export async function withScratch<T>(use: (path: string) => Promise<T>): Promise<T> {
  const folder = mkdtempSync(path.join(tmpdir(), 'keramion-'));
  try {
    return await use(path.join(folder, 'file'));
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

const MADE = 'keramion-made-';

/** Files that one work makes before it writes them elsewhere: in a folder that only it has, there until it ends, also when it is begun again. */
export class ScratchFolder {
  private readonly folder: string;

  /** @param mark of the work, made up by nobody else */
  constructor(mark: string) {
    this.folder = path.join(tmpdir(), `${MADE}${mark}`);
  }

  /** Where a file of this name is made; what lay there of an earlier try is gone. Throws where somebody else has the folder. */
  beginning(name: string): string {
    mkdirSync(this.folder, { mode: 0o700, recursive: true });
    const stats = lstatSync(this.folder);
    if (!stats.isDirectory() || stats.uid !== process.getuid!() || (stats.mode & 0o077) !== 0)
      throw Object.assign(new Error(`${this.folder} is somebody else's.`), { code: 'EACCES' });
    const place = path.join(this.folder, `${name}.begun`);
    rmSync(place, { force: true });
    return place;
  }

  /** It is whole now: it gets its name, and is what it is from here on. */
  made(name: string): FileFacts {
    renameSync(path.join(this.folder, `${name}.begun`), this.place(name));
    return this.facts(name)!;
  }

  place(name: string): string {
    return path.join(this.folder, name);
  }

  /** Null where no such file is there. */
  facts(name: string): FileFacts | null {
    const facts = look(this.place(name));
    return facts.is === 'file' ? facts : null;
  }

  drop(name: string): void {
    rmSync(this.place(name), { force: true });
  }

  remove(): void {
    rmSync(this.folder, { recursive: true, force: true });
  }
}

/** The marks of the work whose folders lie on this machine. */
export const scratchMarks = (): string[] =>
  readdirSync(tmpdir()).flatMap((name) => (name.startsWith(MADE) ? [name.slice(MADE.length)] : []));

/** Bytes free where such files are made. */
export function scratchFreeBytes(): number {
  const { bavail, bsize } = statfsSync(tmpdir());
  return bavail * bsize;
}

/** Where that is, for people. */
export const scratchPlace = (): string => tmpdir();
