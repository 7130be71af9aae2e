import fc from 'fast-check';
import type { FileId, Kind, VolumeId } from '../model.ts';
import { KINDS } from '../model.ts';
import {
  archiveFolderName,
  bundledIn,
  estimateSeconds,
  isDocumentPlace,
  type ProjectFile,
  selectForArchive,
} from './selection.ts';

const file = (id: number, over: Partial<ProjectFile> = {}): ProjectFile => ({
  fileId: id as FileId,
  volumeId: 1 as VolumeId,
  volume: 'Media',
  path: `fog/${id}.mov`,
  name: `${id}.mov`,
  sizeBytes: 100,
  modifiedUs: 0,
  kind: 'source',
  used: true,
  isOwn: true,
  bins: ['Day 1'],
  isDocument: false,
  identity: null,
  ...over,
});

test('used media go in by bins, documents relinked and original, the rest stays out with its reason', () => {
  const selection = selectForArchive([
    file(1),
    file(2, { used: false }),
    file(3, { bins: [] }),
    file(4, { isDocument: true, used: false, kind: 'document', name: 'fog.otio', sizeBytes: 7 }),
    file(5, { used: false, kind: 'cache', sizeBytes: 900 }),
    file(6, { used: false, kind: 'delivery' }),
    file(7, { used: true, kind: 'library', bins: ['Music', 'Old'] }),
  ]);
  expect(selection.chosen.map((f) => [f.fileId, f.payloadPath, f.originalPath])).toEqual([
    [4, 'documents/fog.otio', 'documents/fog.otio.original'],
    [1, 'media/Day 1/1.mov', null],
    [7, 'media/Music/Old/7.mov', null],
    [3, 'media/not in any bin/3.mov', null],
  ]);
  expect(selection.chosenBytes).toBe(300 + 14);
  expect(selection.totalBytes).toBe(600 + 7 + 900 - 100 + 100 - 100);
  expect(selection.leftOut.map((l) => [l.why, l.files, l.bytes])).toEqual([
    ['cache', 1, 900],
    ['unused', 1, 100],
    ['delivery', 1, 100],
  ]);
});

test('in one bundle lie the newest document that can be written anew and all media, stills under their own names', () => {
  const document = (id: number, name: string, modifiedUs: number, over: Partial<ProjectFile> = {}) =>
    file(id, { isDocument: true, used: false, kind: 'document', name, path: `fog/${name}`, modifiedUs, ...over });
  const chosen = selectForArchive(
    [
      document(1, 'Fog v1.otio', 1),
      document(2, 'Fog v2.otio', 2),
      document(3, 'Fog.edl', 3, { asItIs: true }),
      file(4, { name: 'a.mov', path: 'one/a.mov' }),
      file(5, { name: 'A.mov', path: 'two/A.mov', bins: ['Day 2'] }),
      file(6, { name: '0001.dpx', path: 'one/0001.dpx', isStill: true }),
      file(7, { name: '0001.dpx', path: 'two/0001.dpx', isStill: true }),
    ],
    [],
    { layout: 'bundle' },
  ).chosen;
  const places = chosen.flatMap((one) => [one.payloadPath, one.originalPath ?? []]).flat();
  expect(places.sort()).toEqual(
    [
      'Fog v2.otiod/content.otio',
      'Fog v2.otiod/media/Media/one/0001.dpx',
      'Fog v2.otiod/media/Media/two/0001.dpx',
      'Fog v2.otiod/media/a.mov',
      'Fog v2.otiod/media/A~2.mov',
      'documents/Fog v1.otio',
      'documents/Fog v1.otio.original',
      'documents/Fog v2.otio.original',
      'documents/Fog.edl',
    ].sort(),
  );
  expect(chosen.filter((one) => isDocumentPlace(one.payloadPath))).toHaveLength(3);
  // Without such a document there is none.
  expect(bundledIn(chosen.filter((one) => one.fileId > 2))).toBeNull();
});

test('what belongs to a file goes where that goes, beside it and renamed alike', () => {
  const card = (id: number, name: string, over: Partial<ProjectFile> = {}) =>
    file(id, { name, path: `${over.bins?.[0] ?? 'card'}${id}/${name}`, ...over });
  const with1 = { goesWith: 1 as FileId };
  const { chosen, leftOut } = selectForArchive([
    card(1, 'a.mov'),
    card(2, 'a.xml', { ...with1, kind: 'other', bins: [] }),
    card(3, 'a.mov.md5', { ...with1, kind: 'other', bins: [] }),
    card(4, 'A.mov'),
    card(5, 'A.xml', { goesWith: 4 as FileId, kind: 'other', bins: [] }),
    card(6, 'b.mov', { kept: { length: { is: 'nothing' }, frames: 10 } }),
    card(7, 'b.xml', { goesWith: 6 as FileId, kind: 'other', bins: [] }),
  ]);
  expect(chosen.map((one) => one.payloadPath)).toEqual([
    'media/Day 1/A~2.mov',
    'media/Day 1/A~2.xml',
    'media/Day 1/a.mov',
    'media/Day 1/a.mov.md5',
    'media/Day 1/a.xml',
  ]);
  expect(leftOut.map(({ why, files }) => [why, files])).toEqual([['other', 1]]);
});

test('what goes in and what stays out are everything, once', () => {
  const any = fc.record({
    kind: fc.constantFrom<Kind>(...KINDS),
    used: fc.boolean(),
    isDocument: fc.boolean(),
    sizeBytes: fc.integer({ min: 0, max: 1000 }),
    bins: fc.array(fc.constantFrom('a', 'A', 'b'), { maxLength: 2 }),
    name: fc.constantFrom('x.mov', 'X.mov', 'y.otio'),
  });
  fc.assert(
    fc.property(fc.array(any, { maxLength: 15 }), (given) => {
      const files = given.map((g, i) => file(i + 1, { ...g, path: `p/${i}` }));
      const { chosen, leftOut, totalBytes } = selectForArchive(files);
      expect(chosen.length + leftOut.reduce((n, l) => n + l.files, 0)).toBe(files.length);
      expect(chosen.reduce((n, f) => n + f.sizeBytes, 0) + leftOut.reduce((n, l) => n + l.bytes, 0)).toBe(totalBytes);
      const places = chosen
        .flatMap((f) => [f.payloadPath, ...(f.originalPath ? [f.originalPath] : [])])
        .map((p) => p.toLowerCase());
      expect(new Set(places).size).toBe(places.length);
    }),
  );
});

test('a folder has a name of its day, and an estimate counts writing and reading back', () => {
  expect([archiveFolderName('night-ferry', '2026-05-04'), archiveFolderName('', '2026-05-04')]).toEqual([
    'night-ferry_2026-05-04',
    'project_2026-05-04',
  ]);
  const rates = { write: 100, readBack: 500, encode: { lossless: 10, viewing: 50 } };
  expect(estimateSeconds({ chosenBytes: 1000, encodingWork: { lossless: 0, viewing: 0 } }, rates)).toBe(12);
  expect(estimateSeconds({ chosenBytes: 1000, encodingWork: { lossless: 70, viewing: 100 } }, rates)).toBe(21);
});

test('what is only summed stays out, and a document without paths of its own goes along byte for byte', () => {
  const selection = selectForArchive(
    [
      file(1),
      file(2, { isDocument: true, used: false, asItIs: true, kind: 'document', name: 'cut.edl', sizeBytes: 9 }),
    ],
    [
      { kind: 'cache', files: 4, bytes: 400 },
      { kind: 'source', files: 2, bytes: 250 },
      { kind: 'audio', files: 0, bytes: 0 },
    ],
  );
  expect(selection.chosen.map((f) => [f.payloadPath, f.originalPath])).toEqual([
    ['documents/cut.edl', null],
    ['media/Day 1/1.mov', null],
  ]);
  expect(selection).toMatchObject({ chosenBytes: 109, totalBytes: 759 });
  expect(selection.leftOut).toEqual([
    { why: 'cache', files: 4, bytes: 400 },
    { why: 'unused', files: 2, bytes: 250 },
  ]);
});
