import fc from 'fast-check';
import {
  applyChange,
  changeText,
  indexText,
  labelText,
  NoLtfs,
  parseIndex,
  parseLabel,
  type TapeFile,
  type TapeIndex,
  volumeLabel,
} from './ltfs.ts';

const VOLUME = '30a91a08-daae-48d1-ae75-69804e61d2ea';
const at = { partition: 'b', block: 12 } as const;
const segment = fc
  .oneof(
    fc.string({ minLength: 1, maxLength: 12 }),
    fc.constantFrom('a:b', '50%', '<&>"', ' lead', 'ümlaut\u0301', 'a\tb', '日本'),
  )
  .filter((text) => !text.includes('/') && text !== '__proto__');
const pathOf = fc.array(segment, { minLength: 1, maxLength: 4 }).map((all) => all.join('/'));
const whole = fc.nat({ max: 2 ** 31 });
const fileOf: fc.Arbitrary<TapeFile> = fc.record({
  sizeBytes: whole,
  modifiedMs: fc.integer({ min: 0, max: 4e12 }),
  uid: fc.integer({ min: 1, max: 1e6 }),
  extents: fc
    .array(fc.record({ fileOffset: whole, startBlock: whole, byteOffset: whole, bytes: whole }), { maxLength: 3 })
    .map((all) => all.sort((a, b) => a.fileOffset - b.fileOffset)),
});
/** No file is also a folder. */
const treeOf = fc.array(fc.tuple(pathOf, fileOf), { maxLength: 12 }).map((all) => {
  const files = new Map<string, TapeFile>();
  for (const [path, file] of all)
    if (![...files.keys()].some((one) => one.startsWith(`${path}/`) || path.startsWith(`${one}/`)))
      files.set(path, file);
  return files;
});
const sorted = (files: ReadonlyMap<string, TapeFile>) => [...files].sort(([a], [b]) => (a < b ? -1 : 1));
const indexOf = (files: Map<string, TapeFile>): TapeIndex => ({
  ...{ volume: VOLUME, generation: 7, at, before: null, files, empty: new Set() },
});

test('an index reads back as it was written, whatever its names are', () => {
  fc.assert(
    fc.property(treeOf, (files) => {
      const text = indexText(indexOf(files), 1e12);
      const read = parseIndex(text);
      expect(read.isWhole).toBe(true);
      expect(read.index).toMatchObject({ volume: VOLUME, generation: 7, at });
      expect(sorted(read.index.files)).toEqual(sorted(files));
    }),
  );
});

test('a change on an index gives what the whole index after it would say', () => {
  fc.assert(
    fc.property(treeOf, fileOf, (files, more) => {
      const index = parseIndex(indexText(indexOf(new Map(files)), 0)).index;
      const [gone] = files.keys();
      const change = { files: new Map([['new folder/one.mov', more]]), gone: gone ? [gone] : [], empty: ['begun'] };
      const text = changeText({ volume: VOLUME, generation: 8, at: { ...at, block: 20 }, before: at, ms: 0 }, change);
      const read = parseIndex(text);
      expect(read.isWhole).toBe(false);
      applyChange(index, read);
      const wanted = new Map(files).set('new folder/one.mov', more);
      if (gone) wanted.delete(gone);
      expect(sorted(index.files)).toEqual(sorted(wanted));
      expect(index).toMatchObject({ generation: 8, at: { block: 20 } });
      expect([...index.empty]).toEqual(['begun']);
    }),
  );
});

test('labels: 80 bytes, and the volume in them', () => {
  expect(volumeLabel('KD0012L8')).toHaveLength(80);
  expect(new TextDecoder().decode(volumeLabel('KD0012L8'))).toMatch(/^VOL1KD0012L {13}LTFS.*4$/);
  const text = labelText({ volume: VOLUME, partition: 'a', ms: 0 });
  expect(parseLabel(text)).toEqual({ volume: VOLUME, blockBytes: 524_288 });
});

test.each([
  '',
  'no xml',
  '<ltfslabel/>',
  '<ltfsindex></ltfsindex>',
  '<ltfsindex><generationnumber>-1</generationnumber></ltfsindex>',
  '<ltfsindex><generationnumber>1</generationnumber><location><partition>b</partition><startblock>x</startblock></location></ltfsindex>',
])('what is no index is refused in a sentence: %s', (text) => {
  expect(() => parseIndex(text)).toThrow(NoLtfs);
  expect(() => parseLabel(text)).toThrow(NoLtfs);
});
