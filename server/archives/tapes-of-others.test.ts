// Tapes that others wrote: as the standard (ISO/IEC 20919) lets them, which is not as ours are: with blocks of another size, small files
// beside the index, several indexes, holes, links and names that are none. They are read, and nothing is ever written on them.
import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { ArchiveId, CarrierId, ProjectId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { MARK, pack, type TapeRecord } from '../carriers/tape/library.ts';
import { type LibraryStandIn, startLibrary } from '../carriers/tape/stand-in.ts';
import { archiveCopies, archiveFiles, archives } from '../db/schema/archives.ts';
import { receipts } from '../db/schema/receipts.ts';
import { carriers } from '../db/schema/stores.ts';
import { addArchive } from '../steps/archive.ts';
import { addRestore } from '../steps/restore.ts';
import { carrierPage } from '../stores/carrier-register.ts';
import { addCarrier } from '../stores/stores.ts';
import { askToReadBackAll } from './read-back.ts';
import { askToTakeIn } from './take-in.ts';

const VOLUME = '5c0de1f2-6c1b-4d0e-9f0a-2f6f1a7b9c11';
const BLOCK = 64 << 10;
let site: TestSite;
let library: LibraryStandIn;
afterEach(async () => {
  await site.close();
  await library.stop();
});

const at = (...parts: string[]) => path.join(site.root, ...parts);
const text = (xml: string): Uint8Array[] => {
  const bytes = Buffer.from(`<?xml version="1.0" encoding="UTF-8"?>\n${xml}`);
  return Array.from({ length: Math.ceil(bytes.length / BLOCK) }, (_, i) => bytes.subarray(i * BLOCK, (i + 1) * BLOCK));
};
const label = (partition: 'a' | 'b'): TapeRecord[] => [
  Buffer.from('VOL1OTHER1L             LTFS'.padEnd(79) + '4'),
  MARK,
  ...text(`<ltfslabel version="2.4.0">
    <creator>Some other writer 3.1 - Linux - mk</creator>
    <formattime>2019-02-01T18:35:47.866846222Z</formattime>
    <volumeuuid>${VOLUME}</volumeuuid>
    <location><partition>${partition}</partition></location>
    <partitions><index>a</index><data>b</data></partitions>
    <blocksize>${BLOCK}</blocksize>
    <compression>true</compression>
  </ltfslabel>`),
  MARK,
];
const times = ['creation', 'change', 'modify', 'access', 'backup']
  .map((what) => `<${what}time>2019-03-04T05:06:07.123456789Z</${what}time>`)
  .join('');
const extent = (partition: 'a' | 'b', block: number, { at: from = 0, skip = 0, bytes }: Record<string, number>) =>
  `<extent><fileoffset>${from}</fileoffset><partition>${partition}</partition><startblock>${block}</startblock><byteoffset>${skip}</byteoffset><bytecount>${bytes}</bytecount></extent>`;
const file = (name: string, length: number, extents = '', more = '') =>
  `<file><name>${name}</name><length>${length}</length><readonly>false</readonly><openforwrite>false</openforwrite>${times}<fileuid>7</fileuid>
   <extendedattributes><xattr><key>user.note</key><value type="text">as it came</value></xattr></extendedattributes>${extents && `<extentinfo>${extents}</extentinfo>`}${more}</file>`;
const folder = (name: string, inside: string) =>
  `<directory><name>${name}</name><readonly>false</readonly>${times}<fileuid>3</fileuid><contents>${inside}</contents></directory>`;
const index = (generation: number, own: ['a' | 'b', number], before: number | null, inside: string): TapeRecord[] => [
  MARK,
  ...text(`<ltfsindex version="2.4.0">
    <creator>Some other writer 3.1 - Linux - fs</creator>
    <volumeuuid>${VOLUME}</volumeuuid>
    <generationnumber>${generation}</generationnumber>
    <updatetime>2019-03-05T00:00:00.000000000Z</updatetime>
    <location><partition>${own[0]}</partition><startblock>${own[1]}</startblock></location>
    ${before === null ? '' : `<previousgenerationlocation><partition>b</partition><startblock>${before}</startblock></previousgenerationlocation>`}
    <allowpolicyupdate>true</allowpolicyupdate><volumelockstate>unlocked</volumelockstate>
    <highestfileuid>9</highestfileuid>
    <directory><name>OTHER1</name><readonly>false</readonly>${times}<fileuid>1</fileuid><contents>${inside}</contents></directory>
  </ltfsindex>`),
  MARK,
];
const inBlocks = (bytes: Buffer): TapeRecord[] =>
  Array.from({ length: Math.ceil(bytes.length / BLOCK) }, (_, i) => bytes.subarray(i * BLOCK, (i + 1) * BLOCK));

const A = randomBytes(5 * BLOCK + 1234);
const B = randomBytes(3 * BLOCK);
const small = Buffer.from('Shot on the flats. Two takes.\n');
const document = Buffer.from(otio('Tide', ['Rushes/a 1.mov', 'Rushes/b.mov']));
const sparse = Buffer.concat([Buffer.alloc(100_000), B.subarray(0, 1000), Buffer.alloc(50_000)]);

interface Wrote {
  data?: TapeRecord[];
  indexes?: TapeRecord[];
  chip?: string | null;
}

/** A library in which one tape is empty and one was written by others. */
async function put({ data, indexes, chip = VOLUME }: Wrote = {}): Promise<void> {
  site = await TestSite.open();
  const bytes = 100e6;
  mkdirSync(at('library'), { recursive: true });
  const facts = { volume: chip, totalBytes: bytes, remainingBytes: bytes / 2, mounts: 41, begun: 0 };
  writeFileSync(
    at('library/OTHER1L6.json'),
    JSON.stringify({ barcode: 'OTHER1L6', slot: 3, drive: null, chip: facts, owner: null }),
  );
  // Of a, all but its first 1,000 bytes lies in the second extent, which begins in the middle of a block.
  const first = [...label('b'), ...index(1, ['b', 5], null, ''), ...inBlocks(A.subarray(0, 1000))];
  const second = Buffer.concat([Buffer.alloc(77), A.subarray(1000)]);
  const tree =
    folder(
      'Tide',
      folder(
        'Rushes',
        file(
          'a 1.mov',
          A.length,
          extent('b', 8, { at: 1000, skip: 77, bytes: A.length - 1000 }) + extent('b', 7, { bytes: 1000 }),
        ) +
          file('<![CDATA[b.mov]]>', B.length, extent('b', 14, { bytes: B.length })) +
          file('latest.mov', 5, '', '<symlink>a 1.mov</symlink>') +
          '<file><name percentencoded="true">..%2Fescape.mov</name><length>3</length></file>',
      ) +
        file('tide.otio', document.length, extent('b', 17, { bytes: document.length })) +
        file('notes.txt', small.length, extent('a', 4, { bytes: small.length })) +
        file('holes.bin', sparse.length, extent('b', 14, { at: 100_000, bytes: 1000 })) +
        file('empty.txt', 0) +
        '<file><name percentencoded="true">take%3A1.txt</name><length>1000</length><extentinfo>' +
        extent('b', 7, { bytes: 1000 }) +
        '</extentinfo></file>',
    ) + folder('Other work', file('x.bin', 1000, extent('b', 7, { bytes: 1000 })));
  const records = data ?? [
    ...first,
    ...inBlocks(second),
    ...inBlocks(B),
    ...inBlocks(document),
    ...index(2, ['b', 19], 5, tree),
  ];
  writeFileSync(at('library/OTHER1L6.b'), pack(records));
  // Beside the index lie a small file, and an index that is old.
  const aside = indexes ?? [...label('a'), small, ...index(1, ['a', 6], 5, ''), ...index(2, ['a', 9], 19, tree)];
  writeFileSync(at('library/OTHER1L6.a'), pack(aside));
  library = await startLibrary({
    ...{ folder: at('library'), slots: 6, drives: 1, tapeBytes: bytes, barcodes: ['KD0001L8'] },
  });
}
const onTape = () =>
  ['a', 'b'].map((partition) => readFileSync(at(`library/OTHER1L6.${partition}`)).toString('base64'));
const now = () => new Date();
const register = (barcode = 'OTHER1L6'): Promise<CarrierId> =>
  addCarrier(
    site.db,
    {
      name: barcode,
      kind: 'tape',
      place: 'shelf',
      settings: { library: library.address, barcode },
      capacityBytes: null,
    },
    now(),
  );
const takeIn = async (carrierId: CarrierId, what: string) => {
  await askToTakeIn(
    site.db,
    { carrierId, folder: what, name: '', client: '', year: null },
    { who: 'Mara', now: now() },
  );
  const job = await site.workOff();
  expect([job.state, job.trouble]).toEqual(['done', null]);
};

test('is registered as it is, says what lies on it, and is taken in to the byte; nothing is written on it', async () => {
  await put();
  const before = onTape();
  const id = await register();
  expect((await carrierPage(site.db, id))?.strangers).toEqual(['Other work', 'Tide']);
  await takeIn(id, 'Tide');
  const held = await site.db.select().from(archiveFiles);
  expect(held.map((one) => [one.payloadPath, one.sizeBytes]).sort()).toEqual(
    [
      ...[
        ['Rushes/a 1.mov', A.length],
        ['Rushes/b.mov', B.length],
        ['tide.otio', document.length],
      ],
      ...[
        ['notes.txt', small.length],
        ['holes.bin', sparse.length],
        ['empty.txt', 0],
        ['take:1.txt', 1000],
      ],
    ].sort(),
  );
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'taken in'));
  expect(receipt!.facts).toMatchObject({ documents: 1, timelines: 1 });
  expect((receipt!.facts.stayedOut as { path: string }[]).map((one) => one.path).sort()).toEqual([
    'Rushes/..%2Fescape.mov',
    'Rushes/latest.mov',
  ]);
  await askToReadBackAll(site.db, 1, { who: 'Mara', now: now() });
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  const volumeId = await site.volume('back');
  const [copy] = await site.db.select().from(archiveCopies);
  await addRestore(site.db, { archiveId: 1 as ArchiveId, copyId: copy!.id, volumeId, folder: 'Tide', now: now() });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  for (const [name, bytes] of [
    ...([
      ['Rushes/a 1.mov', A],
      ['Rushes/b.mov', B],
      ['notes.txt', small],
      ['holes.bin', sparse],
    ] as const),
    ...([
      ['empty.txt', Buffer.alloc(0)],
      ['take:1.txt', A.subarray(0, 1000)],
    ] as const),
  ])
    expect([name, readFileSync(at('back/Tide', name)).equals(bytes)]).toEqual([name, true]);
  expect(existsSync(at('back/escape.mov'))).toBe(false);
  expect(onTape()).toEqual(before);
});

test('nothing is archived to it, and it has no room', async () => {
  await put();
  const id = await register();
  await site.volume('media');
  site.put('media/fog/a.mov', 'a'.repeat(1000));
  site.put('media/fog/fog.otio', otio('Fog', ['a.mov']));
  await site.read(1 as never);
  const before = onTape();
  const [row] = await site.db.select().from(carriers);
  expect(row!.freeBytes).toBe(0);
  const adding = addArchive(site.db, { projectId: 1 as ProjectId, carrierIds: [id], folder: 'fog_1', now: now() });
  const isAdded = await adding.then(
    () => true,
    () => false,
  );
  if (isAdded) {
    await site.runPlan().catch(() => undefined);
    await site.workOff();
  }
  expect((await site.db.select().from(archives)).filter(({ state }) => state === 'sealed')).toEqual([]);
  expect(onTape()).toEqual(before);
});

test.each<[string, () => Wrote, RegExp]>([
  [
    'without labels',
    () => ({ data: [Buffer.from('ustar'.repeat(100)), MARK], indexes: [], chip: null }),
    /holds something that is no file system/,
  ],
  [
    'that only the index partition tells of',
    () => ({ data: [], indexes: [Buffer.from('x'), MARK], chip: null }),
    /holds something/,
  ],
  ['whose chip says nothing', () => ({ chip: null }), /do not say the same volume/],
  ['whose chip says another', () => ({ chip: 'another' }), /do not say the same volume/],
])('one %s is refused, and stays as it is', async (_what, wrote, sentence) => {
  await put(wrote());
  const before = onTape();
  await expect(register()).rejects.toThrow(sentence);
  expect(onTape()).toEqual(before);
  expect(await site.db.select().from(carriers)).toEqual([]);
});

test('a tape of ours is known again in a house that never saw it, with what lies on it, and is written on', async () => {
  await put();
  const own = await register('KD0001L8');
  await site.volume('media');
  site.put('media/fog/a.mov', 'a'.repeat(1000));
  site.put('media/fog/fog.otio', otio('Fog', ['a.mov']));
  await site.read(1 as never);
  await addArchive(site.db, { projectId: 1 as ProjectId, carrierIds: [own], folder: 'fog_1', now: now() });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  await site.close();
  site = await TestSite.open();
  const again = await register('KD0001L8');
  expect((await carrierPage(site.db, again))?.strangers).toEqual(['fog_1']);
  await takeIn(again, 'fog_1');
  expect((await site.db.select().from(archives)).map(({ folder: name, state }) => [name, state])).toEqual([
    ['fog_1', 'sealed'],
  ]);
  const [row] = await site.db.select().from(carriers);
  expect(row!.freeBytes).toBeGreaterThan(1e6);
});
