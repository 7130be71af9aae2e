// The disk room on real temporary folders.
import { createHash, randomBytes } from 'node:crypto';
import { execFileSync } from 'node:child_process';
import {
  closeSync,
  existsSync,
  ftruncateSync,
  linkSync,
  mkdirSync,
  mkdtempSync,
  openSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  symlinkSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { type ContentPool, contentPool, dropFromMemory } from './content/content.ts';
import { look } from './facts.ts';
import { openFiles } from './open-files.ts';
import { absolute, locate, OutsideError, readableName, refuseLinks } from './paths.ts';
import { giveIdentity, lookAtVolume, readIdentity, renameNew, writeWhole } from './private.ts';
import { onTheirWay, removeExpected } from './remove.ts';
import { stopFlag } from './threads/serve.ts';

let root: string;
let pool: ContentPool;
beforeAll(() => void (pool = contentPool(1)));
afterAll(() => pool.end());
beforeEach(() => void (root = mkdtempSync(path.join(os.tmpdir(), 'disk-'))));
afterEach(() => rmSync(root, { recursive: true, force: true }));
const at = (...parts: string[]) => path.join(root, ...parts);
const put = (name: string, content: string | Buffer = name) => {
  mkdirSync(path.dirname(at(name)), { recursive: true });
  writeFileSync(at(name), content);
  return at(name);
};
const expected = (file: string) => {
  const facts = look(file);
  if (facts.is !== 'file') throw new Error('not a file');
  return { sizeBytes: facts.sizeBytes, modifiedUs: facts.modifiedUs };
};
const nobody = () => ({ known: true, has: () => false });

describe('paths', () => {
  test.each(['../x', 'a/../../x', '/etc/passwd', 'a//b', './a', '', 'a\0b'])('%j is never joined', (bad) => {
    expect(() => absolute(root, { path: bad })).toThrow(OutsideError);
  });
  test('a link on the way is not followed out, nor within', () => {
    put('real/a.mov');
    symlinkSync(os.tmpdir(), at('out'));
    symlinkSync(at('real'), at('in'));
    expect(locate(root, { path: 'real/a.mov' })).toBe(at('real/a.mov'));
    for (const link of ['out', 'in']) expect(() => locate(root, { path: `${link}/a.mov` })).toThrow(OutsideError);
  });
  test('a place that is about to be made may not lie behind a link or below a file', () => {
    put('real/a.mov');
    symlinkSync(at('real'), at('in'));
    expect(() => refuseLinks(root, 'real/new/deep')).not.toThrow();
    expect(() => refuseLinks(root, 'new')).not.toThrow();
    for (const bad of ['in/new', 'real/a.mov/new']) expect(() => refuseLinks(root, bad)).toThrow(OutsideError);
  });
  test('bytes that are not UTF-8 are readable, and still find their file', () => {
    const raw = Buffer.from([0x61, 0xff]);
    writeFileSync(Buffer.concat([Buffer.from(root + '/'), raw]), 'x');
    expect(readableName(raw)).toBe('a\\xFF');
    expect(look(locate(root, { path: 'a\\xFF', raw })).is).toBe('file');
    expect(() => absolute(root, { path: 'x', raw: Buffer.from('../x') })).toThrow(OutsideError);
  });
});

describe('a volume', () => {
  test('is given an identity once, and is known by it', () => {
    const identity = giveIdentity(root);
    expect(giveIdentity(root)).toBe(identity);
    expect(lookAtVolume(root)).toMatchObject({ state: 'reachable', identity, writable: true });
    writeFileSync(at('.keramion/identity.json'), 'broken');
    expect(readIdentity(root)).toBeNull();
    expect(lookAtVolume(at('nowhere'))).toEqual({ state: 'unreachable', code: 'ENOENT' });
  });
  test('nothing is written or renamed over something', () => {
    put('taken', 'mine');
    expect(() => writeWhole(at('taken'), 'yours')).toThrow(expect.objectContaining({ code: 'EEXIST' }));
    put('other', 'other');
    expect(() => renameNew(at('other'), at('taken'))).toThrow(expect.objectContaining({ code: 'EEXIST' }));
    expect([readFileSync(at('taken'), 'utf8'), readFileSync(at('other'), 'utf8')]).toEqual(['mine', 'other']);
  });
});

describe('removing', () => {
  test('takes what was expected and leaves nothing behind', () => {
    const file = put('a/b.frm');
    expect(removeExpected(root, { itemId: 7, path: 'a/b.frm', expected: expected(file) }, nobody)).toEqual({
      done: true,
    });
    expect(existsSync(file)).toBe(false);
    expect(onTheirWay(root)).toEqual([]);
  });
  test('what changed after it was taken goes back under its name; where that name is taken, both are kept', () => {
    const file = put('a.frm', 'old');
    const was = expected(file);
    for (const id of [1, 2]) {
      mkdirSync(at('.keramion/taking'), { recursive: true });
      writeFileSync(at('.keramion/taking', String(id)), `changed ${id}`);
    }
    expect(onTheirWay(root).sort()).toEqual([1, 2]);
    rmSync(file);
    expect(removeExpected(root, { itemId: 1, path: 'a.frm', expected: was }, nobody)).toEqual({
      done: false,
      reason: 'changed',
    });
    expect(removeExpected(root, { itemId: 2, path: 'a.frm', expected: was }, nobody)).toMatchObject({
      done: false,
      reason: 'name taken',
    });
    const kept = readdirSync(root)
      .filter((name) => name !== '.keramion')
      .map((name) => readFileSync(at(name), 'utf8'))
      .sort();
    expect(kept).toEqual(['changed 1', 'changed 2']);
  });
  test('a second name of the same file stays', () => {
    const file = put('a.frm');
    linkSync(file, at('b.frm'));
    removeExpected(root, { itemId: 1, path: 'a.frm', expected: expected(file) }, nobody);
    expect(readFileSync(at('b.frm'), 'utf8')).toBe('a.frm');
  });
  test('open files are seen', () => {
    const facts = look(put('a.frm'));
    const fd = openSync(at('a.frm'), 'r');
    expect(facts.is === 'file' && openFiles().has(facts.device, facts.inode)).toBe(true);
    closeSync(fd);
    expect(facts.is === 'file' && openFiles().has(facts.device, facts.inode)).toBe(false);
  });
});

describe('copying', () => {
  const content = Buffer.concat([randomBytes(5_000_001), Buffer.alloc(9 << 20), randomBytes(77)]);
  test('gives every byte, holes included, with true sums and the same time', async () => {
    const from = put('a.mov', content);
    const told: number[] = [];
    const result = await pool.ask(
      { from, to: at('copy'), expected: expected(from), sha512: true },
      { progress: (n) => told.push(n) },
    );
    expect(readFileSync(at('copy')).equals(content)).toBe(true);
    expect(result.sha512).toBe(createHash('sha512').update(content).digest('hex'));
    expect(told.reduce((a, b) => a + b, 0)).toBe(content.length);
    // Set through a number of seconds, a time may come out a microsecond off.
    expect(Math.abs(expected(at('copy')).modifiedUs - expected(from).modifiedUs)).toBeLessThanOrEqual(2);
    expect(statSync(at('copy')).blocks * 512).toBeLessThan(content.length - (8 << 20));
    expect((await pool.ask({ from: at('copy'), sha512: false })).xxh128).toBe(result.xxh128);
    if (existsSync('/usr/bin/xxhsum'))
      expect(execFileSync('xxhsum', ['-H2', at('copy')], { encoding: 'utf8' })).toContain(result.xxh128);
  });
  test('a file that ends in a hole keeps its length', async () => {
    const fd = openSync(at('hole'), 'w');
    writeSync(fd, 'x');
    ftruncateSync(fd, 3_000_000);
    closeSync(fd);
    await pool.ask({ from: at('hole'), to: at('copy'), sha512: false });
    expect(readFileSync(at('copy')).equals(readFileSync(at('hole')))).toBe(true);
  });
  test.each([
    ['changed', () => put('a.mov', 'changed since'), 'changed'],
    ['a link now', () => (rmSync(at('a.mov')), symlinkSync('/etc/passwd', at('a.mov'))), 'ELOOP'],
    ['gone', () => rmSync(at('a.mov')), 'ENOENT'],
  ])('a source that is %s is not copied, and no half file stays', async (_words, change, code) => {
    const was = expected(put('a.mov', 'as chosen'));
    change();
    await expect(pool.ask({ from: at('a.mov'), to: at('copy'), expected: was, sha512: false })).rejects.toMatchObject({
      code,
    });
    expect(existsSync(at('copy'))).toBe(false);
  });
  test('a copy never writes over a file, and ends when it is told to', async () => {
    put('copy', 'mine');
    await expect(pool.ask({ from: put('a.mov'), to: at('copy'), sha512: false })).rejects.toMatchObject({
      code: 'EEXIST',
    });
    expect(readFileSync(at('copy'), 'utf8')).toBe('mine');
    const stop = stopFlag();
    Atomics.store(stop, 0, 1);
    await expect(pool.ask({ from: at('a.mov'), to: at('other'), sha512: false }, { stop })).rejects.toMatchObject({
      code: 'stopped',
    });
    expect(existsSync(at('other'))).toBe(false);
  });
  test('what was flushed can be dropped from memory', async () => {
    expect(await dropFromMemory(put('a.mov', content))).toBe(true);
    expect(readFileSync(at('a.mov')).equals(content)).toBe(true);
  });
});
