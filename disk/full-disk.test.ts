// On a file system that is truly full, in a namespace of its own: nothing half is left, and originals stay.
import { execFileSync, spawnSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';

/** Not every system lets a program mount what it alone sees. */
const canMount = spawnSync('unshare', ['-rm', 'true']).status === 0;
const folder = mkdtempSync(path.join(os.tmpdir(), 'full-'));
afterAll(() => rmSync(folder, { recursive: true, force: true }));

(canMount ? test : test.skip)('a copy, a document and a list that do not fit leave nothing behind', () => {
  writeFileSync(path.join(folder, 'original.mov'), Buffer.alloc(3_000_000, 7));
  const script = `mkdir -p ${folder}/full && mount -t tmpfs -o size=2m none ${folder}/full && exec ${process.execPath} --import tsx test/faults/full-disk.ts ${folder}`;
  const told = JSON.parse(execFileSync('unshare', ['-rm', 'sh', '-c', script], { encoding: 'utf8' })) as object;
  expect(told).toEqual({
    copy: 'ENOSPC',
    document: 'ENOSPC',
    own: 'ENOSPC',
    aside: { done: true },
    takenBack: true,
    original: 3_000_000,
    left: ['filler', 'kept.mov'],
  });
});
