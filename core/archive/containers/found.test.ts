// Tars and zips as GNU tar, Info-ZIP's format by another library, and nobody in his right mind write them.
import { execFileSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { inflateRawSync } from 'node:zlib';
import fc from 'fast-check';
import { zipSync } from 'fflate';
import { type FoundContainer, type FoundEntry, foundTar, foundZip } from './found.ts';

let folder: string;
beforeEach(() => (folder = mkdtempSync(path.join(os.tmpdir(), 'found-'))));
afterEach(() => rmSync(folder, { recursive: true, force: true }));

const entriesOf = (read: FoundContainer, bytes: Uint8Array): Promise<FoundEntry[]> =>
  read((at, length) => Promise.resolve(bytes.subarray(at, at + length)), bytes.length);
const contentOf = (bytes: Uint8Array, { at, storedBytes, isCompressed }: FoundEntry): string => {
  const stored = bytes.subarray(at, at + storedBytes);
  return Buffer.from(isCompressed ? inflateRawSync(stored) : stored).toString('utf8');
};
const put = (name: string, text = name) => {
  mkdirSync(path.dirname(path.join(folder, 'in', name)), { recursive: true });
  writeFileSync(path.join(folder, 'in', name), text);
};
const LONG = `${'a long folder name/'.repeat(12)}and a long name of a file.mov`;
const NAMES = ['a.mov', 'Camera/b ü.mov', LONG];

test.each(['gnu', 'ustar', 'pax', 'oldgnu', 'v7'])(
  'a tar of the format %s, with folders and a link',
  async (format) => {
    const names = format === 'v7' || format === 'ustar' ? NAMES.slice(0, 2) : NAMES;
    for (const name of names) put(name);
    symlinkSync('a.mov', path.join(folder, 'in/link'));
    execFileSync('tar', [`--format=${format}`, '-cf', '../x.tar', '.'], { cwd: path.join(folder, 'in') });
    const bytes = readFileSync(path.join(folder, 'x.tar'));
    const entries = await entriesOf(foundTar, bytes);
    expect(
      entries
        .filter((one) => one.isPlain)
        .map((one) => one.path)
        .sort(),
    ).toEqual([...names].sort());
    for (const one of entries.filter((each) => each.isPlain)) expect(contentOf(bytes, one)).toBe(one.path);
    expect(entries.filter((one) => !one.isPlain).map((one) => one.path)).toEqual(['link']);
    expect(Math.abs(entries[0]!.modifiedMs - Date.now())).toBeLessThan(60_000);
  },
);

test('a file that was added to a tar again counts as it was last', async () => {
  put('a.mov', 'old');
  execFileSync('tar', ['-cf', '../x.tar', 'a.mov'], { cwd: path.join(folder, 'in') });
  put('a.mov', 'newer');
  execFileSync('tar', ['-rf', '../x.tar', 'a.mov'], { cwd: path.join(folder, 'in') });
  const bytes = readFileSync(path.join(folder, 'x.tar'));
  expect((await entriesOf(foundTar, bytes)).map((one) => contentOf(bytes, one))).toEqual(['newer']);
});

test('what is stored with holes, or leads out of it, is no plain file', async () => {
  put('holes.mov');
  execFileSync('truncate', ['-s', '10M', path.join(folder, 'in/holes.mov')]);
  execFileSync('tar', ['--sparse', '-cf', '../x.tar', 'holes.mov'], { cwd: path.join(folder, 'in') });
  const sparse = await entriesOf(foundTar, readFileSync(path.join(folder, 'x.tar')));
  expect(sparse.map((one) => one.isPlain)).toEqual([false]);
  put('b.mov');
  execFileSync('tar', ['-cPf', 'y.tar', '--transform=s,^,../../,', 'in/b.mov'], { cwd: folder });
  const climbing = await entriesOf(foundTar, readFileSync(path.join(folder, 'y.tar')));
  expect(climbing.map((one) => [one.path, one.isPlain])).toEqual([['__/__/in/b.mov', false]]);
});

test('a zip, stored and compressed, with folders and a comment', async () => {
  const text = 'the same again and again '.repeat(500);
  const bytes = zipSync({
    'a.mov': [Buffer.from('stored'), { level: 0 }],
    'Camera/b ü.txt': [Buffer.from(text), { level: 9, comment: 'of an entry' }],
    'empty/': new Uint8Array(),
  });
  const commented = Buffer.concat([bytes, Buffer.from('PK and a comment')]);
  commented.writeUInt16LE(16, bytes.length - 2);
  for (const one of [bytes, commented]) {
    const entries = await entriesOf(foundZip, one);
    expect(entries.map((entry) => [entry.path, entry.isPlain, entry.isCompressed])).toEqual([
      ['a.mov', true, false],
      ['Camera/b ü.txt', true, true],
    ]);
    expect(entries.map((entry) => contentOf(one, entry))).toEqual(['stored', text]);
    expect(entries[1]!.sizeBytes).toBe(text.length);
  }
});

test.each([
  ['tar', foundTar],
  ['zip', foundZip],
] as const)('what is no %s says so', async (name, read) => {
  for (const bytes of [Buffer.alloc(0), Buffer.from('hello'), Buffer.alloc(2000, 'x')])
    if (!(name === 'tar' && bytes.length < 512))
      await expect(entriesOf(read, bytes)).rejects.toThrow(/it is no (tar|zip)/);
});

test('whatever was changed in one, it is read or refused at once, and nothing it gives lies outside', async () => {
  for (const name of NAMES) put(name);
  execFileSync('tar', ['-cf', '../x.tar', '.'], { cwd: path.join(folder, 'in') });
  const tar = readFileSync(path.join(folder, 'x.tar'));
  const zip = Buffer.from(zipSync(Object.fromEntries(NAMES.map((name) => [name, Buffer.from(name)]))));
  await fc.assert(
    fc.asyncProperty(
      fc.constantFrom([tar, foundTar] as const, [zip, foundZip] as const),
      fc.array(fc.tuple(fc.nat(), fc.nat(255)), { minLength: 1, maxLength: 12 }),
      fc.nat(),
      async ([whole, read], changes, cut) => {
        const bytes = Buffer.from(whole.subarray(0, cut % 3 === 0 ? cut % whole.length : whole.length));
        for (const [at, value] of changes) if (bytes.length > 0) bytes[at % bytes.length] = value;
        let entries: FoundEntry[] = [];
        try {
          entries = await entriesOf(read, bytes);
        } catch (error) {
          expect((error as { code?: string }).code).toBe('no_container');
        }
        for (const one of entries.filter((each) => each.isPlain)) {
          expect(one.at + one.storedBytes).toBeLessThanOrEqual(bytes.length);
          expect(one.path.split('/')).not.toContain('..');
          expect(one.path.startsWith('/')).toBe(false);
        }
      },
    ),
    { numRuns: 400 },
  );
});
