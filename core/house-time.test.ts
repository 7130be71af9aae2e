import fc from 'fast-check';
import {
  clockIn,
  dayAfter,
  houseClock,
  houseDay,
  houseZone,
  inHouse,
  isoDay,
  isZone,
  machineZone,
  offsetWords,
  setHouseZone,
  startOfDay,
} from './house-time.ts';

afterEach(() => setHouseZone(null));
const ms = (text: string) => Date.parse(text);

test.each([
  ['Europe/Berlin', '2026-07-01T22:30:00Z', ['2026-07-02', '00:30:00', 'UTC+2']],
  ['Europe/Berlin', '2026-12-01T22:30:00Z', ['2026-12-01', '23:30:00', 'UTC+1']],
  ['America/St_Johns', '2026-12-01T02:00:00Z', ['2026-11-30', '22:30:00', 'UTC−3:30']],
  ['Pacific/Auckland', '2026-12-31T11:00:00Z', ['2027-01-01', '00:00:00', 'UTC+13']],
  ['UTC', '2026-12-31T11:00:00Z', ['2026-12-31', '11:00:00', 'UTC']],
])('in %s at %s it is %j', (zone, at, told) => {
  setHouseZone(zone);
  expect([isoDay(ms(at)), houseClock(ms(at)), offsetWords(ms(at))]).toEqual(told);
});

test('a clock elsewhere has its own weekday', () => {
  const at = ms('2026-11-29T20:05:00Z');
  expect([clockIn('UTC', at), clockIn('Asia/Tokyo', at), clockIn('America/Los_Angeles', at)]).toEqual([
    'Sunday, 20:05',
    'Monday, 05:05',
    'Sunday, 12:05',
  ]);
});

test('a zone that there is not leaves the clock of the machine', () => {
  for (const wrong of ['Nowhere/Land', '', '+01:00', 'Europe/Berlin; DROP', null]) {
    setHouseZone('Asia/Tokyo');
    setHouseZone(wrong);
    expect(houseZone()).toBe(machineZone());
  }
  expect([isZone('Asia/Tokyo'), isZone('nonsense'), isZone('')]).toEqual([true, false, false]);
});

test('a day that is none begins never', () => {
  for (const wrong of ['2026-02-30', '2026-13-01', '2026-1-1', 'tomorrow', ''])
    expect(startOfDay(wrong).getTime()).toBeNaN();
});

test('where the clock skips midnight, the day begins right after', () => {
  setHouseZone('America/Santiago');
  // On 6 September 2026 the clock goes from 24:00 to 01:00.
  const start = startOfDay('2026-09-06').getTime();
  expect(isoDay(start)).toBe('2026-09-06');
  expect(houseDay(start - 1)).toBe(houseDay(start) - 1);
});

const ZONES = [
  'UTC',
  'Europe/Berlin',
  'America/New_York',
  'Asia/Kolkata',
  'Australia/Lord_Howe',
  'Pacific/Kiritimati',
  'America/Santiago',
];

test('every moment is in the day that is told: not before it begins, and before the next begins', () => {
  fc.assert(
    fc.property(
      fc.constantFrom(...ZONES),
      fc.integer({ min: ms('2000-01-01T00:00:00Z'), max: ms('2037-01-01T00:00:00Z') }),
      (zone, at) => {
        setHouseZone(zone);
        const start = startOfDay(isoDay(at)).getTime();
        const next = dayAfter(new Date(at)).getTime();
        expect(start).toBeLessThanOrEqual(at);
        expect(next).toBeGreaterThan(at);
        expect(inHouse(at).getTime()).toBe(at);
        expect(inHouse(at).getHours()).toBe(Number(houseClock(at).slice(0, 2)));
      },
    ),
    { numRuns: 500 },
  );
});
