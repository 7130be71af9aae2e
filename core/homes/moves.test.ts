import fc from 'fast-check';
import type { FileId, VolumeId } from '../model.ts';
import { foldPath, placeMoves, type Stray } from './moves.ts';

const V = (n: number) => n as VolumeId;
const stray = (fileId: number, path: string, volumeId = 1): Stray => ({
  fileId: fileId as FileId,
  volumeId: V(volumeId),
  volume: `disk ${volumeId}`,
  path,
});
const places = (
  strays: Stray[],
  more: { claims?: { volumeId: VolumeId; folder: string }[]; taken?: string[] } = {},
) => [
  ...placeMoves({
    strays,
    claims: more.claims ?? [],
    home: 'fog/camera',
    taken: (path) => (more.taken ?? []).includes(path),
  }).values(),
];

test('what lies below a claimed folder keeps its place below it', () => {
  expect(
    places([stray(1, 'Desktop/fog/day 1/A.mov')], { claims: [{ volumeId: V(1), folder: 'Desktop/fog' }] }),
  ).toEqual(['fog/camera/day 1/A.mov']);
});

test('files of no claimed folder keep the order they have among themselves', () => {
  expect(places([stray(1, 'x/y/one/A.mov'), stray(2, 'x/y/two/B.mov')])).toEqual([
    'fog/camera/one/A.mov',
    'fog/camera/two/B.mov',
  ]);
});

test('a name that is taken is never taken again, in any case or Unicode form', () => {
  expect(places([stray(1, 'a/A.mov'), stray(2, 'b/a.MOV', 2)], { taken: ['fog/camera/A.mov'] })).toEqual([
    'fog/camera/from disk 1/A.mov',
    'fog/camera/a.MOV',
  ]);
  expect(places([stray(1, 'a/A.mov'), stray(2, 'b/a.mov', 2)])).toEqual([
    'fog/camera/A.mov',
    'fog/camera/from disk 2/a.mov',
  ]);
});

test('no two files ever get one place', () => {
  const path = fc
    .array(fc.constantFrom('a', 'A', 'b', 'é', 'e\u0301'), { minLength: 1, maxLength: 4 })
    .map((p) => p.join('/'));
  fc.assert(
    fc.property(fc.array(fc.tuple(path, fc.integer({ min: 1, max: 3 })), { maxLength: 40 }), (list) => {
      const strays = list.map(([p, volume], i) => stray(i, p, volume));
      const all = places(strays, { taken: ['fog/camera/a'] });
      expect(all).toHaveLength(strays.length);
      expect(new Set(all.map(foldPath)).size).toBe(all.length);
      for (const place of all) expect(place.startsWith('fog/camera/')).toBe(true);
    }),
  );
});
