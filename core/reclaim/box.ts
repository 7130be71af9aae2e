// Choosing by eye: candidates as points of age and size, and the ones that lie in a box. Plain numbers in typed arrays, so
// that hundreds of thousands follow a pointer.

/** Ages in days and sizes in bytes, one of each for a candidate. */
export interface Points {
  days: Float64Array;
  bytes: Float64Array;
}

/** Both ends belong to it. */
export interface Box {
  leastDays: number;
  mostDays: number;
  leastBytes: number;
  mostBytes: number;
}

export function pointsOf(candidates: readonly { day: number; bytes: number }[], today: number): Points {
  const points = { days: new Float64Array(candidates.length), bytes: new Float64Array(candidates.length) };
  for (const [i, { day, bytes }] of candidates.entries()) {
    points.days[i] = Math.max(0, today - day);
    points.bytes[i] = bytes;
  }
  return points;
}

/** Numbers of the candidates inside, in their order. */
export function within({ days, bytes }: Points, box: Box): number[] {
  const inside: number[] = [];
  for (let i = 0; i < days.length; i++)
    if (
      days[i]! >= box.leastDays &&
      days[i]! <= box.mostDays &&
      bytes[i]! >= box.leastBytes &&
      bytes[i]! <= box.mostBytes
    )
      inside.push(i);
  return inside;
}

/** The smallest box that holds them all; a day and a byte at least, so that nothing is divided by nothing. */
export function boxAround({ days, bytes }: Points): Box {
  const box = { leastDays: Infinity, mostDays: 1, leastBytes: Infinity, mostBytes: 1 };
  for (let i = 0; i < days.length; i++) {
    box.leastDays = Math.min(box.leastDays, days[i]!);
    box.mostDays = Math.max(box.mostDays, days[i]!);
    box.leastBytes = Math.min(box.leastBytes, bytes[i]!);
    box.mostBytes = Math.max(box.mostBytes, bytes[i]!);
  }
  return days.length === 0
    ? { leastDays: 0, mostDays: 1, leastBytes: 1, mostBytes: 1 }
    : { ...box, leastBytes: Math.max(1, box.leastBytes) };
}

/** A box from any two corners. */
export const boxFrom = (a: { days: number; bytes: number }, b: { days: number; bytes: number }): Box => ({
  leastDays: Math.min(a.days, b.days),
  mostDays: Math.max(a.days, b.days),
  leastBytes: Math.min(a.bytes, b.bytes),
  mostBytes: Math.max(a.bytes, b.bytes),
});

/** Which bytes are at least so old, by age. */
export function bytesByAge({ days, bytes }: Points, ages: readonly number[]): number[] {
  const sums = ages.map(() => 0);
  for (let i = 0; i < days.length; i++)
    for (const [at, age] of ages.entries()) if (days[i]! >= age) sums[at]! += bytes[i]!;
  return sums;
}
