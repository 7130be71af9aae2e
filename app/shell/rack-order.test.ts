import fc from 'fast-check';
import { type Ordered, RACK_ORDERS, rackGroups } from './rack-order.ts';

const volume = (name: string, station: string, of: Partial<Ordered> = {}): Ordered => ({
  ...{ name, station, usedBytes: 0, capacityBytes: 100, forecast: { says: 'steady', bytesPerDay: 0 } },
  ...of,
});
const fills = (days: number) => ({
  forecast: { says: 'fills', bytesPerDay: 1, days, earliest: days, latest: null } as const,
});
const names = (groups: { volumes: Ordered[] }[]) => groups.map((group) => group.volumes.map((one) => one.name));

const HOUSE = [
  volume('scratch', 'loft-1', fills(3)),
  volume('frames', 'loft-1', { usedBytes: 90 }),
  volume('media', 'ropewalk', { usedBytes: 95 }),
  volume('library', 'ropewalk', { forecast: { says: 'full', bytesPerDay: 4 } }),
  volume('Scratch', 'loft-2', fills(40)),
];

test('by station, in the order in which they are', () => {
  expect(rackGroups(HOUSE, { order: 'by station', word: '' }).map((group) => group.station)).toEqual([
    'loft-1',
    'ropewalk',
    'loft-2',
  ]);
  expect(names(rackGroups(HOUSE, { order: 'by station', word: 'SCRATCH' }))).toEqual([['scratch'], ['Scratch']]);
  expect(names(rackGroups(HOUSE, { order: 'by station', word: ' ropewalk ' }))).toEqual([['media', 'library']]);
  expect(rackGroups(HOUSE, { order: 'by station', word: 'attic' })).toEqual([]);
});

test('what is full comes first, then the soonest full, then the fullest', () => {
  expect(names(rackGroups(HOUSE, { order: 'soonest full', word: '' }))).toEqual([
    ['library', 'scratch', 'Scratch', 'media', 'frames'],
  ]);
  expect(rackGroups(HOUSE, { order: 'soonest full', word: 'attic' })).toEqual([]);
});

test('whatever there is, each volume that fits is shown once', () => {
  const some = fc.array(
    fc.record({
      ...{ name: fc.string(), station: fc.constantFrom('a', 'b', 'c'), usedBytes: fc.nat(200) },
      capacityBytes: fc.nat(100),
      forecast: fc.constantFrom<Ordered['forecast']>(fills(9).forecast, { says: 'steady', bytesPerDay: 0 }),
    }),
  );
  fc.assert(
    fc.property(some, fc.constantFrom(...RACK_ORDERS), (volumes, order) => {
      const shown = rackGroups(volumes, { order, word: '' }).flatMap((group) => group.volumes);
      expect(new Set(shown)).toEqual(new Set(volumes));
      expect(shown).toHaveLength(volumes.length);
    }),
  );
});
