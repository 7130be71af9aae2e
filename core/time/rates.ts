// Exact frame rates and ranges. OTIO writes rates as decimals; here they are fractions, so that sums stay whole frames.
import { gcd } from './fraction.ts';

/** Frames a second as a fraction in lowest terms. */
export interface Rate {
  num: number;
  den: number;
}

/** Whole frames, start included, end not. */
export interface FrameRange {
  start: number;
  duration: number;
}

/**
 * Reads a decimal rate. Decimals within 0.0005 of n*1000/1001 are taken for it (23.976, 29.97, 59.94: SMPTE ST 12-1);
 * others keep six decimals. Null where the value is no rate, or none that 32 bits hold.
 */
export function rateFromNumber(value: number): Rate | null {
  if (!Number.isFinite(value) || value < 0.001 || value > 1e6) return null;
  const rounded = Math.round(value);
  if (Math.abs(value - rounded) < 1e-6 && rounded > 0) return { num: rounded, den: 1 };
  const ntsc = Math.ceil(value);
  if (Math.abs(value - (ntsc * 1000) / 1001) < 0.0005) {
    const divisor = gcd(ntsc * 1000, 1001);
    return { num: (ntsc * 1000) / divisor, den: 1001 / divisor };
  }
  const num = Math.round(value * 1e6);
  const divisor = gcd(num, 1e6);
  // Both are kept in 32 bits.
  return num / divisor > 2 ** 31 - 1 ? null : { num: num / divisor, den: 1e6 / divisor };
}

/** The rate as a plain number of frames a second. */
export const perSecond = (rate: Rate): number => rate.num / rate.den;

/** However they are written: 50/2 is 25. */
export const isSameRate = (a: Rate, b: Rate): boolean => a.num * b.den === b.num * a.den;

/**
 * The smallest whole-frame range in `to` that covers a range given in `from`. Widening, never narrowing: what is said
 * to be used must cover what is used.
 */
export function coverInRate(range: FrameRange, from: Rate, to: Rate): FrameRange {
  if (from.num === to.num && from.den === to.den) {
    const start = Math.floor(range.start);
    return { start, duration: Math.ceil(range.start + range.duration) - start };
  }
  const up = BigInt(to.num) * BigInt(from.den);
  const down = BigInt(to.den) * BigInt(from.num);
  const first = BigInt(Math.floor(range.start)) * up;
  const last = BigInt(Math.ceil(range.start + range.duration)) * up;
  const start = floorDivide(first, down);
  return { start: Number(start), duration: Number(-floorDivide(-last, down) - start) };
}

const floorDivide = (a: bigint, b: bigint): bigint => (a % b !== 0n && a < 0n ? a / b - 1n : a / b);

/** Joins ranges that touch or overlap; the result is sorted and has gaps between its ranges. */
export function union(ranges: readonly FrameRange[]): FrameRange[] {
  const sorted = ranges.filter((range) => range.duration > 0).sort((a, b) => a.start - b.start);
  const joined: FrameRange[] = [];
  for (const range of sorted) {
    const last = joined.at(-1);
    if (last && range.start <= last.start + last.duration) {
      last.duration = Math.max(last.duration, range.start + range.duration - last.start);
    } else joined.push({ ...range });
  }
  return joined;
}

/** Frames in all ranges; of overlapping ones only once. */
export const totalFrames = (ranges: readonly FrameRange[]): number =>
  union(ranges).reduce((sum, range) => sum + range.duration, 0);

/** HH:MM:SS:FF, non-drop (SMPTE ST 12-1), counting at the rate rounded to whole frames. */
export function timecode(frame: number, rate: Rate): string {
  const base = Math.max(1, Math.round(perSecond(rate)));
  const two = (n: number) => String(n).padStart(2, '0');
  const whole = Math.max(0, Math.round(frame));
  const seconds = Math.floor(whole / base);
  return [Math.floor(seconds / 3600), Math.floor(seconds / 60) % 60, seconds % 60, whole % base].map(two).join(':');
}
