import fc from 'fast-check';
import { setHouseZone } from '../house-time.ts';
import { timeOfDay } from '../wording/amounts.ts';
import { conflicts, isNight, sinceEvening, tonight } from './nights.ts';

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
  expect(tonight(at(now))).toEqual({ fromMs: at(from).getTime(), toMs: at(to).getTime() }),
);

test('a night is shorter when the clock is put forward, and longer when it is put back', () => {
  setHouseZone('Europe/Berlin');
  const told = ['2026-03-28T12:00:00Z', '2026-10-24T12:00:00Z', '2026-06-01T12:00:00Z'].map((now) => {
    const { fromMs, toMs } = tonight(at(now));
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
      const { fromMs, toMs } = tonight(now);
      expect(toMs).toBeGreaterThan(now.getTime());
      expect(fromMs - now.getTime()).toBeLessThan(25 * 3_600_000);
      expect(isNight(now)).toBe(now.getTime() >= fromMs && now.getTime() < toMs);
      expect(sinceEvening(now).fromMs).toBeLessThan(now.getTime());
    }),
  );
});

test('what needs the same thing is told of both, and what is not due of none', () => {
  const works = [
    { key: 'a', name: 'A', needs: ['scratch', 'KD-1'], isDue: true },
    { key: 'b', name: 'B', needs: ['scratch'], isDue: true },
    { key: 'c', name: 'C', needs: ['KD-1'], isDue: false },
  ];
  expect([...conflicts(works)]).toEqual([
    ['a', ['B needs scratch too']],
    ['b', ['A needs scratch too']],
  ]);
});
