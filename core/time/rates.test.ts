import fc from 'fast-check';
import { coverInRate, type FrameRange, rateFromNumber, timecode, totalFrames, union } from './rates.ts';

const range = fc.record({ start: fc.integer({ min: -1000, max: 1000 }), duration: fc.integer({ min: 0, max: 300 }) });
const rate = fc.constantFrom(...[23.976, 24, 25, 29.97, 30, 50, 59.94, 60].map((n) => rateFromNumber(n)!));
const framesOf = (ranges: readonly FrameRange[]) =>
  new Set(ranges.flatMap((r) => Array.from({ length: r.duration }, (_, i) => r.start + i)));

test('decimal rates near n*1000/1001 are exact fractions', () => {
  expect(rateFromNumber(23.976)).toEqual({ num: 24000, den: 1001 });
  expect(rateFromNumber(29.97002997)).toEqual({ num: 30000, den: 1001 });
  expect(rateFromNumber(59.94)).toEqual({ num: 60000, den: 1001 });
  expect(rateFromNumber(25)).toEqual({ num: 25, den: 1 });
  expect(rateFromNumber(48000)).toEqual({ num: 48000, den: 1 });
  for (const bad of [0, -1, NaN, Infinity]) expect(rateFromNumber(bad)).toBeNull();
});

test('a union holds the same frames as its parts, sorted, with gaps between', () => {
  fc.assert(
    fc.property(fc.array(range, { maxLength: 20 }), (ranges) => {
      const joined = union(ranges);
      expect(framesOf(joined)).toEqual(framesOf(ranges));
      expect(totalFrames(ranges)).toBe(framesOf(ranges).size);
      for (let i = 1; i < joined.length; i++)
        expect(joined[i]!.start).toBeGreaterThan(joined[i - 1]!.start + joined[i - 1]!.duration);
    }),
  );
});

test('a range in another rate covers the time of the first, and is never more than a frame wider at either end', () => {
  fc.assert(
    fc.property(range, rate, rate, (given, from, to) => {
      const covered = coverInRate(given, from, to);
      const seconds = (frames: number, r: typeof from) => (frames * r.den) / r.num;
      const frame = seconds(1, to);
      const [begin, end] = [seconds(given.start, from), seconds(given.start + given.duration, from)];
      expect(seconds(covered.start, to)).toBeLessThanOrEqual(begin + 1e-9);
      expect(seconds(covered.start, to)).toBeGreaterThan(begin - frame - 1e-9);
      expect(seconds(covered.start + covered.duration, to)).toBeGreaterThanOrEqual(end - 1e-9);
      expect(seconds(covered.start + covered.duration, to)).toBeLessThan(end + frame + 1e-9);
    }),
  );
});

test('timecode counts hours, minutes, seconds and frames', () => {
  expect(timecode(0, { num: 25, den: 1 })).toBe('00:00:00:00');
  expect(timecode(25 * 3661 + 7, { num: 25, den: 1 })).toBe('01:01:01:07');
  expect(timecode(24, { num: 24000, den: 1001 })).toBe('00:00:01:00');
});
