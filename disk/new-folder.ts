// A folder that somebody asked for by its path, outside of volumes and carriers: made new, and filled with text. Nothing that is
// there is ever written over.
import { appendFileSync, mkdirSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { codeOf } from './facts.ts';

export class NewFolder {
  private constructor(private readonly at: string) {}

  /** Null where something of this name is there already. Throws what the disk says, for example ENOENT of the folder above. */
  static make(at: string): NewFolder | null {
    try {
      mkdirSync(at);
    } catch (error) {
      if (codeOf(error) === 'EEXIST') return null;
      throw error;
    }
    return new NewFolder(at);
  }

  folder(name: string): void {
    mkdirSync(path.join(this.at, name));
  }

  write(name: string, text: string): void {
    writeFileSync(path.join(this.at, name), text, { flag: 'wx' });
  }

  append(name: string, text: string): void {
    appendFileSync(path.join(this.at, name), text);
  }

  /** What was begun and cannot be finished. */
  discard(): void {
    rmSync(this.at, { recursive: true, force: true });
  }
}
