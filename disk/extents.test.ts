import { execFileSync, spawnSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, rmSync, statSync, truncateSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { mayShareBlocks, sharedBytes, sharedIn } from './extents.ts';

const folder = mkdtempSync(path.join(os.tmpdir(), 'extents-'));
const at = (name: string) => path.join(folder, name);
afterAll(() => {
  spawnSync('umount', [at('disk')]);
  rmSync(folder, { recursive: true, force: true });
});

test('extents that are marked as shared are summed, whatever the name of the file says', () => {
  const told = `Filesystem type is: 9123683e
File size of /m/   0:  0.. 9:  0.. 9:  10: shared is 5000000 (4883 blocks of 1024 bytes)
 ext:     logical_offset:        physical_offset: length:   expected: flags:
   0:        0..    1023:      13312..     14335:   1024:             shared
   1:     1024..    2047:      99312..    100335:   1024:      14336: unwritten,shared
   2:     2048..    4882:     200000..    202834:   2835:     100336: last,eof
/m/x: 3 extents found
`;
  expect(sharedIn(told)).toBe(2048 * 1024);
  expect(sharedIn('/m/x: FIBMAP unsupported\n')).toBeNull();
  expect(sharedIn('')).toBeNull();
});

test('a file that is not there, and one that shares nothing', async () => {
  writeFileSync(at('plain'), Buffer.alloc(100_000, 1));
  expect(await sharedBytes(at('not there'))).toBeNull();
  expect((await sharedBytes(at('plain'))) ?? 0).toBe(0);
  expect(await mayShareBlocks(at('not there'))).toBe(false);
});

/** Not every machine lets a test mount a disk of its own. */
function mounted(): boolean {
  mkdirSync(at('disk'));
  writeFileSync(at('image'), '');
  truncateSync(at('image'), 200_000_000);
  const run = (command: string, ...args: string[]) => spawnSync(command, args, { stdio: 'ignore' }).status === 0;
  return run('mkfs.btrfs', '-q', at('image')) && run('mount', '-o', 'loop', at('image'), at('disk'));
}

(mounted() ? test : test.skip)('a copy that shares its blocks, and one that does not, on a disk that can', async () => {
  writeFileSync(at('disk/a'), Buffer.alloc(5_000_000, 7));
  execFileSync('cp', ['--reflink=always', at('disk/a'), at('disk/b')]);
  execFileSync('cp', ['--reflink=never', at('disk/a'), at('disk/c')]);
  execFileSync('sync', ['-f', at('disk/a')]);
  expect(await mayShareBlocks(at('disk'))).toBe(true);
  for (const name of ['disk/a', 'disk/b'])
    expect(await sharedBytes(at(name))).toBeGreaterThanOrEqual(statSync(at(name)).size);
  expect(await sharedBytes(at('disk/c'))).toBe(0);
});
