import fc from 'fast-check';
import { setHouseZone } from '../house-time.ts';
import { timeOfDay } from '../wording/amounts.ts';
import {
  type Hours,
  hours,
  hoursFor,
  hoursWords,
  isWithin,
  lateBefore,
  spanBefore,
  spanOf,
  USUAL_HOURS,
  USUAL_NIGHT,
  wasSince,
} from './hours.ts';
import { conflicts, sinceEvening } from './nights.ts';

const at = (text: string) => new Date(text);

test.each([
  ['2026-11-28T08:30:00', '2026-11-27T18:00:00'],
  ['2026-11-28T23:00:00', '2026-11-27T18:00:00'],
  ['2026-01-01T00:10:00', '2025-12-31T18:00:00'],
])('a morning at %s tells since %s', (now, from) =>
  expect(sinceEvening(at(now))).toEqual({ fromMs: at(from).getTime(), toMs: at(now).getTime() }),
);

test.each([
  ['2026-11-28T12:00:00', '2026-11-29T01:00:00', '2026-11-29T05:00:00'],
  ['2026-11-28T00:30:00', '2026-11-28T01:00:00', '2026-11-28T05:00:00'],
  ['2026-11-28T04:59:00', '2026-11-28T01:00:00', '2026-11-28T05:00:00'],
  ['2026-11-28T05:00:00', '2026-11-29T01:00:00', '2026-11-29T05:00:00'],
])('at %s the night is %s to %s', (now, from, to) =>
  expect(spanOf(USUAL_NIGHT, at(now))).toEqual({ fromMs: at(from).getTime(), toMs: at(to).getTime() }),
);

test('a night is shorter when the clock is put forward, and longer when it is put back', () => {
  setHouseZone('Europe/Berlin');
  const told = ['2026-03-28T12:00:00Z', '2026-10-24T12:00:00Z', '2026-06-01T12:00:00Z'].map((now) => {
    const { fromMs, toMs } = spanOf(USUAL_NIGHT, at(now));
    const hour = (ms: number) => timeOfDay(ms);
    return [(toMs - fromMs) / 3_600_000, hour(fromMs), hour(sinceEvening(at(new Date(toMs).toISOString())).fromMs)];
  });
  setHouseZone(null);
  expect(told).toEqual([
    [3, '01:00', '18:00'],
    [5, '01:00', '18:00'],
    [4, '01:00', '18:00'],
  ]);
});

test('whenever it is asked, the night that is told is on or comes within a day, and nothing of it is night elsewhere', () => {
  fc.assert(
    fc.property(fc.date({ min: at('2025-01-01'), max: at('2030-01-01'), noInvalidDate: true }), (now) => {
      const { fromMs, toMs } = spanOf(USUAL_NIGHT, now);
      expect(toMs).toBeGreaterThan(now.getTime());
      expect(fromMs - now.getTime()).toBeLessThan(25 * 3_600_000);
      expect(isWithin(USUAL_NIGHT, now)).toBe(now.getTime() >= fromMs && now.getTime() < toMs);
      expect(sinceEvening(now).fromMs).toBeLessThan(now.getTime());
    }),
  );
});

const EVERY = [0, 1, 2, 3, 4, 5, 6];
const HOUR = 3_600_000;

test.each<[Hours, string, string, string]>([
  // Over midnight; a night belongs to the day that it begins on.
  [{ from: 22, to: 6, days: EVERY }, '2026-11-28T23:00:00', '2026-11-28T22:00:00', '2026-11-29T06:00:00'],
  [{ from: 22, to: 6, days: EVERY }, '2026-11-29T05:59:00', '2026-11-28T22:00:00', '2026-11-29T06:00:00'],
  [{ from: 22, to: 6, days: EVERY }, '2026-11-29T06:00:00', '2026-11-29T22:00:00', '2026-11-30T06:00:00'],
  // 28 November 2026 is a Saturday.
  [{ from: 22, to: 6, days: [1, 2, 3, 4, 5] }, '2026-11-28T05:00:00', '2026-11-27T22:00:00', '2026-11-28T06:00:00'],
  [{ from: 22, to: 6, days: [1, 2, 3, 4, 5] }, '2026-11-28T23:00:00', '2026-11-30T22:00:00', '2026-12-01T06:00:00'],
  [{ from: 8, to: 20, days: [6] }, '2026-11-28T20:00:00', '2026-12-05T08:00:00', '2026-12-05T20:00:00'],
  [{ from: 7, to: 7, days: EVERY }, '2026-11-28T06:00:00', '2026-11-27T07:00:00', '2026-11-28T07:00:00'],
])('%j at %s are %s to %s', (own, now, from, to) =>
  expect(spanOf(own, at(now))).toEqual({ fromMs: at(from).getTime(), toMs: at(to).getTime() }),
);

const anyHours = fc
  .record({
    from: fc.integer({ min: 0, max: 23 }),
    to: fc.integer({ min: 0, max: 23 }),
    days: fc.uniqueArray(fc.integer({ min: 0, max: 6 }), { minLength: 1 }),
  })
  .map((own) => hours.parse(own));
const anyTime = fc.date({ min: at('2025-01-01'), max: at('2030-01-01'), noInvalidDate: true });
const anyZone = fc.constantFrom(
  'Europe/Berlin',
  'America/New_York',
  'Pacific/Apia',
  'Asia/Kathmandu',
  'Australia/Lord_Howe',
  'UTC',
);

test('whatever hours, clock and moment: they are on or come within eight days, the last are over, and nothing lies between', () => {
  fc.assert(
    fc.property(anyHours, anyTime, anyZone, (own, now, zone) => {
      setHouseZone(zone);
      const [next, before] = [spanOf(own, now), spanBefore(own, now)];
      expect(next.toMs).toBeGreaterThan(now.getTime());
      expect(next.fromMs - now.getTime()).toBeLessThanOrEqual(8 * 24 * HOUR);
      expect(next.toMs - next.fromMs).toBeLessThanOrEqual(25 * HOUR);
      expect(before.toMs).toBeLessThanOrEqual(now.getTime());
      expect(before.toMs).toBeLessThanOrEqual(next.fromMs);
      expect(isWithin(own, now)).toBe(next.fromMs <= now.getTime());
      // Asked anywhere in the span the same span is told, and right before it none is on.
      for (const within of [next.fromMs, next.toMs - 1, Math.floor((next.fromMs + next.toMs) / 2)])
        expect(spanOf(own, new Date(within))).toEqual(next);
      expect(spanBefore(own, new Date(next.toMs))).toEqual(next);
      expect(spanOf(own, new Date(before.toMs))).toEqual(next);
      expect(lateBefore(own, now)).toBeLessThan(before.fromMs);
      setHouseZone(null);
    }),
    { numRuns: 100 },
  );
});

test('hour by hour over a fortnight, by a clock that never changes, it is on exactly where a calendar says so', () => {
  setHouseZone('UTC');
  fc.assert(
    fc.property(anyHours, (own) => {
      const begun = at('2026-11-20T00:00:00Z').getTime();
      for (let i = 0; i < 14 * 24; i++) {
        const now = new Date(begun + i * HOUR);
        const hour = now.getUTCHours();
        const [today, yesterday] = [own.days.includes(now.getUTCDay()), own.days.includes((now.getUTCDay() + 6) % 7)];
        const isOn =
          own.to > own.from
            ? today && hour >= own.from && hour < own.to
            : (today && hour >= own.from) || (yesterday && hour < own.to);
        expect([now, isWithin(own, now)]).toEqual([now, isOn]);
      }
    }),
    { numRuns: 10 },
  );
  setHouseZone(null);
});

test('what was done in the hours is not done again in them; by a clock that was wrong it is', () => {
  const now = at('2026-11-29T03:00:00').getTime();
  const sinceMs = spanOf({ from: 18, to: 8, days: EVERY }, new Date(now)).fromMs;
  // Thirteen hours long, and once.
  expect(wasSince(sinceMs, { sinceMs, now: sinceMs + 13 * HOUR })).toBe(true);
  expect(wasSince(sinceMs - 1, { sinceMs, now })).toBe(false);
  expect(wasSince(now + 40 * 24 * HOUR, { sinceMs, now })).toBe(false);
});

test('what has no hours of its own has the house’s; what only looks, any', () => {
  const own = { from: 8, to: 20, days: [6] };
  expect(hoursFor(USUAL_HOURS, 'projects')).toEqual(USUAL_NIGHT);
  expect(hoursFor(USUAL_HOURS, 'readings')).toBeNull();
  expect(hoursFor({ ...USUAL_HOURS, own: { readings: own } }, 'readings')).toEqual(own);
});

test.each<[Hours, string]>([
  [USUAL_NIGHT, 'each night, between 1:00 and 5:00'],
  [{ from: 22, to: 6, days: EVERY }, 'each night, between 22:00 and 6:00'],
  [{ from: 22, to: 6, days: [1, 2, 3, 4, 5] }, 'Monday to Friday, between 22:00 and 6:00'],
  [{ from: 8, to: 20, days: [0, 6] }, 'Saturday and Sunday, between 8:00 and 20:00'],
  [{ from: 9, to: 18, days: EVERY }, 'each day, between 9:00 and 18:00'],
  [{ from: 0, to: 0, days: EVERY }, 'each day, from 0:00 for a day'],
])('%j are %s', (own, words) => expect(hoursWords(own)).toBe(words));

test('two tapes and one drive meet, two and two do not, and one tape is told once', () => {
  const span = { fromMs: 0, toMs: 10 };
  const works = [
    { key: 'a', name: 'A', needs: ['T1'], isDue: true, span },
    { key: 'b', name: 'B', needs: ['T2'], isDue: true, span },
    { key: 'c', name: 'C', needs: ['T2'], isDue: true, span: { fromMs: 20, toMs: 30 } },
  ];
  const library = (drives: number) => [{ library: 'Loft library', drives, carriers: ['T1', 'T2', 'T3'] }];
  expect([...conflicts(works, library(1))]).toEqual([
    ['a', ['B needs the one drive of Loft library too']],
    ['b', ['A needs the one drive of Loft library too']],
  ]);
  expect(conflicts(works, library(2)).size).toBe(0);
  const same = [works[0]!, { ...works[1]!, needs: ['T1'] }];
  expect([...conflicts(same, library(1))].map(([, told]) => told)).toEqual([['B needs T1 too'], ['A needs T1 too']]);
});

test('what needs the same thing at the same time is told of both, and what is not due of none', () => {
  const works = [
    { key: 'a', name: 'A', needs: ['scratch', 'KD-1'], isDue: true, span: { fromMs: 0, toMs: 10 } },
    { key: 'b', name: 'B', needs: ['scratch'], isDue: true, span: { fromMs: 9, toMs: 20 } },
    { key: 'c', name: 'C', needs: ['KD-1'], isDue: false, span: { fromMs: 0, toMs: 10 } },
    { key: 'd', name: 'D', needs: ['scratch'], isDue: true, span: { fromMs: 20, toMs: 30 } },
  ];
  expect([...conflicts(works)]).toEqual([
    ['a', ['B needs scratch too']],
    ['b', ['A needs scratch too']],
  ]);
});
