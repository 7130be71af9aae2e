// Backups in a folder that the house has chosen, each a file and its sum beside it (as `sha256sum -c` takes it). Written under a
// name that is not one yet, read back, and only then given theirs; nothing of anybody else's is touched.
import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream, mkdirSync, readdirSync, statSync } from 'node:fs';
import path from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { dropFromMemory } from './content/content.ts';
import { removeOwn, renameNew, syncFolder, writeNew } from './write.ts';

export interface BackupFile {
  name: string;
  bytes: number;
  modifiedMs: number;
}

const SUM = '.sha256';

export class BackupFolder {
  private constructor(private readonly at: string) {}

  /** Makes the folder where it is not there. Throws what the disk says. */
  static open(at: string): BackupFolder {
    mkdirSync(at, { recursive: true, mode: 0o700 });
    return new BackupFolder(at);
  }

  /** Those whose names fit and that are whole, the oldest first. */
  list(fits: RegExp): BackupFile[] {
    const names = readdirSync(this.at);
    return names
      .filter((name) => fits.test(name) && names.includes(name + SUM))
      .map((name) => {
        const { size, mtimeMs } = statSync(path.join(this.at, name));
        return { name, bytes: size, modifiedMs: mtimeMs };
      })
      .sort((a, b) => a.modifiedMs - b.modifiedMs);
  }

  /**
   * Writes one whole and reads it back from the medium. `check` is asked before it gets its name and may throw. After any error
   * nothing of it is left.
   */
  async write(name: string, content: Readable, check: () => Promise<void>): Promise<{ bytes: number; sha256: string }> {
    const [target, temporary] = [path.join(this.at, name), path.join(this.at, `.${name}.unfinished`)];
    try {
      removeOwn(temporary);
      const written = createHash('sha256');
      content.on('data', (chunk: Buffer) => void written.update(chunk));
      await pipeline(content, createWriteStream(temporary, { flags: 'wx', mode: 0o600, flush: true }));
      const sha256 = written.digest('hex');
      await dropFromMemory(temporary);
      if ((await sumOf(temporary)) !== sha256)
        throw Object.assign(new Error(`${name} does not read back as it was written.`), { code: 'EIO' });
      await check();
      const bytes = statSync(temporary).size;
      // The sum first: one without a file is nothing, a file without its sum would be taken for whole.
      writeNew(target + SUM, `${sha256}  ${name}\n`, `${temporary}.sum`);
      renameNew(temporary, target);
      syncFolder(this.at);
      return { bytes, sha256 };
    } catch (error) {
      removeOwn(temporary);
      throw error;
    }
  }

  /** What was begun a day ago and never finished: whoever wrote it was killed. */
  tidy(fits: RegExp, nowMs: number): void {
    for (const name of readdirSync(this.at)) {
      const own = /^\.(.*)\.unfinished(\.sum)?$/.exec(name)?.[1];
      if (own === undefined || !fits.test(own)) continue;
      const place = path.join(this.at, name);
      if (nowMs - statSync(place).mtimeMs > 86_400_000) removeOwn(place);
    }
  }

  remove(name: string): void {
    removeOwn(path.join(this.at, name));
    removeOwn(path.join(this.at, name + SUM));
  }

  place(name: string): string {
    return path.join(this.at, name);
  }
}

/** A backup by its path, as it is read. Throws what the disk says. */
export const readBackup = (at: string): Readable => createReadStream(at);

export async function sumOf(at: string): Promise<string> {
  const sum = createHash('sha256');
  for await (const chunk of createReadStream(at) as AsyncIterable<Buffer>) sum.update(chunk);
  return sum.digest('hex');
}
