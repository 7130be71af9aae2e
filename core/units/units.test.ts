import fc from 'fast-check';
import { isOnlySidecar, gapsOf, gapWords, unitsOf } from './units.ts';

const of = (...names: (string | [string, number])[]) =>
  unitsOf(
    names.map((given, id) => ({
      id,
      name: typeof given === 'string' ? given : given[0],
      sizeBytes: typeof given === 'string' ? 100 : given[1],
    })),
  );

test('stills with a counter are one sequence that names its gaps', () => {
  const [unit, ...rest] = of('sh010.1001.exr', 'sh010.1002.exr', 'sh010.1004.exr', 'sh010.1008.exr');
  expect(rest).toEqual([]);
  expect(unit).toMatchObject({
    is: 'sequence',
    name: 'sh010.[1001-1008].exr',
    first: 1001,
    last: 1008,
    missing: 4,
    gaps: [
      { from: 1003, to: 1003 },
      { from: 1005, to: 1007 },
    ],
  });
  expect(gapWords(unit?.is === 'sequence' ? unit.gaps : [])).toBe('frames 1003 and 1005 to 1007 are missing');
  expect(gapWords([{ from: 7, to: 7 }])).toBe('frame 7 is missing');
});

test('two stills are two pictures, and different widths are different sequences', () => {
  expect(of('a.001.dpx', 'a.002.dpx').map((unit) => unit.is)).toEqual(['file', 'file']);
  expect(of('a.001.dpx', 'a.002.dpx', 'a.003.dpx', 'a.0001.dpx')).toHaveLength(2);
  expect(of('p8.png', 'p9.png', 'p10.png')).toMatchObject([{ is: 'sequence', first: 8, last: 10, missing: 0 }]);
});

test('a recording cut by size is one unit; takes of their own are not', () => {
  expect(of(['C0012_001.mxf', 4000], ['C0012_002.mxf', 4000], ['C0012_003.mxf', 900])).toMatchObject([
    { is: 'spanned', name: 'C0012_[001-003].mxf' },
  ]);
  // Filled to different sizes: takes.
  expect(of(['take1_001.mov', 400], ['take1_002.mov', 9000])).toHaveLength(2);
  // The first piece is not there: nothing is said of it.
  expect(of(['C0012_002.mxf', 4000], ['C0012_003.mxf', 4000])).toHaveLength(2);
});

test('a small file named after a large one goes with it', () => {
  expect(of(['A001.mov', 5000], 'A001.xml', 'A001.mov.md5', 'notes.txt')).toMatchObject([
    {
      is: 'with sidecars',
      name: 'A001.mov',
      files: [{ name: 'A001.mov' }, { name: 'A001.xml' }, { name: 'A001.mov.md5' }],
    },
    { is: 'file', name: 'notes.txt' },
  ]);
});

test('every file is in exactly one unit, whatever the names', () => {
  const name = fc.oneof(
    fc.string({ minLength: 1, maxLength: 12 }),
    fc
      .tuple(fc.constantFrom('a', 'sh.', 'C1_'), fc.integer({ min: 0, max: 30 }), fc.constantFrom('exr', 'mov', 'xml'))
      .map(([head, n, ending]) => `${head}${String(n).padStart(3, '0')}.${ending}`),
  );
  fc.assert(
    fc.property(fc.uniqueArray(name, { maxLength: 60 }), (names) => {
      const units = of(...names);
      const ids = units.flatMap((unit) => unit.files.map((file) => file.id)).sort((a, b) => a - b);
      expect(ids).toEqual(names.map((_, id) => id));
      for (const unit of units)
        if (unit.is === 'sequence') expect(unit.files.length + unit.missing).toBe(unit.last - unit.first + 1);
    }),
  );
});

test('gaps and frames together are the whole range', () => {
  fc.assert(
    fc.property(fc.uniqueArray(fc.integer({ min: 0, max: 200 }), { minLength: 1 }), (frames) => {
      const sorted = [...frames].sort((a, b) => a - b);
      const missing = gapsOf(sorted).reduce((sum, gap) => sum + gap.to - gap.from + 1, 0);
      expect(missing + sorted.length).toBe(sorted.at(-1)! - sorted[0]! + 1);
    }),
  );
});

test('what can only lie beside media is told from what can be media itself', () => {
  const names = ['a.xml', 'a.mov.md5', 'a.wav', 'a.jpg', 'a.mov', 'a'];
  expect(names.filter(isOnlySidecar)).toEqual(['a.xml', 'a.mov.md5']);
});
