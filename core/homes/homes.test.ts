import fc from 'fast-check';
import type { Kind, VolumeId } from '../model.ts';
import { type Holding, isAtHome, straysOf, suggestHomes } from './homes.ts';

const holding = (folder: string, bytes: number, over: Partial<Holding> = {}): Holding => ({
  kind: 'source',
  volumeId: 1 as VolumeId,
  folder,
  files: 1,
  bytes,
  ...over,
});

test('a home is suggested where most of a kind lies, as deep as it goes', () => {
  const homes = suggestHomes([
    holding('fog/rushes/day-1', 50),
    holding('fog/rushes/day-2', 45),
    holding('desk/fog', 3),
    holding('fog', 2, { volumeId: 2 as VolumeId }),
    holding('lib', 99, { kind: 'library' }),
  ]);
  expect(homes).toEqual([{ kind: 'source', volumeId: 1, folder: 'fog/rushes' }]);
  expect(suggestHomes([])).toEqual([]);
});

test('what lies elsewhere has strayed, told by kind and volume; a library and kinds without a home never', () => {
  const homes = [{ kind: 'source' as Kind, volumeId: 1 as VolumeId, folder: 'fog/rushes' }];
  const strays = straysOf(
    [
      holding('fog/rushes/a', 1),
      holding('fog/rushes', 1),
      holding('fog/rushes-old', 7),
      holding('x', 5, { volumeId: 2 as VolumeId }),
      holding('lib', 9, { kind: 'library' }),
      holding('y', 4, { kind: 'audio' }),
    ],
    homes,
  );
  expect(strays).toEqual([
    { kind: 'source', volumeId: 1, files: 1, bytes: 7 },
    { kind: 'source', volumeId: 2, files: 1, bytes: 5 },
  ]);
});

test('at home and strayed add up to all of a kind, and a suggested home keeps nine tenths of its volume', () => {
  const folder = fc.array(fc.constantFrom('a', 'b', 'c'), { maxLength: 3 }).map((parts) => parts.join('/'));
  const any = fc.record({ folder, bytes: fc.integer({ min: 1, max: 1000 }), volumeId: fc.constantFrom(1, 2) });
  fc.assert(
    fc.property(fc.array(any, { minLength: 1, maxLength: 15 }), (given) => {
      const holdings = given.map((g) => holding(g.folder, g.bytes, { volumeId: g.volumeId as VolumeId }));
      const [home] = suggestHomes(holdings);
      const at = holdings.filter((h) => isAtHome(h, home!)).reduce((n, h) => n + h.bytes, 0);
      const strayed = straysOf(holdings, [home!]).reduce((n, s) => n + s.bytes, 0);
      expect(at + strayed).toBe(holdings.reduce((n, h) => n + h.bytes, 0));
      const onVolume = holdings.filter((h) => h.volumeId === home!.volumeId).reduce((n, h) => n + h.bytes, 0);
      expect(at).toBeGreaterThanOrEqual(onVolume * 0.9);
    }),
  );
});
