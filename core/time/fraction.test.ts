import fc from 'fast-check';
import { ceil, compare, floor, type Fraction, fraction, fractionOf, minus, over, plus, times } from './fraction.ts';

const whole = fc.oneof(
  fc.integer({ min: -5000, max: 5000 }),
  fc.maxSafeInteger(),
  fc.bigInt({ min: -(2n ** 80n), max: 2n ** 80n }),
);
const any = fc
  .tuple(
    whole,
    whole.filter((d) => d !== 0 && d !== 0n),
  )
  .map(([n, d]) => fraction(n, d));
/** The same in whole numbers without bound, which is what plain numbers must agree with. */
const same = (a: Fraction, n: bigint, d: bigint) => BigInt(a.n) * d === n * BigInt(a.d);
const big = (a: Fraction): [bigint, bigint] => [BigInt(a.n), BigInt(a.d)];

test('sums, differences, products and quotients of any size are exact', () => {
  fc.assert(
    fc.property(any, any, (a, b) => {
      const [[an, ad], [bn, bd]] = [big(a), big(b)];
      expect(same(plus(a, b), an * bd + bn * ad, ad * bd)).toBe(true);
      expect(same(minus(a, b), an * bd - bn * ad, ad * bd)).toBe(true);
      expect(same(times(a, b), an * bn, ad * bd)).toBe(true);
      if (bn !== 0n) expect(same(over(a, b), an * bd, ad * bn)).toBe(true);
      else expect(() => over(a, b)).toThrow(RangeError);
      const difference = an * bd - bn * ad;
      expect(compare(a, b)).toBe(difference < 0n ? -1 : difference > 0n ? 1 : 0);
      for (const result of [plus(a, b), minus(a, b), times(a, b)]) {
        expect(result.d > 0).toBe(true);
        expect(typeof result.n).toBe(typeof result.d);
      }
    }),
    { numRuns: 2000 },
  );
});

test('rounding down and up', () => {
  fc.assert(
    fc.property(fc.maxSafeInteger(), fc.integer({ min: 1, max: 100_000 }), (n, d) => {
      const [down, rest] = [BigInt(n) / BigInt(d), BigInt(n) % BigInt(d)];
      const low = Number(rest < 0n ? down - 1n : down);
      expect(floor(fraction(n, d))).toBe(low);
      expect(ceil(fraction(n, d))).toBe(rest === 0n ? low : low + 1);
    }),
  );
  expect([floor(fraction(-1, 2)), ceil(fraction(-1, 2)), floor(fraction(0)), ceil(fraction(0))]).toEqual([-1, 0, 0, 0]);
});

test('decimals as documents write them', () => {
  expect(fractionOf(0.5)).toEqual({ n: 1, d: 2 });
  expect(fractionOf(1 / 3)).toEqual({ n: 1, d: 3 });
  expect(fractionOf(23.976023976)).toEqual({ n: 24000, d: 1001 });
  expect(() => fractionOf(NaN)).toThrow(RangeError);
});
