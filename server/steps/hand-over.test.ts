// What is handed over: whole, readable anywhere, and with nothing of the house that was not chosen.
import { execFileSync } from 'node:child_process';
import fs, { appendFileSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import { USUAL_HAND_OVER } from '#core/archive/selection.ts';
import { readOtio } from '#core/documents/formats/otio.ts';
import { pathOfUrl } from '#core/documents/targets.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { TestSite } from '#test/site.ts';
import { wav } from '#test/wav.ts';
import { archiveRows, carrierRows } from '../archives/shelf.ts';
import {
  archiveCopies,
  archiveFiles,
  archiveParts,
  archives,
  copyFiles,
  copyParts,
  handedOver,
} from '../db/schema/archives.ts';
import { files } from '../db/schema/catalogue.ts';
import { documents, media } from '../db/schema/documents.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { currentPlan, findingsOf } from '../plan/plan.ts';
import { addHandOver } from './hand-over.ts';

let site: TestSite;
let volume: VolumeId;
let shuttle: VolumeId;
const FOG = 1 as ProjectId;

const clip = (url: string) => ({
  OTIO_SCHEMA: 'Clip.1',
  name: url,
  media_reference: {
    OTIO_SCHEMA: 'ExternalReference.1',
    target_url: url,
    available_range: {
      OTIO_SCHEMA: 'TimeRange.1',
      start_time: { OTIO_SCHEMA: 'RationalTime.1', rate: 25, value: 0 },
      duration: { OTIO_SCHEMA: 'RationalTime.1', rate: 25, value: 50 },
    },
  },
});
const timeline = (name: string, ...urls: string[]) => ({
  OTIO_SCHEMA: 'Timeline.1',
  name,
  tracks: {
    OTIO_SCHEMA: 'Stack.1',
    children: [{ OTIO_SCHEMA: 'Track.1', kind: 'Video', children: urls.map(clip) }],
  },
});
const EDIT_LIST = 'TITLE: FOG\n001 A V C 00:00:00:00 00:00:01:00 01:00:00:00 01:00:01:00\n';
const DOCUMENT = {
  OTIO_SCHEMA: 'SerializableCollection.1',
  name: 'Fog',
  children: [
    {
      OTIO_SCHEMA: 'SerializableCollection.1',
      name: 'Rushes',
      children: ['rushes/a.mov', 'rushes/b.mov', 'rushes/secret.mov', 'rushes/gone.mov'].map(clip),
    },
    timeline('Trailer', 'rushes/a.mov', 'rushes/gone.mov', 'rushes/b.mov'),
    timeline('The secret cut', 'rushes/secret.mov', 'rushes/b.mov'),
  ],
};

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  shuttle = await site.volume('shuttle');
  site.put('media/fog/rushes/a.mov', Buffer.alloc(300_000, 'a'));
  site.put('media/fog/rushes/b.mov', Buffer.alloc(200_000, 'b'));
  site.put('media/fog/rushes/secret.mov', Buffer.alloc(100_000, 's'));
  site.put('media/fog/fog.otio', JSON.stringify(DOCUMENT));
  site.put('media/fog/other.otio', JSON.stringify(timeline('Not chosen', 'rushes/secret.mov')));
  await site.read(volume);
});
afterEach(() => site.close());

const TRAILER = { ...USUAL_HAND_OVER, timelines: ['Trailer'] };
const at = (...parts: string[]) => path.join(site.root, 'shuttle', ...parts);
const add = (more: Partial<Parameters<typeof addHandOver>[1]> = {}) =>
  addHandOver(site.db, {
    ...{ projectId: FOG, volumeId: shuttle, folder: 'fog for Ida', toWhom: 'Ida', scope: TRAILER, now: new Date() },
    ...more,
  });
async function run() {
  await site.runPlan();
  return site.workOff();
}
const filesBelow = (folder: string) =>
  readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => path.relative(folder, path.join(entry.parentPath, entry.name)))
    .sort();
const JOURNAL = [archives, archiveParts, archiveCopies, copyParts, archiveFiles, copyFiles];
async function expectNoArchive() {
  for (const table of JOURNAL) expect(await site.db.select().from(table)).toEqual([]);
  expect(await archiveRows(site.db)).toEqual([]);
  expect(await carrierRows(site.db)).toEqual([]);
}

test('one timeline: its media, a document that names nothing else, proven, told to nobody but the receipt', async () => {
  await add();
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  const cwd = at('fog for Ida');
  expect(filesBelow(cwd)).toEqual([
    'README.txt',
    expect.stringMatching(/^ascmhl\/.*\.mhl$/),
    'ascmhl/ascmhl_chain.xml',
    'bag-info.txt',
    'bagit.txt',
    'contents.json',
    'data/documents/fog.otio',
    'data/media/Rushes/a.mov',
    'data/media/Rushes/b.mov',
    'index.html',
    'manifest-sha512.txt',
    'tagmanifest-sha512.txt',
    'xxh64sum.txt',
  ]);
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd });
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'tagmanifest-sha512.txt'], { cwd });
  const written = filesBelow(cwd)
    .filter((name) => !name.startsWith('data/media'))
    .map((name) => readFileSync(path.join(cwd, name), 'utf8'))
    .join('\n');
  for (const word of ['secret', 'Not chosen', site.root, 'fog/rushes', `<hostname>${os.hostname()}`])
    expect(written).not.toContain(word);
  expect(readFileSync(path.join(cwd, 'README.txt'), 'utf8')).toMatch(/^Fog, for Ida\n/);
  const read = readOtio(readFileSync(path.join(cwd, 'data/documents/fog.otio'), 'utf8'));
  if (!read.ok) throw new Error('It cannot be read.');
  expect(read.document.timelines.map(({ name }) => name)).toEqual(['Trailer']);
  const places = read.document.media.map((media) => media.target ?? '');
  expect(places.filter((url) => existsSync(path.join(cwd, 'data/documents', pathOfUrl(url)))).length).toBe(2);
  expect(places.filter((url) => url.includes('gone.mov')).length).toBeGreaterThan(0);
  await expectNoArchive();
  const [receipt] = await site.db.select().from(receipts);
  expect(receipt).toMatchObject({
    ...{ action: 'handed over', title: 'Hand over Fog to Ida on shuttle', files: 3, held: 0 },
    facts: { toWhom: 'Ida', volume: 'shuttle', folder: 'fog for Ida', timelines: ['Trailer'] },
  });
  expect(await site.db.select().from(handedOver)).toMatchObject([{ folder: 'fog for Ida', toWhom: 'Ida', files: 3 }]);
});

test('in one bundle: its document names media inside it alone, and whoever reads it finds them', async () => {
  await add({ scope: { ...TRAILER, layout: 'bundle' } });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  const bundle = at('fog for Ida', 'data', 'fog.otiod');
  expect(filesBelow(bundle)).toEqual(['content.otio', 'media/a.mov', 'media/b.mov']);
  expect(filesBelow(at('fog for Ida', 'data'))).toHaveLength(3);
  const read = readOtio(readFileSync(path.join(bundle, 'content.otio'), 'utf8'));
  if (!read.ok) throw new Error('It cannot be read.');
  const places = read.document.media.map((media) => media.target ?? '');
  expect(places.toSorted()).toEqual(['media/a.mov', 'media/b.mov', 'media/not%20in%20this%20archive/gone.mov']);
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: at('fog for Ida') });
  expect(readFileSync(at('fog for Ida', 'README.txt'), 'utf8')).toContain('  data/fog.otiod/\n');
});

test('a bundle of what has no document that can be written anew is refused', async () => {
  rmSync(path.join(site.root, 'media/fog/fog.otio'));
  rmSync(path.join(site.root, 'media/fog/other.otio'));
  site.put('media/fog/fog.edl', EDIT_LIST);
  await site.read(volume);
  await expect(add({ scope: { ...USUAL_HAND_OVER, parts: ['unused'], layout: 'bundle' } })).rejects.toThrow(
    /no OpenTimelineIO document in what was chosen/,
  );
  expect((await currentPlan(site.db)).steps).toEqual([]);
});

describe('the project pointed at what was handed over', () => {
  const versions = () =>
    readdirSync(path.join(site.root, 'media/fog'))
      .filter((name) => name.endsWith('.otio'))
      .sort();
  const targetsIn = (name: string) => {
    const read = readOtio(readFileSync(path.join(site.root, 'media/fog', name), 'utf8'));
    if (!read.ok) throw new Error('It cannot be read.');
    return read.document.media.map((media) => media.target ?? '').sort();
  };

  test('gets a new version that names the copies, what did not go along stays, and all of it is found', async () => {
    const before = readFileSync(path.join(site.root, 'media/fog/fog.otio'), 'utf8');
    await add({ points: true });
    const findings = await findingsOf(site.db, (await currentPlan(site.db)).steps);
    expect(findings).toContainEqual(expect.objectContaining({ code: 'documents relinked' }));
    expect(await run()).toMatchObject({ state: 'done', trouble: null });
    await site.workOff();
    expect(versions()).toEqual(['fog v2.otio', 'fog.otio', 'other.otio']);
    expect(readFileSync(path.join(site.root, 'media/fog/fog.otio'), 'utf8')).toBe(before);
    const copies = `file://${at('fog for Ida', 'data', 'media', 'Rushes')}`.replaceAll(' ', '%20');
    expect([...new Set(targetsIn('fog v2.otio'))]).toEqual([
      `${copies}/a.mov`,
      `${copies}/b.mov`,
      'rushes/gone.mov',
      'rushes/secret.mov',
    ]);
    const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'handed over'));
    expect(receipt!.facts).toMatchObject({ newVersions: ['fog v2.otio'] });
    const [newest] = await site.db.select().from(documents).where(eq(documents.name, 'fog v2.otio'));
    const found = await site.db.select().from(media).where(eq(media.documentId, newest!.id));
    expect(found.filter((one) => one.found > 0).map((one) => one.name).length).toBe(found.length - 1);
    // The documents of what was handed over are still nobody's.
    const known = (await site.db.select().from(projects)).map((project) => project.name).sort();
    expect(known).toEqual(['Fog', 'other']);
  });

  test('of media that went as parts each reference leads to its part', async () => {
    const sound = wav(100_000, 3);
    site.put('media/fog/rushes/a.mov', Buffer.alloc(10));
    site.put('media/fog/rushes/s.wav', sound);
    const cut = timeline('Cut', 'rushes/s.wav');
    site.put('media/fog/fog.otio', JSON.stringify(cut));
    await site.read(volume);
    await add({ points: true, scope: { ...USUAL_HAND_OVER, handles: { value: 0, unit: 'frames', gapSeconds: 0 } } });
    expect(await run()).toMatchObject({ state: 'done', trouble: null });
    const [target] = targetsIn('fog v2.otio');
    expect(target).toMatch(/s_f\d+\.wav$/);
    expect(existsSync(pathOfUrl(target!))).toBe(true);
    expect(readFileSync(pathOfUrl(target!)).length).toBeLessThan(sound.length);
  });

  test('a document that was saved meanwhile gets none, and the receipt says so', async () => {
    await add({ points: true });
    await site.runPlan();
    const rename = fs.renameSync;
    const saved = jest.spyOn(fs, 'renameSync').mockImplementation((from, to) => {
      rename(from, to);
      // Its package has its name.
      if (String(to).endsWith('fog for Ida')) appendFileSync(path.join(site.root, 'media/fog/fog.otio'), ' ');
    });
    expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
    saved.mockRestore();
    expect(versions()).toEqual(['fog.otio', 'other.otio']);
    const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'handed over'));
    expect(receipt!.facts).toMatchObject({ newVersions: [], notRelinked: ['fog.otio (it was saved meanwhile)'] });
  });

  test('into one file it is refused', async () => {
    await expect(add({ points: true, scope: { ...TRAILER, pack: 'zip' } })).rejects.toThrow(/at a folder only/);
  });
});

test('what was handed over is no project of the house when its volume is read', async () => {
  await add();
  await run();
  // Beside it, and with a name that only begins like it, is work as any other.
  mkdirSync(at('fog for Ida 2'));
  writeFileSync(at('fog for Ida 2', 'mine.otio'), JSON.stringify(timeline('Mine', 'x.mov')));
  await site.read(shuttle);
  const names = (await site.db.select().from(documents)).map((document) => document.name).sort();
  expect(names).toEqual(['fog.otio', 'mine.otio', 'other.otio']);
  const known = (await site.db.select().from(projects)).map((project) => project.name).sort();
  expect(known).toEqual(['Fog', 'Mine', 'other']);
});

test('what cannot be written anew goes as it is, and the plan says so; a document that is gone files nothing', async () => {
  site.put('media/fog/fog.edl', EDIT_LIST);
  rmSync(path.join(site.root, 'media/fog/other.otio'));
  await site.read(volume);
  await add({ scope: USUAL_HAND_OVER });
  const findings = await findingsOf(site.db, (await currentPlan(site.db)).steps);
  expect(findings).toContainEqual(
    expect.objectContaining({ code: 'goes as it is', facts: { documents: 1, example: 'fog.edl' } }),
  );
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(filesBelow(at('fog for Ida', 'data/media'))).toEqual(['Rushes/a.mov', 'Rushes/b.mov', 'Rushes/secret.mov']);
});

test('media are called by a pattern, and the document leads to them', async () => {
  site.put('media/fog/rushes/a.xml', 'beside a');
  await site.read(volume);
  await add({ scope: { ...TRAILER, names: '{bin}-{clip}' } });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  const cwd = at('fog for Ida');
  expect(filesBelow(path.join(cwd, 'data/media/Rushes'))).toEqual([
    'Rushes-rushes_a.mov',
    'Rushes-rushes_a.xml',
    'Rushes-rushes_b.mov',
  ]);
  const read = readOtio(readFileSync(path.join(cwd, 'data/documents/fog.otio'), 'utf8'));
  if (!read.ok) throw new Error('It cannot be read.');
  const places = read.document.media.map((media) => media.target ?? '');
  expect(places.filter((url) => existsSync(path.join(cwd, 'data/documents', pathOfUrl(url)))).length).toBe(2);
});

test('a bin and chosen files go in whole, with the documents that hold them and no timeline', async () => {
  site.put('media/fog/fog.edl', EDIT_LIST);
  await site.read(volume);
  const [secret] = await site.db.select({ id: files.id }).from(files).where(eq(files.name, 'secret.mov'));
  const scope = {
    ...USUAL_HAND_OVER,
    files: [secret!.id],
    handles: { value: 1, unit: 'frames' as const, gapSeconds: 0 },
  };
  await add({ folder: 'one file', scope });
  await add({ folder: 'a bin', scope: { ...USUAL_HAND_OVER, bins: ['Rushes'] } });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  const media = (folder: string) => filesBelow(at(folder, 'data/media'));
  expect(media('one file')).toEqual(['Rushes/secret.mov']);
  expect(media('a bin')).toEqual(['Rushes/a.mov', 'Rushes/b.mov', 'Rushes/secret.mov']);
  // An edit list of the same project holds nothing of either.
  expect(filesBelow(at('one file', 'data/documents'))).toEqual(['fog.otio']);
  expect(filesBelow(at('a bin', 'data/documents'))).toEqual(['fog.otio']);
  const read = readOtio(readFileSync(at('one file', 'data/documents/fog.otio'), 'utf8'));
  if (!read.ok) throw new Error('It cannot be read.');
  expect(read.document.timelines).toEqual([]);
  expect(read.document.clips.map((one) => one.name)).toEqual(['rushes/secret.mov']);
});

test('as one zip, whole, with everything that was asked for', async () => {
  await add({ scope: { ...USUAL_HAND_OVER, pack: 'zip', rest: 'stays' } });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(filesBelow(at()).filter((name) => !name.startsWith('.keramion'))).toEqual(['fog for Ida.zip']);
  expect(execFileSync('unzip', ['-t', at('fog for Ida.zip')], { encoding: 'utf8' })).toMatch(/No errors detected/);
  expect(execFileSync('unzip', ['-l', at('fog for Ida.zip')], { encoding: 'utf8' })).toMatch(/secret\.mov/);
  await expectNoArchive();
});

test('a document that changed meanwhile, or a name that is taken, ends it with a sentence and leaves nothing', async () => {
  await add();
  appendFileSync(path.join(site.root, 'media/fog/fog.otio'), '\n');
  expect(await run()).toMatchObject({
    state: 'failed',
    trouble: expect.stringMatching(/fog\.otio cannot go in: .*changed/),
  });
  expect(filesBelow(at())).toEqual(['.keramion/identity.json']);
  await expectNoArchive();
  expect(await site.db.select().from(handedOver)).toEqual([]);
  await site.read(volume);
  mkdirSync(at('fog for Ida'));
  await add();
  expect(await run()).toMatchObject({
    state: 'failed',
    trouble: expect.stringMatching(/shuttle has something named fog for Ida already/),
  });
  expect(filesBelow(at())).toEqual(['.keramion/identity.json']);
  await site.read(shuttle);
  await add();
  expect((await findingsOf(site.db, (await currentPlan(site.db)).steps)).map(({ code }) => code)).toContain(
    'same name',
  );
});

test('bad input gets a sentence and adds nothing', async () => {
  await expect(add({ toWhom: '  ' })).rejects.toThrow('It is not said who gets it. Nothing was added.');
  for (const folder of ['../out', '/tmp/x', 'a/b', '.', ''])
    await expect(add({ folder })).rejects.toThrow(/is no name for a folder on shuttle\. Nothing was added\.$/);
  await expect(add({ scope: { ...TRAILER, timelines: ['Nothing'] } })).rejects.toThrow(/Nothing was added/);
  await expect(add({ scope: { ...USUAL_HAND_OVER, bins: ['No'] } })).rejects.toThrow(
    'There is no bin named No. Known are: Rushes. Nothing was added.',
  );
  await expect(add({ volumeId: 99 as VolumeId })).rejects.toThrow(/not known\. Nothing was added/);
  expect((await currentPlan(site.db)).steps).toEqual([]);
});
