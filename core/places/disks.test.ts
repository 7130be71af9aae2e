import { isOneDisk, type OnDisk } from './disks.ts';

const volume = (id: number, more: Partial<OnDisk> = {}): OnDisk => ({ id, stationId: 1, disk: '', device: 7, ...more });

test.each<[string, OnDisk, OnDisk, boolean]>([
  ['a volume and itself', volume(1), volume(1), true],
  ['one file system of one station', volume(1), volume(2), true],
  ['the same number on another station', volume(1), volume(2, { stationId: 2 }), false],
  ['another file system', volume(1), volume(2, { device: 8 }), false],
  ['what was never read', volume(1, { device: null }), volume(2, { device: null }), false],
  [
    'two shares of one array',
    volume(1, { disk: 'Array', stationId: 1 }),
    volume(2, { disk: 'array', device: 9, stationId: 2 }),
    true,
  ],
  ['one file system that people part', volume(1, { disk: 'left' }), volume(2, { disk: 'right' }), false],
  ['a disk that people name, and one that nobody does', volume(1, { disk: 'left' }), volume(2), false],
])('%s', (_what, a, b, expected) => {
  expect([isOneDisk(a, b), isOneDisk(b, a)]).toEqual([expected, expected]);
});
