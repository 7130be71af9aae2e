// Exact fractions for times: seconds, and factors of speed. Whole numbers of any size, so that an hour of nested, changed
// and mixed rates adds up to the frame. Used wherever a decimal would drift. Plain numbers carry them as long as they are
// exact, which is nearly always; beyond that they are whole numbers without bound.

export interface Fraction {
  readonly n: number | bigint;
  /** Always above zero. Of the same sort as `n`. */
  readonly d: number | bigint;
}

export const ZERO: Fraction = { n: 0, d: 1 };
export const ONE: Fraction = { n: 1, d: 1 };

const MOST = Number.MAX_SAFE_INTEGER;
/** A product or sum of exact numbers is exact where it is no larger than this: beyond, it shows by being larger. */
const exact = (value: number): boolean => value <= MOST && value >= -MOST;

/** `n` over `d` as it stands; `d` may be below zero, not zero. */
export function fraction(n: bigint | number, d: bigint | number = 1): Fraction {
  if (typeof n === 'number' && typeof d === 'number' && Number.isSafeInteger(n) && Number.isSafeInteger(d)) {
    if (d === 0) throw new RangeError('A fraction over zero.');
    return d < 0 ? { n: -n, d: -d } : { n, d };
  }
  const [a, b] = [BigInt(n), BigInt(d)];
  if (b === 0n) throw new RangeError('A fraction over zero.');
  return b < 0n ? narrow(-a, -b) : narrow(a, b);
}

/** The greatest number that divides both; of plain whole numbers. */
export function gcd(a: number, b: number): number {
  let [x, y] = [Math.abs(a), b];
  while (y !== 0) [x, y] = [y, x % y];
  return x;
}
function bigGcd(a: bigint, b: bigint): bigint {
  let [x, y] = [a < 0n ? -a : a, b];
  while (y !== 0n) [x, y] = [y, x % y];
  return x;
}

/** As plain numbers where those are exact. */
function narrow(n: bigint, d: bigint): Fraction {
  const [a, b] = [Number(n), Number(d)];
  return exact(a) && exact(b) ? { n: a, d: b } : { n, d };
}

function reduced(n: number, d: number): Fraction {
  const divisor = gcd(n, d);
  return divisor <= 1 ? { n, d } : { n: n / divisor, d: d / divisor };
}
function bigReduced(n: bigint, d: bigint): Fraction {
  const divisor = bigGcd(n, d);
  return divisor <= 1n ? narrow(n, d) : narrow(n / divisor, d / divisor);
}

/** A decimal as people and documents write it: to nine places, thirds and NTSC's 1001 found again. */
export function fractionOf(value: number): Fraction {
  if (!Number.isFinite(value)) throw new RangeError(`${value} is no number.`);
  if (Number.isSafeInteger(value)) return { n: value, d: 1 };
  for (const d of [2, 3, 5, 7, 9, 11, 1001, 1000, 24, 25, 30, 60]) {
    const n = value * d;
    if (exact(n) && Math.abs(n - Math.round(n)) < 1e-9 * Math.max(1, Math.abs(n))) return reduced(Math.round(n), d);
  }
  return bigReduced(BigInt(Math.round(value * 1e9)), 1_000_000_000n);
}

export function plus(a: Fraction, b: Fraction): Fraction {
  if (typeof a.n === 'number' && typeof b.n === 'number') {
    const [ad, bd] = [a.d as number, b.d as number];
    if (ad === bd) {
      const n = a.n + b.n;
      if (exact(n)) return { n, d: ad };
    } else {
      const [x, y, d] = [a.n * bd, b.n * ad, ad * bd];
      if (exact(x) && exact(y) && exact(x + y) && exact(d)) return reduced(x + y, d);
    }
  }
  return bigReduced(BigInt(a.n) * BigInt(b.d) + BigInt(b.n) * BigInt(a.d), BigInt(a.d) * BigInt(b.d));
}
export const minus = (a: Fraction, b: Fraction): Fraction => plus(a, negative(b));

export function times(a: Fraction, b: Fraction): Fraction {
  if (b.n === b.d) return a;
  if (a.n === a.d) return b;
  if (typeof a.n === 'number' && typeof b.n === 'number') {
    const [n, d] = [a.n * b.n, (a.d as number) * (b.d as number)];
    if (exact(n) && exact(d)) return reduced(n, d);
  }
  return bigReduced(BigInt(a.n) * BigInt(b.n), BigInt(a.d) * BigInt(b.d));
}
/** Throws RangeError where `b` is zero. */
export function over(a: Fraction, b: Fraction): Fraction {
  if (sign(b) === 0) throw new RangeError('Divided by zero.');
  return times(a, sign(b) < 0 ? { n: negate(b.d), d: negate(b.n) } : { n: b.d, d: b.n });
}
const negate = (value: number | bigint): number | bigint => (value === 0 ? 0 : -value);
export const negative = (a: Fraction): Fraction => ({ n: negate(a.n), d: a.d });
export const absolute = (a: Fraction): Fraction => (a.n < 0 ? negative(a) : a);
/** Below zero, zero or above. */
export const sign = (a: Fraction): number => (a.n < 0 ? -1 : a.n > 0 ? 1 : 0);

/** Below zero, zero or above, as `a` is less than, equal to or more than `b`. */
export function compare(a: Fraction, b: Fraction): number {
  if (typeof a.n === 'number' && typeof b.n === 'number') {
    const [x, y] = a.d === b.d ? [a.n, b.n] : [a.n * (b.d as number), b.n * (a.d as number)];
    if (exact(x) && exact(y)) return x < y ? -1 : x > y ? 1 : 0;
  }
  const difference = BigInt(a.n) * BigInt(b.d) - BigInt(b.n) * BigInt(a.d);
  return difference < 0n ? -1 : difference > 0n ? 1 : 0;
}
export const lesser = (a: Fraction, b: Fraction): Fraction => (compare(a, b) <= 0 ? a : b);
export const greater = (a: Fraction, b: Fraction): Fraction => (compare(a, b) >= 0 ? a : b);

export function floor({ n, d }: Fraction): number {
  // The remainder of exact numbers is exact, so that the quotient is whole.
  if (typeof n === 'number') {
    const rest = n % (d as number);
    return (n - rest) / (d as number) - (rest < 0 ? 1 : 0) + 0;
  }
  const b = d as bigint;
  return Number(n % b !== 0n && n < 0n ? n / b - 1n : n / b);
}
export const ceil = (a: Fraction): number => 0 - floor(negative(a));
export const toNumber = ({ n, d }: Fraction): number => Number(n) / Number(d);
