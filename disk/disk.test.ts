// The disk room on real temporary folders.
import { createHash, randomBytes } from 'node:crypto';
import { execFileSync } from 'node:child_process';
import fs, {
  chmodSync,
  closeSync,
  existsSync,
  ftruncateSync,
  linkSync,
  mkdirSync,
  mkdtempSync,
  openSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  symlinkSync,
  utimesSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { type ContentPool, contentPool, copyFile, dropFromMemory, keepAttributes, sumFile } from './content/content.ts';
import { type FileFacts, look } from './facts.ts';
import { giveIdentity, lookAtStore, readIdentity } from './identity.ts';
import { openFiles, openPaths } from './open-files.ts';
import { absolute, locate, OutsideError, readableName, refuseLinks } from './paths.ts';
import { PrivateNames } from './private-names.ts';
import { putBack, removeTaken, take } from './remove.ts';
import { NotTheOne, Root } from './root.ts';
import { stopFlag } from './threads/serve.ts';
import { renameNew, writeNew } from './write.ts';

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
const expected = (file: string): FileFacts => {
  const facts = look(file);
  if (facts.is !== 'file') throw new Error('not a file');
  return facts;
};
const nobody = () => ({ known: true, why: '', has: () => false });

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
  test('is given an identity once, and is known by it', async () => {
    const identity = giveIdentity(root);
    expect(giveIdentity(root)).toBe(identity);
    expect(await lookAtStore(root)).toMatchObject({ state: 'reachable', identity, writable: true });
    writeFileSync(at('.keramion/identity.json'), 'broken');
    expect(readIdentity(root)).toBeNull();
    expect(await lookAtStore(at('nowhere'))).toEqual({ state: 'unreachable', code: 'ENOENT' });
  });
  test('looking makes nothing on what lies there', async () => {
    put('mine.txt');
    const before = statSync(root).mtimeMs;
    expect(await lookAtStore(root)).toMatchObject({ state: 'reachable', identity: null, writable: true });
    expect(readdirSync(root)).toEqual(['mine.txt']);
    expect(statSync(root).mtimeMs).toBe(before);
  });
  test('nothing is written or renamed over something, nor through a link', () => {
    put('taken', 'mine');
    expect(() => writeNew(at('taken'), 'yours', at('temporary'))).toThrow(expect.objectContaining({ code: 'EEXIST' }));
    expect(existsSync(at('temporary'))).toBe(false);
    put('temporary', 'theirs');
    expect(() => writeNew(at('fresh'), 'yours', at('temporary'))).toThrow(expect.objectContaining({ code: 'EEXIST' }));
    symlinkSync(at('taken'), at('link'));
    expect(() => writeNew(at('fresh'), 'yours', at('link'))).toThrow(expect.objectContaining({ code: 'EEXIST' }));
    put('other', 'other');
    expect(() => renameNew(at('other'), at('taken'))).toThrow(expect.objectContaining({ code: 'EEXIST' }));
    expect([readFileSync(at('taken'), 'utf8'), readFileSync(at('other'), 'utf8')]).toEqual(['mine', 'other']);
  });
  test('two names of one file, left by a kill between the two halves of a renaming, become one', () => {
    put('old', 'content');
    linkSync(at('old'), at('new'));
    renameNew(at('old'), at('new'));
    expect(existsSync(at('old'))).toBe(false);
    expect(readFileSync(at('new'), 'utf8')).toBe('content');
  });
  test('held open it stays the same disk, whatever is put in its place', () => {
    const identity = giveIdentity(root);
    put('a/b.mov', 'first');
    const held = Root.open(root, identity);
    renameSync(root, `${root}-away`);
    mkdirSync(at('a'), { recursive: true });
    put('a/b.mov', 'another disk');
    expect(readFileSync(held.placeText('a/b.mov'), 'utf8')).toBe('first');
    expect(() => Root.open(root, identity)).toThrow(NotTheOne);
    held.close();
    rmSync(`${root}-away`, { recursive: true });
  });
  test('no link on the way is followed, and no climbing name', () => {
    put('real/deep/a.mov');
    symlinkSync(at('real'), at('in'));
    symlinkSync(os.tmpdir(), at('out'));
    const held = Root.open(root, null);
    for (const bad of ['in/deep/a.mov', 'out/x', '../x', '/etc/passwd', 'real//deep', ''])
      expect(() => held.placeText(bad)).toThrow(OutsideError);
    expect(() => held.make('in/new/x')).toThrow(OutsideError);
    expect(held.placeText('real/deep/a.mov')).toContain('a.mov');
    // A folder that becomes a link after it was looked at is not followed either.
    rmSync(at('real'), { recursive: true });
    symlinkSync(os.tmpdir(), at('real'));
    expect(() => held.placeText('real/deep/a.mov')).toThrow(OutsideError);
    held.close();
  });
});

const marks = (lease: string) => ({
  site: '11111111-1111-4111-8111-111111111111',
  job: '22222222-2222-4222-8222-222222222222',
  lease,
});
const [FIRST, SECOND] = ['33333333-3333-4333-8333-333333333333', '44444444-4444-4444-8444-444444444444'];

describe('removing', () => {
  let held: Root;
  const names = new PrivateNames(marks(FIRST!));
  beforeEach(() => {
    giveIdentity(root);
    held = Root.open(root, null);
  });
  afterEach(() => held.close());
  const inside = () => readdirSync(at('.keramion')).filter((name) => name !== 'identity.json');

  test('takes what was expected, removes it from there and leaves nothing behind', async () => {
    const file = put('a/b.frm');
    const removal = { itemId: 7, path: 'a/b.frm', expected: expected(file) };
    expect(take(held, names, removal, nobody)).toEqual({ done: true });
    expect([existsSync(file), inside().length]).toEqual([false, 1]);
    expect(await removeTaken(held, names, removal, nobody)).toMatchObject({ done: true });
    expect(inside()).toEqual([]);
  });
  test('files of more folders than are held open are all removed, also while the disk is still at the last ones', async () => {
    held.holdsForMs = 60_000;
    const removals = Array.from({ length: 150 }, (_, i) => {
      const path = `f${i}/b.frm`;
      return { itemId: i, path, expected: expected(put(path)) };
    });
    const removing: Promise<unknown>[] = [];
    for (const removal of removals) {
      expect(take(held, names, removal, nobody)).toEqual({ done: true });
      removing.push(removeTaken(held, names, removal, nobody));
    }
    for (const result of await Promise.all(removing)) expect(result).toMatchObject({ done: true });
    expect(inside()).toEqual([]);
  });
  test('a file written anew with its old size and time is another, and so is one that took its name', () => {
    const file = put('a.frm', 'old');
    utimesSync(file, 1000, 1000);
    const was = expected(file);
    writeFileSync(file, 'new');
    utimesSync(file, 1000, 1000);
    expect(take(held, names, { itemId: 1, path: 'a.frm', expected: was }, nobody)).toEqual({
      done: false,
      reason: 'changed',
    });
    put('b.frm', 'old');
    utimesSync(at('b.frm'), 1000, 1000);
    rmSync(file);
    renameSync(at('b.frm'), file);
    expect(take(held, names, { itemId: 1, path: 'a.frm', expected: was }, nobody)).toEqual({
      done: false,
      reason: 'changed',
    });
    expect(readFileSync(file, 'utf8')).toBe('old');
  });
  test('what changed after it was taken goes back under its name; where that name is taken, both are kept', async () => {
    const was = expected(put('a.frm', 'old'));
    for (const [itemId, words] of [
      [1, 'changed'],
      [2, 'name taken'],
    ] as const) {
      writeFileSync(names.place(held, 'out', itemId), `changed ${itemId}`);
      rmSync(at('a.frm'), { force: itemId === 1 });
      if (itemId === 2) put('a.frm', 'changed 1');
      expect(await removeTaken(held, names, { itemId, path: 'a.frm', expected: was }, nobody)).toMatchObject({
        done: false,
        reason: words,
      });
    }
    const kept = readdirSync(root)
      .filter((name) => name !== '.keramion')
      .map((name) => readFileSync(at(name), 'utf8'))
      .sort();
    expect(kept).toEqual(['changed 1', 'changed 2']);
  });
  test('what cannot be unlinked goes back under its name', async () => {
    const file = put('a.frm');
    const removal = { itemId: 1, path: 'a.frm', expected: expected(file) };
    take(held, names, removal, nobody);
    const busy = jest
      .spyOn(fs.promises, 'unlink')
      .mockRejectedValueOnce(Object.assign(new Error('busy'), { code: 'EBUSY' }));
    expect(await removeTaken(held, names, removal, nobody)).toMatchObject({
      done: false,
      reason: 'open',
      detail: 'EBUSY',
    });
    busy.mockRestore();
    expect(readFileSync(file, 'utf8')).toBe('a.frm');
    expect(inside()).toEqual([]);
  });
  test('a lease that was taken over reaches nothing any more', async () => {
    const file = put('a.frm');
    const removal = { itemId: 1, path: 'a.frm', expected: expected(file) };
    take(held, names, removal, nobody);
    const next = new PrivateNames(marks(SECOND!));
    next.takeOver(held);
    expect(putBack({ root: held, names: next }, removal, 'changed')).toMatchObject({ reason: 'changed' });
    // The first wakes up and goes on where it was: there is nothing left under its name.
    expect(await removeTaken(held, names, removal, nobody)).toMatchObject({ done: true });
    expect(readFileSync(file, 'utf8')).toBe('a.frm');
    next.takeOver(held);
    expect(inside()).toEqual([]);
  });
  test('names of another site or job are never taken over', () => {
    const other = new PrivateNames({ ...marks(SECOND!), job: '55555555-5555-4555-8555-555555555555' });
    writeFileSync(other.place(held, 'out', 1), 'not ours');
    names.takeOver(held);
    expect(readFileSync(other.place(held, 'out', 1), 'utf8')).toBe('not ours');
  });
  test('a second name of the same file stays', async () => {
    const file = put('a.frm');
    linkSync(file, at('b.frm'));
    const removal = { itemId: 1, path: 'a.frm', expected: expected(file) };
    take(held, names, removal, nobody);
    await removeTaken(held, names, removal, nobody);
    expect(readFileSync(at('b.frm'), 'utf8')).toBe('a.frm');
  });
  test('a program whose files may not be looked at makes it unknown what is open', () => {
    const proc = at('proc');
    mkdirSync(path.join(proc, '7/fd'), { recursive: true });
    expect(openFiles(proc)).toMatchObject({ known: true });
    const refused = jest.spyOn(fs, 'readdirSync');
    refused.mockImplementation(((place: string, ...rest: never[]) => {
      if (String(place).endsWith('/7/fd')) throw Object.assign(new Error('no'), { code: 'EACCES' });
      return jest.requireActual<typeof fs>('node:fs').readdirSync(place, ...rest);
    }) as never);
    const seen = openFiles(proc);
    refused.mockRestore();
    expect(seen.known).toBe(false);
    const file = put('a.frm');
    expect(take(held, names, { itemId: 1, path: 'a.frm', expected: expected(file) }, () => seen)).toMatchObject({
      done: false,
      reason: 'open unknown',
    });
  });
  test('what others have open is told by folder and path, of the inner folder where one lies in another', () => {
    const proc = at('proc');
    put('inner/a.mov');
    put('b.mov');
    for (const [id, file] of [
      ['7', at('inner/a.mov')],
      ['8', at('b.mov')],
      ['8', '/elsewhere/c.mov'],
      [String(process.pid), at('b.mov')],
    ] as const) {
      mkdirSync(path.join(proc, id, 'fd'), { recursive: true });
      writeFileSync(path.join(proc, id, 'comm'), `player ${id}\n`);
      symlinkSync(file, path.join(proc, id, 'fd', path.basename(file)));
    }
    const folders = new Map([
      [1, at('')],
      [2, at('inner')],
      [3, at('not there')],
    ]);
    expect(openPaths(folders, proc)).toEqual([
      { below: 2, path: 'a.mov', program: 'player 7' },
      { below: 1, path: 'b.mov', program: 'player 8' },
    ]);
    expect(openPaths(folders, at('no proc'))).toEqual([]);
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
  test('gives every byte, holes included, with sums that other tools find as well', async () => {
    const from = put('a.mov', content);
    const told: number[] = [];
    const result = await copyFile(
      pool,
      { from, to: at('copy') },
      { expected: expected(from), sha512: true, progress: (n) => told.push(n) },
    );
    expect(readFileSync(at('copy')).equals(content)).toBe(true);
    expect(result.sha512).toBe(createHash('sha512').update(content).digest('hex'));
    expect(told.reduce((a, b) => a + b, 0)).toBe(content.length);
    expect(statSync(at('copy')).blocks * 512).toBeLessThan(content.length - (8 << 20));
    expect((await sumFile(pool, at('copy'), { sha512: false })).xxh64).toBe(result.xxh64);
    expect(execFileSync('xxhsum', ['-H1', at('copy')], { encoding: 'utf8' })).toContain(result.xxh64);
  });
  test('mode, owner, times and extended attributes go along', async () => {
    const from = put('a.mov', 'x');
    chmodSync(from, 0o640);
    utimesSync(from, 1_234_567_890, 1_234_567_890.123456);
    execFileSync('setfattr', ['-n', 'user.note', '-v', 'keep me', from]);
    await copyFile(pool, { from, to: at('copy') }, { sha512: false });
    expect(await keepAttributes(from, at('copy'))).toBe('');
    expect(statSync(at('copy')).mode & 0o777).toBe(0o640);
    expect(statSync(at('copy'), { bigint: true }).mtimeNs).toBe(statSync(from, { bigint: true }).mtimeNs);
    expect(execFileSync('getfattr', ['--only-values', '-n', 'user.note', at('copy')], { encoding: 'utf8' })).toBe(
      'keep me',
    );
  });
  test('a file that ends in a hole keeps its length', async () => {
    const fd = openSync(at('hole'), 'w');
    writeSync(fd, 'x');
    ftruncateSync(fd, 3_000_000);
    closeSync(fd);
    await copyFile(pool, { from: at('hole'), to: at('copy') }, { sha512: false });
    expect(readFileSync(at('copy')).equals(readFileSync(at('hole')))).toBe(true);
  });
  test.each([
    ['changed', () => put('a.mov', 'changed since'), 'changed'],
    ['a link now', () => (rmSync(at('a.mov')), symlinkSync('/etc/passwd', at('a.mov'))), 'ELOOP'],
    ['gone', () => rmSync(at('a.mov')), 'ENOENT'],
  ])('a source that is %s is not copied', async (_words, change, code) => {
    const was = expected(put('a.mov', 'as chosen'));
    change();
    await expect(
      copyFile(pool, { from: at('a.mov'), to: at('copy') }, { expected: was, sha512: false }),
    ).rejects.toMatchObject({ code });
  });
  test('a copy never writes over a file, and ends when it is told to', async () => {
    put('copy', 'mine');
    await expect(copyFile(pool, { from: put('a.mov'), to: at('copy') }, { sha512: false })).rejects.toMatchObject({
      code: 'EEXIST',
    });
    expect(readFileSync(at('copy'), 'utf8')).toBe('mine');
    const stop = stopFlag();
    Atomics.store(stop, 0, 1);
    await expect(copyFile(pool, { from: at('a.mov'), to: at('other') }, { sha512: false, stop })).rejects.toMatchObject(
      { code: 'stopped' },
    );
  });
  test('what was flushed can be dropped from memory', async () => {
    expect(await dropFromMemory(put('a.mov', content))).toBe(true);
    expect(readFileSync(at('a.mov')).equals(content)).toBe(true);
  });
});
