// Makes a tree of small files for the reading benchmark: folders of 100 files, spread as on a scratch volume.
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';

export function makeTree(root: string, files: number): void {
  const mark = path.join(root, '..', `${path.basename(root)}.made`);
  if (existsSync(mark) && readFileSync(mark, 'utf8') === String(files)) return;
  for (let i = 0; i < files; i += 100) {
    const folder = path.join(root, `p${i % 7}`, `area-${Math.floor(i / 10_000)}`, `folder-${i / 100}`);
    mkdirSync(folder, { recursive: true });
    for (let j = i; j < Math.min(files, i + 100); j++)
      writeFileSync(path.join(folder, `frame_${String(j).padStart(8, '0')}.dpx`), 'x'.repeat(j % 17));
  }
  writeFileSync(mark, String(files));
}
