// Looking for a folder: on real ones, and in what other machines say is mounted.
import { mkdirSync, mkdtempSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { listFolders, mountedPlaces } from './folder-list.ts';

let at: string;
beforeEach(() => void (at = mkdtempSync(path.join(os.tmpdir(), 'list-'))));
afterEach(() => rmSync(at, { recursive: true, force: true }));

test('folders are told by name in their order, files counted, links and what is hidden left out', () => {
  for (const name of ['reel 10', 'reel 2', '.hidden', 'Übersicht']) mkdirSync(path.join(at, name));
  writeFileSync(path.join(at, 'a.mov'), 'a');
  symlinkSync('/etc', path.join(at, 'elsewhere'));
  expect(listFolders(at)).toMatchObject({
    ...{ path: at, parent: path.dirname(at), folders: ['reel 2', 'reel 10', 'Übersicht'], files: 1, more: 0 },
    writable: true,
  });
  expect(listFolders('/').parent).toBeNull();
  expect(listFolders(at).totalBytes).toBeGreaterThan(listFolders(at).freeBytes);
});

test('of many folders the first five hundred are told, and how many more there are', () => {
  for (let i = 0; i < 503; i++) mkdirSync(path.join(at, `f${i}`));
  const { folders, more } = listFolders(at);
  expect([folders.length, more]).toEqual([500, 3]);
});

test('what is not there, or no folder, is said by the disk', () => {
  writeFileSync(path.join(at, 'a.mov'), 'a');
  expect(() => listFolders(path.join(at, 'nowhere'))).toThrow(/ENOENT/);
  expect(() => listFolders(path.join(at, 'a.mov'))).toThrow(/ENOTDIR/);
});

test('what is mounted is told without the kernel’s own, with the spaces that names have', () => {
  const spaced = path.join(at, 'Carry 04');
  mkdirSync(spaced);
  const line = (place: string, type: string) => `36 35 98:0 / ${place} rw,noatime master:1 - ${type} /dev/x rw`;
  const told = mountedPlaces(
    [
      line(spaced.replaceAll(' ', '\\040'), 'exfat'),
      line(at, 'nfs4'),
      ...[line('/proc', 'proc'), line('/dev/shm', 'tmpfs'), line('/run/user/0', 'ext4'), line('/not/there', 'xfs')],
      ...['', 'nonsense', '1 2 3'],
    ].join('\n'),
  );
  expect(told.map((place) => place.path)).toEqual([at, spaced]);
  expect(mountedPlaces().every((place) => place.totalBytes >= place.freeBytes)).toBe(true);
});
