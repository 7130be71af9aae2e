import fc from 'fast-check';
import { forecast, forecastWords, growthCauses, type Sample, trendOf } from './forecast.ts';

const line = (days: number, start: number, slope: number): Sample[] =>
  Array.from({ length: days }, (_, i) => ({ day: 100 + i, bytes: start + slope * i }));

test('a straight line is met at its day, with no doubt about it', () => {
  const said = forecast(line(10, 100, 10), 290);
  expect(said).toEqual({ says: 'fills', bytesPerDay: 10, days: 10, earliest: 10, latest: 10 });
  expect(forecastWords(said)).toBe('full in 10 days');
});

test('any line is found again from its samples, whatever their order and however often a day was sampled', () => {
  fc.assert(
    fc.property(
      fc.integer({ min: 5, max: 60 }),
      fc.integer({ min: -1000, max: 1000 }),
      fc.integer({ min: 0, max: 1e6 }),
      (days, slope, start) => {
        const samples = line(days, start, slope);
        const trend = trendOf([...samples].reverse().concat(samples[0]!));
        expect(trend!.bytesPerDay).toBeCloseTo(slope, 9);
        expect(trend!.low).toBeLessThanOrEqual(trend!.bytesPerDay + 1e-9);
        expect(trend!.high).toBeGreaterThanOrEqual(trend!.bytesPerDay - 1e-9);
      },
    ),
  );
});

test('one wild day in eight weeks hardly moves the line', () => {
  const samples = line(56, 1000, 10);
  samples[30]!.bytes += 1e9;
  expect(trendOf(samples)!.bytesPerDay).toBeCloseTo(10, 0);
});

test('noise widens the interval, and the true slope lies in it about eight times of ten', () => {
  let seed = 7;
  const chance = () => ((seed = (seed * 16807) % 2147483647) / 2147483647) * 2 - 1;
  let inside = 0;
  for (let i = 0; i < 400; i++) {
    const noisy = line(28, 1000, 10).map((s) => ({ ...s, bytes: s.bytes + 60 * (chance() + chance() + chance()) }));
    const { low, high } = trendOf(noisy)!;
    if (low <= 10 && 10 <= high) inside++;
  }
  expect(inside / 400).toBeGreaterThan(0.72);
  expect(inside / 400).toBeLessThan(0.9);
});

test('full, steady, shrinking and too few days are told apart', () => {
  expect(forecastWords(forecast(line(10, 1000, 0), 1000))).toBe('full');
  expect(forecastWords(forecast(line(10, 500, 0), 1000))).toBe('steady');
  expect(forecastWords(forecast(line(10, 900, -20), 1000))).toBe('shrinking');
  expect(forecastWords(forecast(line(4, 500, 1), 1000))).toBe('too few days to tell');
  expect(forecastWords(forecast([], 1000))).toBe('too few days to tell');
  expect(forecastWords({ says: 'fills', bytesPerDay: 1, days: 11, earliest: 9, latest: 13 })).toBe(
    'full in 9 to 13 days',
  );
  expect(forecastWords({ says: 'fills', bytesPerDay: 1, days: 11, earliest: 9, latest: null })).toBe(
    'full in 9 days or later',
  );
});

test('what is held now counts over the last sample: after a purge a volume lasts longer', () => {
  expect(forecast(line(10, 100, 10), 290, 90)).toMatchObject({ says: 'fills', days: 20 });
});

test('causes of growth are what grew, the most first, with shares that add up', () => {
  const causes = growthCauses(
    new Map([
      ['a', 10],
      ['b', 5],
      ['c', 9],
    ]),
    new Map([
      ['a', 40],
      ['b', 15],
      ['c', 1],
      ['d', 10],
    ]),
  );
  expect(causes.map((c) => [c.key, c.bytes])).toEqual([
    ['a', 30],
    ['b', 10],
    ['d', 10],
  ]);
  expect(causes.reduce((sum, c) => sum + c.share, 0)).toBeCloseTo(1);
});
