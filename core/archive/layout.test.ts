import fc from 'fast-check';
import { copySets, type Holder, layOn, type Layout, type Overhead, proposeCarriers } from './layout.ts';

const NONE: Overhead = { partBytes: 0, fileBytes: 0 };
const carriers = (...rooms: number[]): Holder[] => rooms.map((roomBytes, i) => ({ carrierId: i + 1, roomBytes }));

test('what fits on every carrier is one part, whole on each', () => {
  const laid = layOn([3, 4, 5], [carriers(20), carriers(12)], NONE)!;
  expect(laid.partBytes).toEqual([12]);
  expect(laid.copies.map((copy) => copy.carriers)).toEqual([
    [{ carrierId: 1, parts: [0] }],
    [{ carrierId: 1, parts: [0] }],
  ]);
});

test('what does not fit goes over a set, in the order in which it lies', () => {
  const laid = layOn([4, 4, 4, 4], [carriers(9, 9)], NONE)!;
  expect(laid.partOf).toEqual([0, 0, 1, 1]);
  expect(laid.copies[0]!.carriers).toEqual([
    { carrierId: 1, parts: [0] },
    { carrierId: 2, parts: [1] },
  ]);
});

test('a new part begins wherever any copy goes on to its next carrier, so that all copies have the same parts', () => {
  const laid = layOn([5, 5, 5, 5], [carriers(100), carriers(10, 10), carriers(15, 5)], NONE)!;
  expect(laid.partOf).toEqual([0, 0, 1, 2]);
  expect(laid.copies.map((copy) => copy.carriers.map((one) => one.parts))).toEqual([
    [[0, 1, 2]],
    [[0], [1, 2]],
    [[0, 1], [2]],
  ]);
});

test('large files that would waste a carrier in their order are laid otherwise', () => {
  expect(layOn([6, 6, 4, 4], [carriers(10, 10)], NONE)!.partOf).toEqual([0, 1, 0, 1]);
});

test('a file that is larger than any carrier cannot be laid out, nor can more than all hold', () => {
  expect(layOn([11], [carriers(10, 10)], NONE)).toBeNull();
  expect(layOn([5, 5, 5], [carriers(7, 7)], NONE)).toBeNull();
});

test('carriers that hold it alone are a copy each, the others together, and what is left over is told', () => {
  const { sets, unused } = copySets([4, 4, 4], carriers(20, 8, 4, 3), NONE);
  expect(sets.map((set) => set.map((one) => one.carrierId))).toEqual([[1], [2, 3]]);
  expect(unused.map((one) => one.carrierId)).toEqual([4]);
});

test('of carriers that hold the rest of a set, the smallest is taken', () => {
  const { sets, unused } = copySets([4, 4, 4], carriers(8, 7, 4), NONE);
  expect(sets.map((set) => set.map((one) => one.carrierId))).toEqual([[1, 3]]);
  expect(unused.map((one) => one.carrierId)).toEqual([2]);
});

test('carriers are proposed by how little is left over, in other places first where the house wants places', () => {
  const at = (places: string[], ...rooms: number[]) =>
    carriers(...rooms).map((one, i) => ({ ...one, place: places[i]! }));
  const all = at(['here', 'Here', 'cellar'], 30, 15, 90);
  expect(proposeCarriers([12], all, { copies: 2, places: 1, overhead: NONE })).toEqual([2, 1]);
  expect(proposeCarriers([12], all, { copies: 2, places: 2, overhead: NONE })).toEqual([2, 3]);
  expect(proposeCarriers([10, 10], at(['a', 'b'], 12, 11), { copies: 2, places: 1, overhead: NONE })).toEqual([1, 2]);
  expect(proposeCarriers([100, 1], all, { copies: 1, places: 1, overhead: NONE })).toEqual([]);
});

/** All that must be true of any layout. */
function check(sizes: readonly number[], sets: readonly (readonly Holder[])[], overhead: Overhead, laid: Layout): void {
  expect(laid.partOf).toHaveLength(sizes.length);
  const bytes = laid.partBytes.map(() => 0);
  const files = laid.partBytes.map(() => 0);
  laid.partOf.forEach((part, file) => {
    bytes[part]! += sizes[file]!;
    files[part]!++;
  });
  expect(bytes).toEqual(laid.partBytes);
  laid.copies.forEach((copy, i) => {
    // Every part is on exactly one carrier of every copy.
    expect(copy.carriers.flatMap((one) => one.parts)).toEqual(laid.partBytes.map((_, part) => part));
    for (const { carrierId, parts } of copy.carriers) {
      const taken = parts.reduce(
        (sum, part) => sum + bytes[part]! + overhead.partBytes + files[part]! * overhead.fileBytes,
        0,
      );
      expect(taken).toBeLessThanOrEqual(sets[i]!.find((one) => one.carrierId === carrierId)!.roomBytes);
    }
  });
}

test('no carrier is ever filled beyond its room, and every copy holds every file once', () => {
  const sizes = fc.array(fc.integer({ min: 0, max: 50 }), { minLength: 1, maxLength: 40 });
  const rooms = fc.array(fc.integer({ min: 0, max: 200 }), { minLength: 1, maxLength: 6 });
  const overheads = fc.record({ partBytes: fc.integer({ min: 0, max: 5 }), fileBytes: fc.integer({ min: 0, max: 2 }) });
  fc.assert(
    fc.property(sizes, fc.array(rooms, { minLength: 1, maxLength: 3 }), overheads, (files, all, overhead) => {
      const sets = all.map((own) => carriers(...own));
      const laid = layOn(files, sets, overhead);
      if (laid) check(files, sets, overhead, laid);
      // Where files lie in no order that matters, as much as there is room for and a file more per carrier is always laid.
      else
        for (const set of sets.slice(0, sets.length === 1 ? 1 : 0)) {
          const largest = Math.max(...files) + overhead.fileBytes;
          const needed = files.reduce((sum, own) => sum + own + overhead.fileBytes, 0);
          const sure = set.reduce((sum, one) => sum + Math.max(0, one.roomBytes - overhead.partBytes - largest), 0);
          expect(sure).toBeLessThan(needed);
        }
    }),
    { numRuns: 500 },
  );
});

test('sets that are made of chosen carriers hold what they are made for, and no carrier is in two', () => {
  fc.assert(
    fc.property(
      fc.array(fc.integer({ min: 1, max: 50 }), { minLength: 1, maxLength: 30 }),
      fc.array(fc.integer({ min: 0, max: 400 }), { minLength: 1, maxLength: 8 }),
      (files, rooms) => {
        const { sets, unused } = copySets(files, carriers(...rooms), NONE);
        const ids = [...sets.flat(), ...unused].map((one) => one.carrierId);
        expect([...ids].sort()).toEqual(rooms.map((_, i) => i + 1));
        if (sets.length > 0) check(files, sets, NONE, layOn(files, sets, NONE)!);
      },
    ),
    { numRuns: 500 },
  );
});
