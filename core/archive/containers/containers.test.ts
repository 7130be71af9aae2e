// Every container, against the general tools that read it.
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';
import { crc32 } from 'node:zlib';
import fc from 'fast-check';
import { concat, type Container, type Entry, NoContainer, type PlacedEntry } from './container.ts';
import { tar } from './tar.ts';
import { zip } from './zip.ts';

let folder: string;
beforeEach(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'containers-'));
});
afterEach(() => rmSync(folder, { recursive: true, force: true }));

type File = [path: string, bytes: Uint8Array];

function written(container: Container, files: readonly File[], modifiedMs = 1_700_000_000_000): Uint8Array {
  let whole = new Uint8Array();
  const placed: PlacedEntry[] = [];
  for (const [name, bytes] of files) {
    const entry: Entry = { path: name, sizeBytes: bytes.length, modifiedMs };
    const headAt = whole.length;
    const head = container.head(entry, headAt);
    const tail = container.tail(entry);
    const at = headAt + head.length;
    const own = { ...entry, headAt, at, end: at + bytes.length + tail.length, crc32: crc32(bytes) };
    whole = new Uint8Array(concat([whole, head, bytes, tail]));
    const mending = container.mend(own);
    if (mending) whole.set(mending.bytes, mending.at);
    placed.push(own);
  }
  return concat([whole, container.end(placed, whole.length)]);
}

const readAt = (bytes: Uint8Array) => async (at: number, length: number) => bytes.slice(at, at + length);
const read = async (container: Container, bytes: Uint8Array): Promise<File[]> =>
  (await container.entries(readAt(bytes), bytes.length)).map(({ path: name, at, sizeBytes }) => [
    name,
    bytes.slice(at, at + sizeBytes),
  ]);

const CONTAINERS = [
  ['tar', tar, (file: string) => execFileSync('tar', ['-x', '-f', file, '-C', folder])],
  [
    'zip',
    zip,
    (file: string) => {
      expect(execFileSync('unzip', ['-t', file], { encoding: 'utf8' })).toMatch(/No errors detected/);
      execFileSync('unzip', ['-q', '-o', file, '-d', folder], { env: { ...process.env, LC_ALL: 'C.UTF-8' } });
    },
  ],
] as const;

const LONG = `top/${'a long folder name/'.repeat(9)}and a name.mov`;
const FILES: File[] = [
  ['top/bagit.txt', Buffer.from('BagIt-Version: 1.0\n')],
  ['top/empty', new Uint8Array()],
  ['top/data/block', new Uint8Array(512).fill(7)],
  ['top/data/média ü 日本.mov', new Uint8Array(70_001).fill(3)],
  [LONG, Buffer.from('long')],
  [`top/${'n'.repeat(95)}`, Buffer.from('just fits')],
  [`top/${'n'.repeat(97)}`, Buffer.from('just does not')],
];

test.each(CONTAINERS)(
  '%s: general tools read what was written, name by name and byte by byte',
  async (_, container, extract) => {
    const bytes = written(container, FILES);
    const file = path.join(folder, `all${container.ending}`);
    writeFileSync(file, bytes);
    extract(file);
    for (const [name, own] of FILES) expect(readFileSync(path.join(folder, name)).equals(Buffer.from(own))).toBe(true);
    expect(await read(container, bytes)).toEqual(FILES.map(([name, own]) => [name, new Uint8Array(own)]));
  },
);

test.each(CONTAINERS)('%s: whatever names and sizes, what is written is what is read', async (_, container) => {
  const name = fc.array(fc.string({ unit: 'grapheme', minLength: 1, maxLength: 60 }), { minLength: 1, maxLength: 5 });
  const isPlain = (one: string) => !/[/\0\n]|^\.{1,2}$/.test(one);
  await fc.assert(
    fc.asyncProperty(
      fc.uniqueArray(fc.tuple(name, fc.uint8Array({ maxLength: 1500 })), { selector: ([one]) => one.join('/') }),
      async (files) => {
        const plain = files
          .filter(([segments]) => segments.every(isPlain))
          .map(([segments, bytes]): File => [['top', ...segments].join('/'), bytes]);
        expect(await read(container, written(container, plain))).toEqual(plain);
      },
    ),
    { numRuns: 200 },
  );
});

test.each(CONTAINERS)('%s: sizes and places beyond what its first fields can say', (_, container) => {
  for (const sizeBytes of [2 ** 32 - 2, 2 ** 32 - 1, 2 ** 32, 2 ** 33, 2 ** 40]) {
    const entry = { path: 'top/large.mov', sizeBytes, modifiedMs: 1_700_000_000_000 };
    const at = container.head(entry, 0).length;
    const end = at + sizeBytes + container.tail(entry).length;
    const small = { path: 'top/after.txt', sizeBytes: 5, modifiedMs: 0 };
    const head = container.head(small, end);
    const placed = { ...entry, headAt: 0, at, end, crc32: 1 };
    const next = { ...small, headAt: end, at: end + head.length, end: 0, crc32: 2 };
    next.end = next.at + 5 + container.tail(small).length;
    const mended = (one: PlacedEntry, bytes: Uint8Array) => {
      const mending = container.mend(one);
      if (mending) bytes.set(mending.bytes, mending.at - one.headAt);
      return bytes;
    };
    // Only what is not the large entry's own bytes is kept in memory.
    const pieces: [number, Uint8Array][] = [
      [0, mended(placed, container.head(entry, 0))],
      [end, concat([mended(next, head), Buffer.from('after'), container.tail(small)])],
      [next.end, container.end([placed, next], next.end)],
    ];
    const total = next.end + pieces[2]![1].length;
    const sparse = async (from: number, length: number) => {
      const out = new Uint8Array(Math.max(0, Math.min(length, total - from)));
      for (const [start, bytes] of pieces)
        for (let i = Math.max(from, start); i < Math.min(from + out.length, start + bytes.length); i++)
          out[i - from] = bytes[i - start]!;
      return out;
    };
    return expect(container.entries(sparse, total)).resolves.toMatchObject([
      { path: 'top/large.mov', sizeBytes, at },
      { path: 'top/after.txt', sizeBytes: 5, at: next.at },
    ]);
  }
});

test.each(CONTAINERS)(
  '%s: what leads out of it, is there twice or is damaged is told, and ends at once',
  async (_, container) => {
    const refused = async (files: File[]) =>
      expect(read(container, written(container, files))).rejects.toThrow(NoContainer);
    await refused([['top/../../etc/passwd', Buffer.from('x')]]);
    await refused([['/etc/passwd', Buffer.from('x')]]);
    await refused([['alone', Buffer.from('x')]]);
    await refused([FILES[0]!, ['other/a', Buffer.from('x')]]);
    await refused([FILES[0]!, FILES[0]!]);
    const good = written(container, FILES);
    const list = await read(container, good);
    await fc.assert(
      fc.asyncProperty(fc.nat(good.length - 1), fc.integer({ min: 1, max: 255 }), async (at, change) => {
        const bad = good.slice();
        bad[at]! ^= change;
        // A byte of a payload, or of a name that tar keeps no sum of, is for the manifests to see.
        await read(container, bad).then(
          (found) => expect(found.map(([, own]) => own.length)).toEqual(list.map(([, own]) => own.length)),
          (error: unknown) => expect(error).toBeInstanceOf(NoContainer),
        );
      }),
      { numRuns: 300 },
    );
    const entries = await container.entries(readAt(good), good.length);
    for (const length of [0, 1, 511, 600, entries.at(-1)!.end - 1, entries.at(-1)!.end]) {
      const cut = good.slice(0, length);
      await expect(read(container, cut)).rejects.toThrow(NoContainer);
    }
  },
);
