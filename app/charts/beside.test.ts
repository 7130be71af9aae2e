import fc from 'fast-check';
import { beside, type Direction, type Rect } from './beside.ts';

/** A large one on the left, two above each other in the middle, one on the right. */
const MAP: Rect[] = [
  { x0: 0, x1: 50, y0: 0, y1: 60 },
  { x0: 50, x1: 80, y0: 0, y1: 20 },
  { x0: 50, x1: 80, y0: 20, y1: 60 },
  { x0: 80, x1: 100, y0: 0, y1: 60 },
];

test.each<[number, Direction, number | null]>([
  [0, 'right', 2],
  [2, 'up', 1],
  [1, 'down', 2],
  [1, 'right', 3],
  [3, 'left', 2],
  [2, 'left', 0],
  [0, 'left', null],
  [3, 'right', null],
  [1, 'up', null],
])('from %i %s is %p', (from, direction, to) => expect(beside(MAP, from, direction)).toBe(to));

test('whatever lies next to one lies in that direction, and an edge is the end', () => {
  const rect = fc
    .tuple(fc.nat(90), fc.integer({ min: 1, max: 10 }), fc.nat(90), fc.integer({ min: 1, max: 10 }))
    .map(([x0, w, y0, h]): Rect => ({ x0, x1: x0 + w, y0, y1: y0 + h }));
  fc.assert(
    fc.property(fc.array(rect, { minLength: 1, maxLength: 12 }), fc.nat(), (rects, n) => {
      const from = n % rects.length;
      const own = rects[from]!;
      const right = beside(rects, from, 'right');
      const up = beside(rects, from, 'up');
      if (right === null) expect(rects.every((one, i) => i === from || one.x0 < own.x1)).toBe(true);
      else expect(rects[right]!.x0).toBeGreaterThanOrEqual(own.x1);
      if (up === null) expect(rects.every((one, i) => i === from || one.y1 > own.y0)).toBe(true);
      else expect(rects[up]!.y1).toBeLessThanOrEqual(own.y0);
    }),
  );
});
