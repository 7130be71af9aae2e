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
  .filter((text) => !/[/\0]/.test(text) && !['.', '..', '__proto__'].includes(text));
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
  expect(parseLabel(text)).toEqual({ volume: VOLUME, blockBytes: 524_288, isOwn: true });
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

test('whatever others call their files and folders, no path leads elsewhere, and nothing is left out in silence', () => {
  const anyName = fc.oneof(
    fc.constantFrom('..', '.', '', 'a/b', '../x', 'a\0b', 'plain', 'ümlaut', '%2E%2E'),
    fc.string({ maxLength: 8, unit: 'binary' }),
  );
  const named = (name: string) => `<name percentencoded="true">${encodeURIComponent(name)}</name>`;
  const encodable = (name: string) => !/[\ud800-\udfff]/.test(name);
  fc.assert(
    fc.property(
      fc.uniqueArray(anyName.filter(encodable), { maxLength: 5 }),
      fc.uniqueArray(anyName.filter(encodable), { maxLength: 5 }),
      (folders, names) => {
        const files = names.map((name) => `<file>${named(name)}<length>0</length></file>`).join('');
        const inside = folders.map((name) => `<directory>${named(name)}<contents>${files}</contents></directory>`);
        const { index } = parseIndex(
          `<ltfsindex><volumeuuid>v</volumeuuid><generationnumber>1</generationnumber><location><partition>a</partition><startblock>5</startblock></location>
          <directory><name>top</name><contents>${inside.join('')}</contents></directory></ltfsindex>`,
        );
        for (const path of [...index.files.keys(), ...(index.odd ?? [])])
          expect(path.split('/').every((part) => !['', '.', '..'].includes(part) && !part.includes('\0'))).toBe(true);
        const isPlain = (name: string) => !['', '.', '..'].includes(name) && !/[/\0]/.test(name);
        const plain = folders.filter(isPlain).length;
        expect(index.files.size).toBe(plain * names.filter(isPlain).length);
        expect((index.odd?.size ?? 0) > 0).toBe(plain < folders.length || (plain > 0 && !names.every(isPlain)));
      },
    ),
  );
});

test('where a file lies beside the index, and what is a link, is told apart', () => {
  const text = `<ltfsindex><volumeuuid>v</volumeuuid><generationnumber>1</generationnumber><location><partition>a</partition><startblock>5</startblock></location>
    <directory><name>top</name><contents><file><name>n.txt</name><length>3</length><extentinfo><extent><fileoffset>0</fileoffset><partition>a</partition>
    <startblock>4</startblock><byteoffset>0</byteoffset><bytecount>3</bytecount></extent></extentinfo></file>
    <file><name>l</name><length>3</length><symlink>/etc/hostname</symlink></file></contents></directory></ltfsindex>`;
  const { index } = parseIndex(text);
  expect(index.files.get('n.txt')?.extents).toEqual([
    { partition: 'a', fileOffset: 0, startBlock: 4, byteOffset: 0, bytes: 3 },
  ]);
  expect([...index.files.keys()]).toEqual(['n.txt']);
  expect([...index.odd!]).toEqual(['l']);
  expect(index.byOthers).toBe(true);
  // Written anew it lies where it lay.
  expect(parseIndex(indexText(index, 1e12)).index.files).toEqual(index.files);
});
