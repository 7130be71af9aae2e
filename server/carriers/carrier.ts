// What an archive is written to and read from. A disk carrier is a folder; a tape library or a remote store stands
// behind the same interface. Owned by the archiving and restoring jobs.
import { existsSync, mkdirSync, readdirSync, readFileSync, renameSync, rmSync, statfsSync, statSync } from 'node:fs';
import path from 'node:path';
import { type ContentPool, type ContentResult, dropFromMemory } from '#disk/content/content.ts';
import { absolute, absoluteText, locate } from '#disk/paths.ts';
import { PRIVATE_FOLDER, renameNew, syncFolder, writeWhole } from '#disk/private.ts';

export interface WriteOptions {
  expected: { sizeBytes: number; modifiedUs: number };
  sha512: boolean;
  progress: (bytes: number) => void;
  stop: Int32Array;
}

/** An archive that is being written: nothing of it has a final name until it is sealed. */
export interface ArchiveSink {
  /** Copies one file in. Safe to call again after a killed run. */
  copyIn(from: string | Buffer, to: string, options: WriteOptions): Promise<ContentResult>;
  writeText(to: string, text: string): void;
  readText(at: string): string;
  /** Reads a file whole from the medium and sums it. */
  readBack(at: string, options: Omit<WriteOptions, 'expected'>): Promise<ContentResult>;
  /** Gives the whole its final name. Until then it can be thrown away. */
  seal(): void;
  isSealed(): boolean;
  /** True while there is something begun and not sealed. */
  isBegun(): boolean;
  discard(): void;
}

/** A sealed archive, to be read. */
export interface ArchiveSource {
  readText(at: string): string;
  /** The real place of a file of the archive; throws where it leads out of it. */
  place(at: string): string;
  sizeOf(at: string): number;
}

export interface Carrier {
  freeBytes(): number;
  has(folder: string): boolean;
  sink(folder: string, key: string, pool: ContentPool): ArchiveSink;
  source(folder: string): ArchiveSource;
}

/** A carrier that is a folder of this machine. Its free space is what its capacity and its file system both leave. */
export function folderCarrier(root: string, capacityBytes: number): Carrier {
  return {
    freeBytes: () => {
      const fs = statfsSync(root);
      return Math.max(0, Math.min(fs.bavail * fs.bsize, capacityBytes - usedBytes(root)));
    },
    has: (folder) => existsSync(absoluteText(root, folder)),
    sink: (folder, key, pool) => new FolderSink(root, folder, key, pool),
    source: (folder) => {
      const base = absoluteText(root, folder);
      return {
        readText: (at) => readFileSync(locate(base, { path: at }), 'utf8'),
        place: (at) => locate(base, { path: at }) as string,
        sizeOf: (at) => statSync(locate(base, { path: at })).size,
      };
    },
  };
}

/** Bytes of the sealed archives on a folder carrier, by their files' sizes. */
function usedBytes(root: string): number {
  let sum = 0;
  const open = readdirSync(root)
    .filter((name) => name !== PRIVATE_FOLDER)
    .map((name) => path.join(root, name));
  for (let at = open.pop(); at !== undefined; at = open.pop()) {
    const stats = statSync(at);
    if (stats.isDirectory()) open.push(...readdirSync(at).map((name) => path.join(at!, name)));
    else sum += stats.size;
  }
  return sum;
}

class FolderSink implements ArchiveSink {
  private readonly begun: string;
  private readonly final: string;

  constructor(
    root: string,
    folder: string,
    key: string,
    private readonly pool: ContentPool,
  ) {
    this.begun = path.join(root, PRIVATE_FOLDER, `writing-${key}`);
    this.final = absoluteText(root, folder);
  }

  async copyIn(
    from: string | Buffer,
    to: string,
    { expected, sha512, progress, stop }: WriteOptions,
  ): Promise<ContentResult> {
    const target = this.prepare(to);
    const temporary = `${target}.part`;
    rmSync(temporary, { force: true });
    rmSync(target, { force: true });
    const result = await this.pool.ask({ from, to: temporary, expected, sha512 }, { progress, stop });
    renameNew(temporary, target);
    syncFolder(path.dirname(target));
    return result;
  }

  writeText(to: string, text: string): void {
    const target = this.prepare(to);
    rmSync(target, { force: true });
    writeWhole(target, text);
  }

  readText(at: string): string {
    return readFileSync(absoluteText(this.begun, at), 'utf8');
  }

  async readBack(at: string, { sha512, progress, stop }: Omit<WriteOptions, 'expected'>): Promise<ContentResult> {
    const place = absoluteText(this.begun, at);
    await dropFromMemory(place);
    return this.pool.ask({ from: place, sha512 }, { progress, stop });
  }

  seal(): void {
    if (existsSync(this.final)) throw Object.assign(new Error(`${this.final} is there already.`), { code: 'EEXIST' });
    renameSync(this.begun, this.final);
    syncFolder(path.dirname(this.final));
  }

  isSealed(): boolean {
    return existsSync(this.final) && !existsSync(this.begun);
  }

  isBegun(): boolean {
    return existsSync(this.begun);
  }

  discard(): void {
    rmSync(this.begun, { recursive: true, force: true });
  }

  private prepare(to: string): string {
    mkdirSync(this.begun, { recursive: true });
    const target = absolute(this.begun, { path: to }) as string;
    mkdirSync(path.dirname(target), { recursive: true });
    return target;
  }
}
