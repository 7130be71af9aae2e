// Archives that are one file: everything that is promised of a folder holds for a tar and a zip, too.
import { execFileSync } from 'node:child_process';
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import { randomUUID } from 'node:crypto';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import { type PackedAs, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { openCarrier, placeOf } from '../carriers/kinds.ts';
import { askToReadBackAll } from '../archives/read-back.ts';
import { archiveCopies, archiveFiles, archives } from '../db/schema/archives.ts';
import { stepItems } from '../db/schema/plans.ts';
import { carriers } from '../db/schema/stores.ts';
import { addArchive } from './archive.ts';
import { addOriginalsRemoval } from './remove-originals.ts';
import { addRestore } from './restore.ts';

let site: TestSite;
let volume: VolumeId;
let on: CarrierId[];
const FOG = 1 as ProjectId;
const CLIPS = ['a', 'b', 'c', 'd'];

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  on = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  for (const [i, clip] of CLIPS.entries()) site.put(`media/fog/rushes/${clip}.mov`, Buffer.alloc(200_000 + i, clip));
  const long = `${'a very long name '.repeat(8)}ü.mov`;
  site.put(`media/fog/rushes/${long}`, 'long');
  const urls = [...CLIPS.map((clip) => `rushes/${clip}.mov`), `rushes/${encodeURIComponent(long)}`];
  site.put('media/fog/fog.otio', otio('Fog', urls));
  await site.read(volume);
});
afterEach(() => site.close());

const add = (pack: PackedAs) =>
  addArchive(site.db, {
    ...{ projectId: FOG, carrierIds: on, folder: 'fog_1', scope: { ...USUAL_SCOPE, pack }, now: new Date() },
  });
async function archive(pack: PackedAs) {
  await add(pack);
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
}
async function run() {
  await site.runPlan();
  return site.workOff();
}
const file = (carrier: string, pack: string) => path.join(site.root, carrier, `fog_1.${pack}`);
const namesIn = (folder: string) => readdirSync(path.join(site.root, folder)).sort();

const EXTRACT = {
  tar: (from: string, to: string) => execFileSync('tar', ['-x', '-f', from, '-C', to]),
  zip: (from: string, to: string) => {
    expect(execFileSync('unzip', ['-t', from], { encoding: 'utf8' })).toMatch(/No errors detected/);
    execFileSync('unzip', ['-q', from, '-d', to]);
  },
};
const PACKS = ['tar', 'zip'] as const;

test.each(PACKS)('as one %s: one top folder that general tools unpack and prove, on every carrier', async (pack) => {
  await archive(pack);
  for (const carrier of ['kd-1', 'kd-2']) {
    expect(namesIn(carrier)).toEqual(['.keramion', `fog_1.${pack}`]);
    expect(namesIn(`${carrier}/.keramion`)).toEqual(['identity.json']);
    const to = mkdtempSync(path.join(os.tmpdir(), 'unpacked-'));
    EXTRACT[pack](file(carrier, pack), to);
    expect(readdirSync(to)).toEqual(['fog_1']);
    const cwd = path.join(to, 'fog_1');
    execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd });
    execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'tagmanifest-sha512.txt'], { cwd });
    execFileSync('xxhsum', ['--quiet', '--strict', '-c', 'xxh64sum.txt'], { cwd });
    expect(readFileSync(path.join(cwd, 'data/media/Rushes/c.mov'))).toEqual(Buffer.alloc(200_002, 'c'));
    rmSync(to, { recursive: true });
  }
  expect(await site.db.select({ state: archives.state, packer: archives.packer }).from(archives)).toEqual([
    { state: 'sealed', packer: pack },
  ]);
});

test.each(PACKS)('from one %s a project comes back, and its originals may go', async (pack) => {
  await archive(pack);
  const [copy] = await site.db.select().from(archiveCopies);
  const back = { archiveId: 1 as ArchiveId, copyId: copy!.id, volumeId: volume, folder: 'back', now: new Date() };
  await addRestore(site.db, back);
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  for (const [i, clip] of CLIPS.entries())
    expect(readFileSync(path.join(site.root, `media/back/media/Rushes/${clip}.mov`))).toEqual(
      Buffer.alloc(200_000 + i, clip),
    );
  await addOriginalsRemoval(site.db, 1 as ArchiveId, new Date());
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  for (const clip of CLIPS) expect(existsSync(path.join(site.root, `media/fog/rushes/${clip}.mov`))).toBe(false);
});

/** Where a bit is flipped, and what stays in any case: what is of one file holds that file, what is of the lists all. */
const SPOTS = [
  ['a list', 'BagIt-Version', ['a.mov', 'b.mov', 'c.mov', 'd.mov']],
  ['a header', 'fog_1/data/media/Rushes/c.mov', ['c.mov']],
  ['a file', 'bbbbbbbb', ['b.mov']],
] as const;

test.each(PACKS.flatMap((pack) => SPOTS.map((spot) => [pack, ...spot] as const)))(
  'of a %s one bit of %s is flipped on every carrier, and what hangs on it is not released',
  async (pack, _what, bytes, stays) => {
    await archive(pack);
    for (const carrier of ['kd-1', 'kd-2']) {
      const whole = readFileSync(file(carrier, pack));
      const at = whole.indexOf(bytes);
      whole[at]! ^= 1;
      writeFileSync(file(carrier, pack), whole);
    }
    await addOriginalsRemoval(site.db, 1 as ArchiveId, new Date());
    await run();
    expect(namesIn('media/fog/rushes')).toEqual(expect.arrayContaining([...stays]));
    expect((await site.db.select().from(archiveCopies)).map((copy) => copy.state)).toContain('damaged');
  },
);

test.each(PACKS)('a %s that was cut short, or holds what nobody sealed, does not read back', async (pack) => {
  await archive(pack);
  execFileSync('truncate', ['-s', '-20000', file('kd-1', pack)]);
  const to = mkdtempSync(path.join(os.tmpdir(), 'more-'));
  EXTRACT[pack](file('kd-2', pack), to);
  const more = path.join(to, 'fog_1/data/media/more.mov');
  execFileSync('cp', ['--', path.join(site.root, 'media/fog/rushes/a.mov'), more]);
  if (pack === 'tar') execFileSync('tar', ['-r', '-f', file('kd-2', pack), '-C', to, 'fog_1/data/media/more.mov']);
  else execFileSync('zip', ['-q', '-0', file('kd-2', pack), 'fog_1/data/media/more.mov'], { cwd: to });
  await askToReadBackAll(site.db, 1, { who: 'Mara', now: new Date() });
  await site.workOff();
  expect((await site.db.select().from(archiveCopies)).map((copy) => copy.state)).toEqual(['damaged', 'damaged']);
  rmSync(to, { recursive: true });
});

test.each(PACKS)('a file that cannot be read is cut off a %s again, and the rest is whole', async (pack) => {
  await add(pack);
  rmSync(path.join(site.root, 'media/fog/rushes/b.mov'));
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  const held = await site.db.select().from(stepItems).where(eq(stepItems.state, 'held'));
  expect(held.map((item) => item.path)).toEqual(['fog/rushes/b.mov']);
  const names = await site.db.select({ at: archiveFiles.payloadPath }).from(archiveFiles);
  expect(names.some(({ at }) => at.endsWith('/b.mov'))).toBe(false);
  const to = mkdtempSync(path.join(os.tmpdir(), 'unpacked-'));
  EXTRACT[pack](file('kd-1', pack), to);
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: path.join(to, 'fog_1') });
  rmSync(to, { recursive: true });
});

test.each(PACKS)('an earlier worker that wakes up writes nowhere in a %s that another took over', async (pack) => {
  const [row] = await site.db.select().from(carriers);
  const carrier = await openCarrier(placeOf(row!, null, pack));
  const own = { folder: 'p', site: randomUUID(), job: randomUUID(), item: 1 };
  const [first, second] = [
    { ...own, lease: randomUUID() },
    { ...own, lease: randomUUID() },
  ];
  const put = async (pack_: typeof first, at: string, bytes: Buffer) => {
    const stream = await carrier.write(pack_, at, { sizeBytes: bytes.length, modifiedMs: 0 });
    await new Promise<void>((resolve, reject) => stream.end(bytes, () => resolve()).on('error', reject));
  };
  await carrier.begin(first);
  await put(first, 'data/a', Buffer.alloc(5000, 'a'));
  // Begun under the first lease, and still open when the second takes over.
  const late = await carrier.write(first, 'data/b', { sizeBytes: 9000, modifiedMs: 0 });
  late.on('error', () => undefined);
  await new Promise((resolve) => late.write(Buffer.alloc(4000, 'x'), resolve));
  expect(await carrier.takeOver(second)).toBe(true);
  await put(second, 'data/b', Buffer.alloc(9000, 'b'));
  await new Promise<void>((resolve) => late.end(Buffer.alloc(5000, 'x')).on('close', resolve));
  await put(second, 'data/c', Buffer.alloc(100, 'c'));
  await carrier.place(second);
  const sums: [string, string][] = [];
  for await (const { at } of carrier.list('p')) {
    const chunks: Buffer[] = [];
    for await (const chunk of await carrier.read('p', at)) chunks.push(chunk as Buffer);
    sums.push([at, [...new Set(Buffer.concat(chunks).toString())].join('')]);
  }
  expect(sums).toEqual([
    ['data/a', 'a'],
    ['data/b', 'b'],
    ['data/c', 'c'],
  ]);
  await carrier.close();
});
