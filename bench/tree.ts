// Makes a tree of small files for the reading benchmark: folders of 100 files, spread as on a scratch volume; few files in
// each of very many deep folders; or all in one.
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';

export const SHAPES = ['plain', 'deep', 'flat'] as const;
export type Shape = (typeof SHAPES)[number];

const IN_FOLDER: Record<Shape, number> = { plain: 100, deep: 5, flat: Infinity };

function folderOf(shape: Shape, i: number): string {
  if (shape === 'flat') return 'all';
  if (shape === 'plain') return path.join(`p${i % 7}`, `area-${Math.floor(i / 10_000)}`, `folder-${i / 100}`);
  // Eight folders deep, by the digits of the folder's number.
  return path.join(
    ...String(i / 5)
      .padStart(8, '0')
      .split('')
      .map((digit, at) => `d${at}-${digit}`),
  );
}

export function makeTree(root: string, files: number, shape: Shape = 'plain'): void {
  const mark = path.join(root, '..', `${path.basename(root)}.made`);
  if (existsSync(mark) && readFileSync(mark, 'utf8') === String(files)) return;
  const each = Math.min(files, IN_FOLDER[shape]);
  for (let i = 0; i < files; i += each) {
    const folder = path.join(root, folderOf(shape, i));
    mkdirSync(folder, { recursive: true });
    for (let j = i; j < Math.min(files, i + each); j++)
      writeFileSync(path.join(folder, `frame_${String(j).padStart(8, '0')}.dpx`), 'x'.repeat(j % 17));
  }
  writeFileSync(mark, String(files));
}
