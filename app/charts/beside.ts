// Which of many rectangles lies next to one in a direction: so that a map is walked by arrow keys as rows are.

export interface Rect {
  x0: number;
  x1: number;
  y0: number;
  y1: number;
}

export type Direction = 'left' | 'right' | 'up' | 'down';

const EPSILON = 1e-6;
const TURNED: Record<Direction, (rect: Rect) => Rect> = {
  right: (rect) => rect,
  left: ({ x0, x1, y0, y1 }) => ({ x0: -x1, x1: -x0, y0, y1 }),
  down: ({ x0, x1, y0, y1 }) => ({ x0: y0, x1: y1, y0: x0, y1: x1 }),
  up: ({ x0, x1, y0, y1 }) => ({ x0: -y1, x1: -y0, y0: x0, y1: x1 }),
};

/** Its place among `rects`: the nearest that begins where this one ends, the one straight ahead before others; null at the edge. */
export function beside(rects: readonly Rect[], from: number, direction: Direction): number | null {
  const turn = TURNED[direction];
  const own = turn(rects[from]!);
  const middle = (own.y0 + own.y1) / 2;
  let best: { at: number; far: number } | null = null;
  for (const [at, rect] of rects.entries()) {
    const { x0, y0, y1 } = turn(rect);
    if (at === from || x0 < own.x1 - EPSILON) continue;
    // How far off the way straight ahead it lies weighs twice as much as how far ahead.
    const off = Math.max(0, y0 - middle, middle - y1);
    const far = x0 - own.x1 + 2 * off;
    if (best === null || far < best.far) best = { at, far };
  }
  return best?.at ?? null;
}
