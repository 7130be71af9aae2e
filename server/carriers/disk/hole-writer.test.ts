// A file that is flushed while it is written: what the disk says of an earlier flush is heard before the file gets its name.
import { randomFillSync } from 'node:crypto';
import { existsSync, mkdtempSync, readdirSync, readFileSync, readlinkSync, rmSync, statSync } from 'node:fs';
import fs, { type FileHandle, open } from 'node:fs/promises';
import os from 'node:os';
import path from 'node:path';
import { once } from 'node:events';
import { finished } from 'node:stream/promises';
import { takeMemory } from '#disk/content/page-memory.ts';
import { openHandle } from '../open-handle.ts';
import { HoleWriter, type Target } from './hole-writer.ts';

const folder = mkdtempSync(path.join(os.tmpdir(), 'hole-writer-'));
const place = path.join(folder, 'file');
const MEGA = 1 << 20;
let handle: FileHandle;
const real = open;
beforeEach(async () => {
  handle = await open(place, 'w+');
});
afterEach(() => rmSync(place, { force: true }));
afterAll(() => rmSync(folder, { recursive: true, force: true }));

const pieces = (many: number) =>
  Array.from({ length: many }, (_, i) =>
    i % 5 === 4 ? Buffer.alloc(4 * MEGA) : randomFillSync(Buffer.alloc(4 * MEGA)),
  );

async function written(all: readonly Buffer[], named: () => Promise<void>, to: Target = handle): Promise<void> {
  const writer = new HoleWriter(to, named);
  const failed = once(writer, 'error').then(([error]) => Promise.reject(error as Error));
  failed.catch(() => undefined);
  for (const piece of all) if (!writer.write(piece)) await Promise.race([once(writer, 'drain'), failed]);
  writer.end();
  await finished(writer);
}

test.each([
  ['its own file', (own: FileHandle): Target => own],
  ['a file that somebody else opened', (own: FileHandle): Target => openHandle(own.fd)],
])('to %s: what is flushed in several goes is the same, byte for byte', async (_which, of) => {
  const target = of(handle);
  const flush = jest.spyOn(target, 'datasync');
  const all = pieces(40);
  let isNamed = false;
  await written(all, () => Promise.resolve(void (isNamed = true)), target);
  expect(isNamed).toBe(true);
  expect(flush.mock.calls).toHaveLength(2);
  expect(readFileSync(place).equals(Buffer.concat(all))).toBe(true);
});

test.each([0, 1])('where flush %i fails, once, the file gets no name', async (which) => {
  const real = handle.datasync.bind(handle);
  let flushes = 0;
  jest.spyOn(handle, 'datasync').mockImplementation(() => {
    if (flushes++ !== which) return real();
    return Promise.reject(Object.assign(new Error('the disk failed'), { code: 'EIO' }));
  });
  const named = jest.fn(() => Promise.resolve());
  await expect(written(pieces(40), named)).rejects.toMatchObject({ code: 'EIO' });
  expect(named).not.toHaveBeenCalled();
  expect(flushes).toBeGreaterThan(which);
});

test('one that is left while it is flushed closes its file', async () => {
  const writer = new HoleWriter(handle, () => Promise.resolve());
  writer.on('error', () => undefined);
  for (const piece of pieces(17)) writer.write(piece);
  writer.destroy();
  await once(writer, 'close');
  await expect(handle.stat()).rejects.toMatchObject({ code: 'EBADF' });
  expect(existsSync(place)).toBe(true);
});

test('a file that somebody else opened is let go of once nothing is written to it any more', async () => {
  const target = openHandle(handle.fd);
  const writing = [0, 1, 2].map((i) => target.write(Buffer.alloc(4 * MEGA, 'a'), 0, 4 * MEGA, i * 4 * MEGA));
  let written = 0;
  for (const one of writing) void one.then(() => written++);
  await target.close();
  await Promise.resolve();
  expect(written).toBe(3);
  await expect(target.write(Buffer.from('b'), 0, 1, 0)).rejects.toMatchObject({ code: 'EBADF' });
  expect(readFileSync(place).equals(Buffer.alloc(12 * MEGA, 'a'))).toBe(true);
});

describe('around the memory of the system', () => {
  /** Calls that open the file once more, which only going around memory does. */
  const opened = () => jest.spyOn(fs, 'open').mockImplementation(real);
  afterEach(() => jest.restoreAllMocks());

  /** Memory as sources are read into it, filled. */
  const stretch = (bytes: number): Buffer => randomFillSync(takeMemory()).subarray(0, bytes);

  test.each([
    ['whole stretches and an end that is no whole block', [MEGA, MEGA, 12_345]],
    ['an end of whole blocks', [MEGA, MEGA]],
    ['a short piece before long ones, from which on no place is a block', [777, MEGA, MEGA]],
    ['one that is no whole blocks, and large', [MEGA - 1, MEGA]],
  ])('the same, byte for byte: %s', async (_what, lengths) => {
    const opens = opened();
    const all = lengths.map(stretch);
    await written(all, () => Promise.resolve());
    expect(readFileSync(place).equals(Buffer.concat(all))).toBe(true);
    expect(opens).toHaveBeenCalledTimes(lengths[0]! < MEGA / 2 ? 0 : 1);
    expect(openFiles()).toBe(0);
  });

  test('holes stay holes', async () => {
    const empty = takeMemory().fill(0);
    const all = [stretch(MEGA), empty, empty, empty, stretch(MEGA)];
    await written(all, () => Promise.resolve());
    expect(readFileSync(place).equals(Buffer.concat(all))).toBe(true);
    expect(statSync(place).blocks * 512).toBeLessThan(3 * MEGA);
  });

  test('memory that does not begin at a page goes the other way', async () => {
    const opens = opened();
    const all = [stretch(MEGA), randomFillSync(Buffer.alloc(MEGA + 1)).subarray(1), stretch(MEGA)];
    await written(all, () => Promise.resolve());
    expect(readFileSync(place).equals(Buffer.concat(all))).toBe(true);
    expect(opens).toHaveBeenCalledTimes(1);
    expect(openFiles()).toBe(0);
  });

  test.each(['ENOSPC', 'EIO'])('what the disk says (%s) ends it, and it gets no name', async (code) => {
    opened().mockImplementation(async (...asked) => {
      const direct = await real(...asked);
      direct.write = () => Promise.reject(Object.assign(new Error('the disk failed'), { code }));
      return direct;
    });
    const named = jest.fn(() => Promise.resolve());
    await expect(written([stretch(MEGA)], named)).rejects.toMatchObject({ code });
    expect(named).not.toHaveBeenCalled();
    await new Promise((resolve) => setTimeout(resolve, 10));
    expect(openFiles()).toBe(0);
  });

  test('a file system that cannot goes the other way', async () => {
    opened().mockRejectedValue(Object.assign(new Error('not here'), { code: 'EINVAL' }));
    const all = [stretch(MEGA), stretch(MEGA)];
    await written(all, () => Promise.resolve());
    expect(readFileSync(place).equals(Buffer.concat(all))).toBe(true);
  });

  test('one that is left while it is opened leaves no file open', async () => {
    const writer = new HoleWriter(handle, () => Promise.resolve());
    writer.on('error', () => undefined);
    writer.write(stretch(MEGA));
    writer.destroy();
    await once(writer, 'close');
    expect(openFiles()).toBe(0);
  });
});

/** How many numbers of this process are of the file. */
const openFiles = (): number =>
  readdirSync('/proc/self/fd').filter((fd) => {
    try {
      return readlinkSync(`/proc/self/fd/${fd}`) === place;
    } catch {
      return false;
    }
  }).length;
