// Chance from a seed: the demo site is the same every time.

export interface Chance {
  /** From 0 up to, not including, 1. */
  next(): number;
  /** A whole number from `low` to `high`, both included. */
  between(low: number, high: number): number;
  pick<T>(list: readonly T[]): T;
}

/** Mulberry32, a small generator of 32 bits; good enough for sizes and ages. */
export function chance(seed: number): Chance {
  let state = seed >>> 0;
  const next = () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let t = state;
    t = Math.imul(t ^ (t >>> 15), t | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  };
  const between = (low: number, high: number) => low + Math.floor(next() * (high - low + 1));
  return { next, between, pick: (list) => list[between(0, list.length - 1)]! };
}
