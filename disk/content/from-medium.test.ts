import { randomBytes } from 'node:crypto';
import { mkdirSync, mkdtempSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import fc from 'fast-check';
import { fromMedium } from './from-medium.ts';

// One that reads around the system's memory, one that may not.
const folders = [os.tmpdir(), '/dev/shm'].map((top) => mkdtempSync(path.join(top, 'medium-')));
afterAll(() => folders.forEach((folder) => rmSync(folder, { recursive: true })));

async function all(place: string, range?: { at: number; length: number }): Promise<Buffer> {
  const chunks: Buffer[] = [];
  for await (const chunk of await fromMedium(place, range)) chunks.push(chunk as Buffer);
  return Buffer.concat(chunks);
}

test.each(folders)('every range of a file is what was written, in %s', async (folder) => {
  const content = randomBytes((9 << 20) + 123);
  const place = path.join(folder, 'a.bin');
  writeFileSync(place, content);
  expect((await all(place)).equals(content)).toBe(true);
  const size = content.length;
  await fc.assert(
    fc.asyncProperty(fc.nat(size + 5000), fc.nat(size + 5000), async (at, length) => {
      expect((await all(place, { at, length })).equals(content.subarray(at, at + length))).toBe(true);
    }),
    {
      numRuns: 40,
      examples: [
        [0, 0],
        [4 << 20, 4 << 20],
        [4096, 1],
        [size, 10],
        [size - 1, 1],
      ],
    },
  );
});

test.each(folders)('what is written over is seen at once, in %s', async (folder) => {
  const place = path.join(folder, 'b.bin');
  for (let i = 0; i < 20; i++) {
    writeFileSync(place, `${i} `.repeat(3000));
    expect((await all(place)).toString()).toBe(`${i} `.repeat(3000));
  }
});

test('small ones, none, folders and links', async () => {
  const [folder] = folders as [string];
  writeFileSync(path.join(folder, 'empty'), '');
  expect((await all(path.join(folder, 'empty'))).length).toBe(0);
  await expect(all(path.join(folder, 'gone'))).rejects.toMatchObject({ code: 'ENOENT' });
  mkdirSync(path.join(folder, 'folder'));
  await expect(all(path.join(folder, 'folder'))).rejects.toMatchObject({
    code: expect.stringMatching(/not a file|EISDIR/),
  });
  symlinkSync('empty', path.join(folder, 'link'));
  await expect(all(path.join(folder, 'link'))).rejects.toMatchObject({ code: 'ELOOP' });
});

test('one that is left in the middle gives back what it had', async () => {
  const [folder] = folders as [string];
  writeFileSync(path.join(folder, 'c.bin'), Buffer.alloc(20 << 20, 'c'));
  for (let i = 0; i < 30; i++)
    for await (const chunk of await fromMedium(path.join(folder, 'c.bin'))) if ((chunk as Buffer).length > 0) break;
  expect((await all(path.join(folder, 'c.bin'))).length).toBe(20 << 20);
});
