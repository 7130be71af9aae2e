// Tries to make a take-in say of a folder what is not so, or touch it.
import { createHash } from 'node:crypto';
import { execFileSync } from 'node:child_process';
import {
  appendFileSync,
  cpSync,
  existsSync,
  mkdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  unlinkSync,
  writeFileSync,
} from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, ProjectId } from '#core/model.ts';
import { zipSync } from 'fflate';
import { otio, TestSite, until } from '#test/site.ts';
import { archiveClips, archiveCopies, archiveFiles, archiveParts, archives, copyParts } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { workerReach } from '../db/schema/stores.ts';
import { whereStored } from '../search/where.ts';
import { cancelJob } from '../runtime/queue.ts';
import { addArchive } from '../steps/archive.ts';
import { addCopy } from '../steps/copy-archive.ts';
import { addRestore } from '../steps/restore.ts';
import { carrierPage } from '../stores/carrier-register.ts';
import { binsIn, timelinesIn } from './contents.ts';
import { letGo } from './keeping.ts';
import { askToReadBackAll } from './read-back.ts';
import { archiveRows } from './shelf.ts';
import { askToTakeIn } from './take-in.ts';

let site: TestSite;
const NO_FILE = 'it is no plain file, or has a name that cannot be read here';
let old: CarrierId;

beforeEach(async () => {
  site = await TestSite.open();
  old = await site.carrier('old');
});
afterEach(() => site.close());

const at = (...parts: string[]) => path.join(site.root, ...parts);
const by = () => ({ who: 'Mara', now: new Date() });
const sum = (kind: string, text: string | Buffer) => createHash(kind).update(text).digest('hex');
async function takeIn(folder: string, more: { name?: string; client?: string } = {}) {
  await askToTakeIn(site.db, { carrierId: old, folder, name: '', client: '', year: null, ...more }, by());
  return site.workOff();
}
const held = async (archiveId = 1) =>
  (await site.db.select().from(archiveFiles).where(eq(archiveFiles.archiveId, archiveId)))
    .map((file) => file.payloadPath)
    .sort();
const lastFacts = async () => (await site.db.select().from(receipts)).at(-1)!;
/** Everything below a folder with its sums and times: what must not change. */
const print = (folder: string) =>
  execFileSync('sh', ['-c', 'find . -printf "%p %s %T@\\n" | sort; find . -type f -exec sha256sum {} + | sort'], {
    cwd: at(folder),
    encoding: 'utf8',
  });

function fog() {
  for (const clip of ['a', 'b', 'c']) site.put(`old/Fog/Rushes/${clip}.mov`, Buffer.alloc(50_000, clip));
  site.put(
    'old/Fog/Cut/fog.otio',
    otio('Fog', ['/Volumes/Raid/Fog/Rushes/a.mov', '/Volumes/Raid/Fog/Rushes/b.mov', 'gone.mov']),
  );
}

test('a plain folder becomes an archive where it lies, and nothing on the carrier changes', async () => {
  fog();
  symlinkSync('/etc/hostname', at('old/Fog/link'));
  // As another system wrote it: no text.
  writeFileSync(Buffer.concat([Buffer.from(at('old/Fog/caf')), Buffer.from([0xe9]), Buffer.from('.mov')]), 'x');
  const before = print('old/Fog');
  expect(await takeIn('Fog', { client: 'Ida Holm' })).toMatchObject({ state: 'done', trouble: null });
  expect(print('old/Fog')).toBe(before);
  const [row] = await archiveRows(site.db);
  expect(row).toMatchObject({ name: 'Fog', state: 'sealed', files: 4, gaps: 2, originalsBytes: 0 });
  expect(row!.copies).toMatchObject([{ state: 'good' }]);
  expect(await held()).toEqual(['Cut/fog.otio', 'Rushes/a.mov', 'Rushes/b.mov', 'Rushes/c.mov']);
  expect(await site.db.select().from(projects)).toMatchObject([
    { name: 'Fog', client: 'Ida Holm', state: 'archived', origin: 'carrier' },
  ]);
  const receipt = await lastFacts();
  expect(receipt).toMatchObject({ action: 'taken in', files: 4, held: 2 });
  expect(receipt.title).toContain('none had a checksum with it');
  expect(receipt.facts).toMatchObject({
    ...{ checked: 0, documents: 1, timelines: 1 },
  });
  const out = (receipt.facts as { stayedOut: { path: string; why: string }[] }).stayedOut;
  expect(out.sort((a, b) => (a.path < b.path ? -1 : 1))).toEqual([
    { path: 'caf\uFFFD.mov', why: NO_FILE },
    { path: 'link', why: NO_FILE },
  ]);
  // Found by name, by timeline and by bin, as what was archived here.
  expect(await timelinesIn(site.db, 1)).toMatchObject([{ name: 'Cut', files: 2, bytes: 100_000, missing: 1 }]);
  expect(await binsIn(site.db, 1)).toMatchObject([{ name: 'Rushes', files: 2 }]);
  expect((await site.db.select().from(archiveClips)).map((clip) => clip.archiveFileId !== null)).toEqual([
    true,
    true,
    false,
  ]);
  const [found] = await whereStored(site.db, { words: ['c.mov'], ids: null, most: 10 });
  expect(found!.copies).toMatchObject([{ carrier: 'old', folder: 'Fog' }]);
});

test('it is read back against what was read then, restored whole, and copied as an archive of ours', async () => {
  fog();
  await takeIn('Fog');
  await askToReadBackAll(site.db, 1, by());
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  expect((await lastFacts()).title).toContain('all as sealed');
  // What somebody puts beside it later says nothing of what was taken in.
  site.put('old/Fog/Thumbs.db');
  await askToReadBackAll(site.db, 1, by());
  expect(await site.workOff()).toMatchObject({ state: 'done' });

  await addCopy(site.db, { archiveId: 1 as ArchiveId, carrierIds: [await site.carrier('new')], now: new Date() });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  const [{ folder } = { folder: '' }] = await site.db.select().from(archives);
  execFileSync('sha512sum', ['-c', '--quiet', 'manifest-sha512.txt'], { cwd: at('new', folder) });
  execFileSync('sha512sum', ['-c', '--quiet', 'tagmanifest-sha512.txt'], { cwd: at('new', folder) });
  expect(existsSync(at('new', folder, 'data/Rushes/c.mov'))).toBe(true);
  // A third has the very same lists; and each is read back by its own.
  await addCopy(site.db, { archiveId: 1 as ArchiveId, carrierIds: [await site.carrier('third')], now: new Date() });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  execFileSync('diff', ['-r', at('new', folder), at('third', folder)]);
  await askToReadBackAll(site.db, 1, by());
  await site.workOff();
  expect(await site.db.select({ state: archiveCopies.state }).from(archiveCopies)).toEqual(
    [1, 2, 3].map(() => ({ state: 'good' })),
  );

  const volume = await site.volume('back');
  const asked = { archiveId: 1 as ArchiveId, copyId: 1, volumeId: volume, now: new Date() };
  await addRestore(site.db, { ...asked, folder: 'fog' });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  unlinkSync(at('old/Fog/Thumbs.db'));
  execFileSync('diff', ['-r', at('old/Fog'), at('back/fog')]);
  await addRestore(site.db, { ...asked, folder: 'one', only: { timelines: ['Cut'], bins: [], files: [] } });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  expect([existsSync(at('back/one/Rushes/b.mov')), existsSync(at('back/one/Rushes/c.mov'))]).toEqual([true, false]);
});

test('rot is found by reading back, and the rest comes back from another copy', async () => {
  fog();
  await takeIn('Fog');
  await addCopy(site.db, { archiveId: 1 as ArchiveId, carrierIds: [await site.carrier('new')], now: new Date() });
  await site.runPlan();
  await site.workOff();
  writeFileSync(at('old/Fog/Rushes/b.mov'), Buffer.alloc(50_000, 'x'));
  await askToReadBackAll(site.db, 1, { ...by(), on: 'old' });
  expect(await site.workOff()).toMatchObject({ state: 'failed' });
  expect((await archiveRows(site.db))[0]!.copies.map((copy) => copy.state)).toEqual(['damaged', 'good']);
  const asked = { archiveId: 1 as ArchiveId, copyId: 2, volumeId: await site.volume('back'), now: new Date() };
  await addRestore(site.db, { ...asked, folder: 'fog' });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  expect(readFileSync(at('back/fog/Rushes/b.mov'))).toEqual(Buffer.alloc(50_000, 'b'));
});

test('checksums that came with it are compared, in every list that there is; what does not match stays out', async () => {
  const files = { a: 'aaa', b: 'bbb', c: 'ccc', d: 'ddd', e: 'eee' };
  for (const [name, text] of Object.entries(files)) site.put(`old/Bag/data/${name}.mov`, text);
  site.put('old/Bag/bagit.txt', 'BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n');
  site.put(
    'old/Bag/manifest-md5.txt',
    `${sum('md5', 'aaa')}  data/a.mov\n${sum('md5', 'not it')}  data/b.mov\n${sum('md5', 'z')}  data/lost.mov\n`,
  );
  site.put('old/Bag/manifest-sha256.txt', `${sum('sha256', 'aaa')}  data/a.mov\n${sum('sha256', 'ccc')}  data/c.mov\n`);
  site.put('old/Bag/data/d.mov.sha1', sum('sha1', 'not it'));
  site.put(
    'old/Bag/data/ascmhl/0001.mhl',
    `<hashlist version="2.0"><hashes><hash><path>e.mov</path><sha1>${sum('sha1', 'eee')}</sha1></hash></hashes></hashlist>`,
  );
  expect(await takeIn('Bag')).toMatchObject({ state: 'done' });
  expect(await held()).not.toEqual(expect.arrayContaining(['data/b.mov']));
  expect(await held()).toEqual(expect.arrayContaining(['data/a.mov', 'data/c.mov', 'data/e.mov', 'manifest-md5.txt']));
  const { facts, held: left } = await lastFacts();
  expect(left).toBe(3);
  expect(facts).toMatchObject({ checked: 3 });
  expect((facts as { stayedOut: object[] }).stayedOut).toEqual(
    expect.arrayContaining([
      { path: 'data/b.mov', why: 'it does not match the checksum that came with it (md5)' },
      { path: 'data/d.mov', why: 'it does not match the checksum that came with it (sha1)' },
      { path: 'data/lost.mov', why: 'a list of checksums names it, and it is not there' },
    ]),
  );
});

async function sealed(): Promise<string> {
  const volume = await site.volume('media');
  for (const clip of ['a', 'b']) site.put(`media/mist/rushes/${clip}.mov`, Buffer.alloc(40_000, clip));
  site.put('media/mist/mist.otio', otio('Mist', ['rushes/a.mov', 'rushes/b.mov']));
  await site.read(volume);
  const carrierIds = [await site.carrier('kd-1')];
  await addArchive(site.db, {
    ...{ projectId: 1 as ProjectId, carrierIds, folder: 'mist_1', scope: USUAL_SCOPE, now: new Date() },
  });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  return at('kd-1/mist_1');
}

test('a copy of an archive that is known counts as one, once all of it reads as it was sealed', async () => {
  cpSync(await sealed(), at('old/from the bank'), { recursive: true });
  const file = at('old/from the bank/data/media/Rushes/a.mov');
  const whole = readFileSync(file);
  writeFileSync(file, Buffer.alloc(whole.length, '!'));
  expect(await takeIn('from the bank')).toMatchObject({
    state: 'failed',
    trouble: expect.stringContaining('is a copy of mist_1 that is damaged: data/media/Rushes/a.mov is not') as string,
  });
  expect(await site.db.select().from(archiveCopies)).toHaveLength(1);
  writeFileSync(file, whole);
  expect(await takeIn('from the bank')).toMatchObject({ state: 'done', trouble: null });
  expect(await archiveRows(site.db)).toMatchObject([
    { folder: 'mist_1', copies: [{ state: 'good' }, { state: 'good' }] },
  ]);
  expect((await lastFacts()).title).toMatch(/^from the bank on old is a copy of mist_1: .* all as sealed$/);
  await askToReadBackAll(site.db, 1, { ...by(), on: 'old' });
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  const asked = { archiveId: 1 as ArchiveId, copyId: 2, volumeId: await site.volume('back'), now: new Date() };
  rmSync(at('kd-1/mist_1'), { recursive: true });
  await addRestore(site.db, { ...asked, folder: 'mist' });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  expect(readFileSync(at('back/mist/media/Rushes/a.mov'))).toEqual(whole);
});

test('an archive of ours from elsewhere is known by its own lists', async () => {
  cpSync(await sealed(), at('old/mist_1'), { recursive: true });
  // As in a house that never had it.
  await letGo(site.db, 1 as ArchiveId, 'mist_1', by());
  expect(await takeIn('mist_1')).toMatchObject({ state: 'done', trouble: null });
  const [first, second] = await site.db.select().from(archives);
  expect(second).toMatchObject({ state: 'sealed', name: 'Mist', files: first!.files, bytes: first!.bytes, gaps: 0 });
  expect(second!.folder).toBe('mist_1-2');
  expect(await held(2)).toEqual(await held(1));
  const parts = await site.db.select().from(archiveParts);
  expect(parts[1]!.manifestSha512).toBe(parts[0]!.manifestSha512);
  expect((await site.db.select().from(copyParts)).at(-1)).toMatchObject({ packer: null, folder: 'mist_1' });
  const roles = async (id: number) =>
    (await site.db.select().from(archiveFiles).where(eq(archiveFiles.archiveId, id)))
      .map((file) => [file.payloadPath, file.role, file.path, file.sha512])
      .sort();
  expect(await roles(2)).toEqual(await roles(1));
  await askToReadBackAll(site.db, 2, by());
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  expect((await timelinesIn(site.db, 2)).map(({ name, files }) => [name, files])).toEqual([['Cut', 2]]);
  // Brought back, its document leads to its media.
  const asked = { archiveId: 2 as ArchiveId, copyId: 2, volumeId: await site.volume('back'), now: new Date() };
  await addRestore(site.db, { ...asked, folder: 'mist' });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  expect(readFileSync(at('back/mist/documents/mist.otio'), 'utf8')).toContain(at('back/mist/media'));
});

test('one of ours in which a file rotted is taken without it, and no copy of it says that it holds what it does not', async () => {
  cpSync(await sealed(), at('old/mist_1'), { recursive: true });
  await letGo(site.db, 1 as ArchiveId, 'mist_1', by());
  writeFileSync(at('old/mist_1/data/media/Rushes/b.mov'), Buffer.alloc(40_000, '!'));
  expect(await takeIn('mist_1')).toMatchObject({ state: 'done', trouble: null });
  const [, second] = await site.db.select().from(archives);
  expect(second).toMatchObject({ state: 'sealed', gaps: 1 });
  expect(await held(2)).not.toContain('data/media/Rushes/b.mov');
  const carrierIds = [await site.carrier('new')];
  await addCopy(site.db, { archiveId: 2 as ArchiveId, carrierIds, now: new Date() });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  execFileSync('sha512sum', ['-c', '--quiet', 'manifest-sha512.txt'], { cwd: at('new', second!.folder) });
  await askToReadBackAll(site.db, 2, by());
  await site.workOff();
  expect((await archiveRows(site.db))[0]!.copies.map((copy) => copy.state)).toEqual(['good', 'good']);
});

// Media and the untouched document: the relinked one is known by the size of its original.
test('what other archives hold already, byte for byte, is told', async () => {
  cpSync(await sealed(), at('old/mist_1'), { recursive: true });
  rmSync(at('old/mist_1/tagmanifest-sha512.txt'));
  expect(await takeIn('mist_1', { name: 'Mist of old' })).toMatchObject({ state: 'done' });
  expect((await lastFacts()).facts).toMatchObject({ sameInOtherArchives: { files: 3 } });
});

test('one of ours whose lists were changed is taken as it was found, by what it holds', async () => {
  cpSync(await sealed(), at('old/mist_1'), { recursive: true });
  appendFileSync(at('old/mist_1/README.txt'), 'x');
  expect(await takeIn('mist_1', { name: 'Mist of old' })).toMatchObject({ state: 'done' });
  expect((await site.db.select().from(copyParts)).at(-1)).toMatchObject({ packer: 'folder as found' });
  expect(await held(2)).not.toContain('README.txt');
  expect(await held(2)).toContain('data/media/Rushes/a.mov');
});

test('a tar and a zip of others are taken in entry by entry, brought back, and copied as a folder of ours', async () => {
  fog();
  symlinkSync('a.mov', at('old/Fog/link'));
  execFileSync('tar', ['-cf', 'fog.tar', 'Fog'], { cwd: at('old') });
  const zipped = {
    'Cut/fog.otio': readFileSync(at('old/Fog/Cut/fog.otio')),
    'Rushes/a.mov': Buffer.alloc(50_000, 'a'),
  };
  writeFileSync(at('old/mist.zip'), zipSync(zipped, { level: 6 }));
  writeFileSync(at('old/broken.zip'), 'hello');
  writeFileSync(at('old/notes.txt'), 'hello');
  await site.look();
  expect((await carrierPage(site.db, old))!.strangers).toEqual(['Fog', 'broken.zip', 'fog.tar', 'mist.zip']);
  expect(await takeIn('fog.tar')).toMatchObject({ state: 'done', trouble: null });
  expect(await held(1)).toEqual(['Fog/Cut/fog.otio', 'Fog/Rushes/a.mov', 'Fog/Rushes/b.mov', 'Fog/Rushes/c.mov']);
  expect((await lastFacts()).facts).toMatchObject({ stayedOut: [{ path: 'Fog/link', why: NO_FILE }] });
  expect(await timelinesIn(site.db, 1)).toMatchObject([{ name: 'Cut', files: 2 }]);
  expect(await takeIn('mist.zip')).toMatchObject({ state: 'done', trouble: null });
  expect(await held(2)).toEqual(['Cut/fog.otio', 'Rushes/a.mov']);
  expect((await site.db.select().from(projects)).map((project) => project.name)).toEqual(['fog', 'mist']);
  expect(await takeIn('broken.zip')).toMatchObject({
    state: 'failed',
    trouble: 'broken.zip could not be taken in: it is no zip, or its directory is not whole. Nothing was changed.',
  });
  expect(await takeIn('notes.txt')).toMatchObject({
    trouble: expect.stringContaining('neither a folder nor') as string,
  });
  for (const [archiveId, copyId] of [
    [1, 1],
    [2, 2],
  ] as const) {
    await askToReadBackAll(site.db, archiveId, by());
    expect(await site.workOff()).toMatchObject({ state: 'done' });
    const volumeId = await site.volume(`back${archiveId}`);
    await addRestore(site.db, { archiveId: archiveId as ArchiveId, copyId, volumeId, folder: 'all', now: new Date() });
    const carrierIds = [await site.carrier(`new${archiveId}`)];
    await addCopy(site.db, { archiveId: archiveId as ArchiveId, carrierIds, now: new Date() });
    await site.runPlan();
    expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  }
  unlinkSync(at('old/Fog/link'));
  execFileSync('diff', ['-r', at('old/Fog'), at('back1/all/Fog')]);
  expect(readFileSync(at('back2/all/Rushes/a.mov'))).toEqual(zipped['Rushes/a.mov']);
  const [first] = await site.db.select().from(archives);
  execFileSync('sha512sum', ['-c', '--quiet', 'manifest-sha512.txt'], { cwd: at('new1', first!.folder) });
});

test('nonsense is refused in a sentence, and changes nothing', async () => {
  fog();
  const asked = { carrierId: old, folder: 'Fog', name: '', client: '', year: null };
  for (const [wrong, words] of [
    [{ folder: '../media' }, 'names no folder'],
    [{ folder: '/etc' }, 'names no folder'],
    [{ folder: '.keramion/x' }, 'keeps for itself'],
    [{ name: '!!!' }, 'no letter or digit'],
    [{ carrierId: 99 as CarrierId }, 'no such carrier'],
  ] as const)
    await expect(askToTakeIn(site.db, { ...asked, ...wrong }, by())).rejects.toThrow(words);
  expect(await site.db.select().from(jobs)).toEqual([]);
  expect(await takeIn('Nowhere')).toMatchObject({
    state: 'failed',
    trouble: expect.stringContaining('is not on old') as string,
  });
  mkdirSync(at('old/Empty'));
  expect(await takeIn('Empty')).toMatchObject({ trouble: expect.stringContaining('holds no file') as string });
  expect([await site.db.select().from(archives), await site.db.select().from(projects)]).toEqual([[], []]);
  await takeIn('Fog');
  await expect(askToTakeIn(site.db, { ...asked, folder: 'Fog/Rushes' }, by())).rejects.toThrow(
    'in the catalogue already',
  );
  await askToTakeIn(site.db, { ...asked, folder: 'Other' }, by());
  await expect(askToTakeIn(site.db, { ...asked, folder: 'Other' }, by())).rejects.toThrow('being taken in already');
  await site.workOff();
});

test('cancelled, it leaves the catalogue as it was; another name for the same day does not clash', async () => {
  fog();
  for (let i = 0; i < 400; i++) site.put(`old/Fog/many/${i}.mov`, Buffer.alloc(200_000, i));
  await askToTakeIn(site.db, { carrierId: old, folder: 'Fog', name: '', client: '', year: null }, by());
  // A short lease: that somebody asked for the end is heard at its heartbeat.
  const worker = site.worker(1);
  await until(async () => (await site.db.select({ id: archiveFiles.id }).from(archiveFiles).limit(1)).length > 0);
  const [job] = await site.db.select().from(jobs);
  await cancelJob(site.db, job!.id as never);
  await until(async () => (await site.db.select().from(jobs))[0]!.finishedAt !== null);
  await worker.stop();
  expect((await site.db.select().from(jobs))[0]).toMatchObject({ state: 'cancelled' });
  for (const table of [archives, archiveParts, archiveCopies, archiveFiles, copyParts, projects])
    expect(await site.db.select().from(table)).toEqual([]);
  await takeIn('Fog');
  cpSync(at('old/Fog/Cut'), at('old/Again'), { recursive: true });
  await takeIn('Again', { name: 'Fog' });
  const [one, two] = await site.db.select().from(archives);
  expect([two!.projectId, two!.folder]).toEqual([one!.projectId, `${one!.folder}-2`]);
});

test('the carrier says which folders on it are in no catalogue', async () => {
  fog();
  site.put('old/Mist/a.mov');
  site.put('old/.hidden/a.mov');
  await site.look();
  expect((await carrierPage(site.db, old))!.strangers).toEqual(['Fog', 'Mist']);
  await takeIn('Fog');
  expect((await carrierPage(site.db, old))!.strangers).toEqual(['Mist']);
});

test('a carrier that is taken away ends it with a sentence', async () => {
  fog();
  await askToTakeIn(site.db, { carrierId: old, folder: 'Fog', name: '', client: '', year: null }, by());
  await site.look();
  rmSync(at('old/.keramion'), { recursive: true });
  const worker = site.worker();
  await until(async () => (await site.db.select().from(workerReach)).some((row) => row.state !== 'reachable'));
  await worker.stop();
  expect(await site.db.select().from(archives)).toEqual([]);
  const [job] = await site.db.select().from(jobs);
  expect(job!.state === 'queued' || (job!.trouble ?? '').includes('taken away')).toBe(true);
});
