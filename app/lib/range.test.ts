import fc from 'fast-check';
import { rangeOf } from './range.ts';

test('the ranges of the standard, of ten thousand bytes', () => {
  const of = (header: string | null) => rangeOf(header, 10_000);
  expect(of('bytes=0-499')).toEqual({ from: 0, to: 499 });
  expect(of('bytes=500-999')).toEqual({ from: 500, to: 999 });
  expect(of('bytes=-500')).toEqual({ from: 9500, to: 9999 });
  expect(of('bytes=9500-')).toEqual({ from: 9500, to: 9999 });
  expect(of('bytes=9500-20000')).toEqual({ from: 9500, to: 9999 });
  expect(of('bytes=-20000')).toEqual({ from: 0, to: 9999 });
  for (const beyond of ['bytes=10000-', 'bytes=-0', 'bytes=10000-10001']) expect(of(beyond)).toBe('beyond');
  for (const none of [null, '', 'bytes=', 'bytes=-', 'bytes=5-4', 'bytes=0-1,3-4', 'seconds=0-1', 'bytes=a-b'])
    expect(of(none)).toBeNull();
});

test('whatever is asked, what is given lies within', () => {
  fc.assert(
    fc.property(fc.nat(100), fc.nat(100), fc.integer({ min: 1, max: 80 }), (a, b, bytes) => {
      const given = rangeOf(`bytes=${a}-${b}`, bytes);
      if (given === null) expect(b).toBeLessThan(a);
      else if (given === 'beyond') expect(a).toBeGreaterThanOrEqual(bytes);
      else expect([given.from === a, given.to >= given.from, given.to < bytes]).toEqual([true, true, true]);
    }),
  );
});
