// Writes the demo's files: true heads, a little true content, the rest a hole. Where a file system keeps no holes the
// files are made smaller, and that is said.
import {
  closeSync,
  ftruncateSync,
  futimesSync,
  linkSync,
  mkdirSync,
  openSync,
  rmSync,
  statSync,
  writeSync,
} from 'node:fs';
import { execFileSync } from 'node:child_process';
import path from 'node:path';

export interface Writer {
  /** Divides every size; 1 where the file system keeps holes. */
  readonly shrink: number;
  /** Writes parts at their places, then makes the file `bytes` long; modified `modified`. */
  put(file: string, parts: readonly { at: number; bytes: Buffer }[], bytes: number, modified: Date): void;
  /** A second file of the same bytes and time; its holes stay holes. */
  copy(file: string, to: string): void;
  /** Another name for the same file. */
  link(file: string, to: string): void;
  sizeOf(file: string): number;
}

export function writer(root: string): Writer {
  const shrink = keepsHoles(root) ? 1 : 2000;
  const made = new Set<string>();
  return {
    shrink,
    put(file, parts, bytes, modified) {
      const place = path.join(root, file);
      const folder = path.dirname(place);
      if (!made.has(folder)) {
        mkdirSync(folder, { recursive: true });
        made.add(folder);
      }
      const fd = openSync(place, 'w', 0o644);
      try {
        for (const part of parts) writeSync(fd, part.bytes, 0, part.bytes.length, part.at);
        ftruncateSync(fd, bytes);
        futimesSync(fd, modified, modified);
      } finally {
        closeSync(fd);
      }
    },
    copy(file, to) {
      mkdirSync(path.dirname(path.join(root, to)), { recursive: true });
      execFileSync('cp', ['--sparse=always', '--preserve=timestamps', path.join(root, file), path.join(root, to)]);
    },
    link(file, to) {
      mkdirSync(path.dirname(path.join(root, to)), { recursive: true });
      linkSync(path.join(root, file), path.join(root, to));
    },
    sizeOf: (file) => statSync(path.join(root, file)).size,
  };
}

function keepsHoles(root: string): boolean {
  mkdirSync(root, { recursive: true });
  const probe = path.join(root, '.hole');
  const fd = openSync(probe, 'w');
  ftruncateSync(fd, 64 << 20);
  closeSync(fd);
  const kept = statSync(probe).blocks * 512 < 1 << 20;
  rmSync(probe);
  return kept;
}
