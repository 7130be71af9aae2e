import fc from 'fast-check';
import { roomOf } from './space.ts';

test('a file system that tells the truth is believed', () => {
  expect(roomOf({ blocks: 1000, bavail: 400, bsize: 4096 })).toEqual({
    totalBytes: 4_096_000,
    freeBytes: 1_638_400,
    credible: true,
  });
});

test('more free than there is, nothing at all, and nonsense are not believed', () => {
  expect(roomOf({ blocks: 10, bavail: 4000, bsize: 4096 })).toEqual({
    totalBytes: 40960,
    freeBytes: 40960,
    credible: false,
  });
  expect(roomOf({ blocks: 0, bavail: 0, bsize: 4096 }).credible).toBe(false);
  expect(roomOf({ blocks: NaN, bavail: 1, bsize: 1 })).toEqual({ totalBytes: 0, freeBytes: 0, credible: false });
  expect(roomOf({ blocks: -5, bavail: 1, bsize: 1 }).credible).toBe(false);
});

test('whatever is said, the room is a whole number of bytes between nothing and all', () => {
  const any = fc.oneof(fc.double(), fc.integer(), fc.constant(2 ** 62));
  fc.assert(
    fc.property(any, any, any, (blocks, bavail, bsize) => {
      const room = roomOf({ blocks, bavail, bsize });
      return room.freeBytes >= 0 && room.freeBytes <= room.totalBytes && Number.isFinite(room.totalBytes);
    }),
  );
});
