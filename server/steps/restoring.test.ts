// Bringing back what is asked for of an archive: one timeline, a bin, single files; from the carriers alone that hold it.
import {
  existsSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import path from 'node:path';
import { eq, isNotNull } from 'drizzle-orm';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { readOtio } from '#core/documents/formats/otio.ts';
import { pathOfUrl } from '#core/documents/targets.ts';
import { findingWords } from '#core/wording/findings.ts';
import { privateName } from '#disk/private-names.ts';
import { TestSite, until } from '#test/site.ts';
import { binsIn, type Only, timelinesIn } from '../archives/contents.ts';
import { archiveClips, archiveCopies, archiveFiles, archives } from '../db/schema/archives.ts';
import { stepItems } from '../db/schema/plans.ts';
import { keptKinds } from '../db/schema/projects.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { workerReach } from '../db/schema/stores.ts';
import { currentPlan, findingsOf } from '../plan/plan.ts';
import { jobRows } from '../site/work.ts';
import { missingMedia } from '../readings/missing.ts';
import { contentRows } from '../archives/page.ts';
import { search } from '../search/search.ts';
import { siteMark } from '../db/site-mark.ts';
import { addArchive } from './archive.ts';
import { addPutBack, putBackSum } from './put-back.ts';
import { addRestore } from './restore.ts';
import { askToTidy } from './tidy.ts';

let site: TestSite;
let volume: VolumeId;
const FOG = 1 as ProjectId;
const range = (start: number, duration: number) => ({
  OTIO_SCHEMA: 'TimeRange.1',
  start_time: { OTIO_SCHEMA: 'RationalTime.1', rate: 25, value: start },
  duration: { OTIO_SCHEMA: 'RationalTime.1', rate: 25, value: duration },
});
const clip = (name: string, source: object | null = null) => ({
  OTIO_SCHEMA: 'Clip.1',
  name,
  source_range: source,
  media_reference: {
    OTIO_SCHEMA: 'ExternalReference.1',
    target_url: `rushes/${name}.mov`,
    available_range: range(0, 100),
  },
});
const timeline = (name: string, clips: string[]) => ({
  OTIO_SCHEMA: 'Timeline.1',
  name,
  tracks: {
    OTIO_SCHEMA: 'Stack.1',
    children: [{ OTIO_SCHEMA: 'Track.1', kind: 'Video', children: clips.map((one) => clip(one, range(10, 5))) }],
  },
});
const bin = (name: string, children: object[]) => ({ OTIO_SCHEMA: 'SerializableCollection.1', name, children });
const DOCUMENT = bin('Fog', [
  bin('Rushes', [clip('a'), clip('b'), bin('Night', [clip('c')])]),
  timeline('Reel 1', ['a', 'b']),
  timeline('Reel 2', ['b', 'c']),
]);

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  for (const name of ['a', 'b', 'c']) site.put(`media/fog/rushes/${name}.mov`, `${name} `.repeat(30_000));
  site.put('media/fog/rushes/c.xml', 'beside c');
  site.put('media/fog/fog.otio', JSON.stringify(DOCUMENT));
  await site.read(volume);
});
afterEach(() => site.close());

const at = (...parts: string[]) => path.join(site.root, ...parts);
async function run() {
  await site.runPlan();
  return site.workOff();
}
async function archived(carrierIds: CarrierId[]): Promise<ArchiveId> {
  await addArchive(site.db, { projectId: FOG, carrierIds, folder: 'fog_1', now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  return 1 as ArchiveId;
}
const ONLY: Only = { timelines: [], bins: [], files: [] };
async function add(only: Partial<Only>, folder = 'back') {
  const [copy] = await site.db.select().from(archiveCopies);
  const asked = { archiveId: 1 as ArchiveId, copyId: copy!.id, volumeId: volume, folder };
  return addRestore(site.db, { ...asked, only: { ...ONLY, ...only }, now: new Date() });
}
const filesIn = (folder: string) =>
  readdirSync(at('media', folder), { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => path.relative(at('media', folder), path.join(entry.parentPath, entry.name)))
    .sort();
function documentIn(folder: string) {
  const reading = readOtio(readFileSync(at('media', folder, 'documents/fog.otio'), 'utf8'));
  if (!reading.ok) throw new Error(reading.trouble.detail);
  return reading.document;
}

test('an archive knows its timelines and bins, also when its documents and carriers are gone', async () => {
  const carrier = await site.carrier('kd-1');
  await archived([carrier]);
  rmSync(at('media/fog'), { recursive: true });
  await site.read(volume);
  renameSync(at('kd-1'), at('on a shelf'));
  expect(await timelinesIn(site.db, 1)).toEqual([
    { name: 'Reel 1', files: 2, bytes: 120_000, missing: 0 },
    { name: 'Reel 2', files: 2, bytes: 120_000, missing: 0 },
  ]);
  expect(await binsIn(site.db, 1)).toEqual([
    { name: 'Rushes', files: 2, bytes: 120_000, missing: 0 },
    { name: 'Rushes/Night', files: 1, bytes: 60_000, missing: 0 },
  ]);
  // And what is searched for by them is found, whatever its files are called.
  const found = async (word: string) =>
    (await contentRows(site.db, 1, { word, after: 0 })).rows.map((one) => path.basename(one.at)).sort();
  expect(await found('reel 2')).toEqual(['b.mov', 'c.mov']);
  expect(await found('night')).toEqual(['c.mov', 'c.xml']);
  const { hits } = await search(site.db, 'reel 2');
  expect(hits).toMatchObject([{ what: 'timeline', name: 'Reel 2', where: 'archived with Fog, fog_1', parentId: 1 }]);
  expect((await site.db.select().from(archiveClips)).map((row) => row.name).sort()).toEqual(['a', 'b', 'c']);
});

test('one timeline comes back with its media and their sidecars, in a document that holds nothing else', async () => {
  await archived([await site.carrier('kd-1')]);
  rmSync(at('media/fog'), { recursive: true });
  await site.read(volume);
  const added = await add({ timelines: ['Reel 2'] });
  const [step] = (await currentPlan(site.db)).steps;
  expect(step).toMatchObject({ title: 'Restore the timeline Reel 2 of Fog to media', files: added.files });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(filesIn('back')).toEqual([
    'documents/fog.otio',
    'documents/fog.otio.original',
    'media/Rushes/Night/c.mov',
    'media/Rushes/Night/c.xml',
    'media/Rushes/b.mov',
  ]);
  expect(added.files).toBe(5);
  const { timelines, media } = documentIn('back');
  expect(timelines.map(({ name }) => name)).toEqual(['Reel 2']);
  for (const { target } of media) expect(existsSync(pathOfUrl(target!))).toBe(true);
  expect(await missingMedia(site.db, { projectId: FOG })).toEqual([]);
  const kinds = await site.db.select().from(keptKinds).where(eq(keptKinds.folder, 'back'));
  expect(kinds).toHaveLength(1);
  const [receipt] = (await site.db.select().from(receipts)).filter((one) => one.action === 'project restored');
  expect(receipt).toMatchObject({ files: 5, facts: { folder: 'back' } });
});

test('a bin with all below it, or single files, come back alone', async () => {
  await archived([await site.carrier('kd-1')]);
  rmSync(at('media/fog'), { recursive: true });
  await site.read(volume);
  await add({ bins: ['Rushes/Night'] }, 'night');
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(filesIn('night').filter((one) => one.startsWith('media'))).toEqual([
    'media/Rushes/Night/c.mov',
    'media/Rushes/Night/c.xml',
  ]);
  // Clips of what stayed on the carrier leave the document: nothing is missing in it.
  expect(documentIn('night').media.map(({ target }) => path.basename(target!))).toEqual(['c.mov']);
  await add({ bins: ['Rushes'] }, 'all rushes');
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(filesIn('all rushes').filter((one) => one.endsWith('.mov'))).toHaveLength(3);
  const [a] = await site.db.select().from(archiveFiles).where(eq(archiveFiles.path, 'fog/rushes/a.mov'));
  await add({ files: [a!.id] }, 'one');
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(filesIn('one')).toEqual(['media/Rushes/a.mov']);
  // A document that is asked for by itself keeps all its timelines.
  const [document] = await site.db.select().from(archiveFiles).where(eq(archiveFiles.role, 'document'));
  await add({ files: [document!.id] }, 'document');
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(filesIn('document')).toEqual(['documents/fog.otio']);
  expect(documentIn('document').timelines.map(({ name }) => name)).toEqual(['Reel 1', 'Reel 2']);
});

test('of an archive over two carriers, what lies on one comes back while the other is away', async () => {
  const room = 16_000_000 + 120_000 + 20_000;
  await archived([await site.carrier('kd-1', room), await site.carrier('kd-2', room)]);
  const files = await site.db.select().from(archiveFiles);
  const [first] = await site.db.select().from(archives);
  expect(first!.state).toBe('sealed');
  const a = files.find((file) => file.path === 'fog/rushes/a.mov')!;
  const on = existsSync(at('kd-1/fog_1_1of2/data', a.payloadPath)) ? 'kd-1' : 'kd-2';
  renameSync(at(on === 'kd-1' ? 'kd-2' : 'kd-1'), at('on a shelf'));
  await site.look();
  await add({ files: [a.id] }, 'one');
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(readFileSync(at('media/one', a.payloadPath), 'utf8')).toBe('a '.repeat(30_000));
  // All of it needs both: it says which it waits for, and goes on once that is there.
  await add({ timelines: ['Reel 1', 'Reel 2'] }, 'both');
  const other = on === 'kd-1' ? 'kd-2' : 'kd-1';
  const found = await findingsOf(site.db, (await currentPlan(site.db)).steps);
  expect(found).toMatchObject([{ code: 'carrier asked for', weight: 'note', facts: { carrier: other } }]);
  expect(findingWords(found[0]!, 0).detail).toMatch(/^It is kept in cabinet\. Once it is connected/);
  await site.runPlan();
  const worker = site.worker();
  await until(() => worker.isIdle());
  const [job] = await jobRows(site.db, 0);
  expect(job).toMatchObject({ state: 'queued', waitsFor: [{ store: 'carrier', name: other, where: 'cabinet' }] });
  expect(existsSync(at('media/both'))).toBe(false);
  renameSync(at('on a shelf'), at(other));
  await until(async () => (await jobRows(site.db, 0)).length === 0);
  await worker.stop();
  expect(filesIn('both').filter((one) => one.endsWith('.mov'))).toHaveLength(3);
});

test('what an archive does not have is refused with all it has, and nothing is added', async () => {
  await archived([await site.carrier('kd-1')]);
  await expect(add({ timelines: ['Reel 9'] })).rejects.toThrow(/no timeline named Reel 9\. Known are: Reel 1, Reel 2/);
  await expect(add({ bins: ['Day'] })).rejects.toThrow(/no bin named Day\. Known are: Rushes, Rushes\/Night/);
  await expect(add({ files: [9999] })).rejects.toThrow(/not in this archive/);
  await expect(add({})).rejects.toThrow(/Nothing of it is chosen/);
  expect((await currentPlan(site.db)).steps).toEqual([]);
});

test('what was is put back where it was: the same is left, another stays in its place, nothing is written over', async () => {
  const carrier = await site.carrier('kd-1');
  await archived([carrier]);
  const was = Object.fromEntries(
    ['a', 'b', 'c'].map((name) => [name, statSync(at(`media/fog/rushes/${name}.mov`)).mtimeMs]),
  );
  const [copy] = await site.db.select().from(archiveCopies);
  const back = (only: Partial<Only> | null = null) =>
    addPutBack(site.db, {
      ...{ archiveId: 1 as ArchiveId, copyId: copy!.id, now: new Date() },
      only: only && { ...ONLY, ...only },
    });
  await expect(back()).rejects.toThrow('All of Fog that can go back is there already. Nothing was added.');
  rmSync(at('media/fog/rushes/a.mov'));
  rmSync(at('media/fog/fog.otio'));
  site.put('media/fog/rushes/b.mov', 'another take');
  await site.read(volume);
  expect(await putBackSum(site.db, { archiveId: 1 as ArchiveId })).toMatchObject({
    ...{ files: 3, there: { files: 2 }, without: { cut: 0, noPlace: 0 } },
    volumes: [{ volume: 'media', files: 3 }],
  });
  await back();
  const findings = await findingsOf(site.db, (await currentPlan(site.db)).steps);
  expect(findings.map((finding) => finding.code)).toEqual(['there already']);
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(readFileSync(at('media/fog/rushes/a.mov'), 'utf8')).toBe('a '.repeat(30_000));
  expect(statSync(at('media/fog/rushes/a.mov')).mtimeMs).toBeCloseTo(was.a!, 1);
  expect(readFileSync(at('media/fog/rushes/b.mov'), 'utf8')).toBe('another take');
  // As it was, and not pointed anew: everything lies where it says.
  expect(readFileSync(at('media/fog/fog.otio'), 'utf8')).toBe(JSON.stringify(DOCUMENT));
  const items = await site.db.select().from(stepItems).where(isNotNull(stepItems.archiveFileId));
  expect(
    Object.fromEntries(items.map((item) => [path.basename(item.path), item.reason ?? item.detail ?? item.state])),
  ).toEqual({
    ...{
      'a.mov': 'done',
      'b.mov': 'name taken',
      'c.mov': 'there already',
      'c.xml': 'there already',
      'fog.otio': 'done',
    },
  });
  const [receipt] = (await site.db.select().from(receipts)).slice(-1);
  expect(receipt).toMatchObject({ action: 'put back', held: 1, facts: { thereAlready: 2, held: { 'name taken': 1 } } });
  expect(receipt!.bytes).toBe(60_000 + JSON.stringify(DOCUMENT).length);
  expect(await missingMedia(site.db, { projectId: FOG })).toEqual([]);
});

test('one timeline is put back from the copy that is whole; a link on the way, and what was cut, are told', async () => {
  const [one, other] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  await archived([one, other]);
  const [copy] = await site.db.select().from(archiveCopies);
  const asked = { archiveId: 1 as ArchiveId, copyId: copy!.id };
  // Its copy of a turned a bit; b would lie behind a link by now.
  const rotten = readFileSync(at('kd-1/fog_1/data/media/Rushes/a.mov'));
  rotten[100]! ^= 1;
  writeFileSync(at('kd-1/fog_1/data/media/Rushes/a.mov'), rotten);
  renameSync(at('media/fog/rushes'), at('media/fog/away'));
  await site.read(volume);
  rmSync(at('media/fog/away'), { recursive: true });
  await addPutBack(site.db, { ...asked, only: { ...ONLY, timelines: ['Reel 1'] }, now: new Date() });
  // Other copies are read where the same worker is known to reach them.
  const worker = site.worker();
  await until(async () => (await site.db.select().from(workerReach)).length === 3);
  await site.runPlan();
  await worker.stop();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  expect(readdirSync(at('media/fog/rushes')).sort()).toEqual(['a.mov', 'b.mov']);
  expect(readFileSync(at('media/fog/rushes/a.mov'), 'utf8')).toBe('a '.repeat(30_000));
  const [receipt] = (await site.db.select().from(receipts)).slice(-1);
  expect(receipt!.facts).toMatchObject({
    damagedCopies: [expect.stringContaining('a.mov is not what was sealed on kd-1')],
  });
  rmSync(at('media/fog/rushes'), { recursive: true });
  site.put('elsewhere/x', 'x');
  symlinkSync(at('elsewhere'), at('media/fog/rushes'));
  const [good] = await site.db.select().from(archiveCopies).where(eq(archiveCopies.state, 'good'));
  await addPutBack(site.db, { ...asked, copyId: good!.id, now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(readdirSync(at('elsewhere'))).toEqual(['x']);
  const items = await site.db.select().from(stepItems).where(eq(stepItems.reason, 'outside'));
  expect(items.map((item) => path.basename(item.path)).sort()).toEqual(['a.mov', 'b.mov', 'c.mov', 'c.xml']);
});

test('what ended work left of putting back is taken away, and nothing is asked of a volume where all is there', async () => {
  const carrier = await site.carrier('kd-1');
  const second = await site.volume('second');
  site.put('second/fog/rushes/d.mov', 'd');
  site.put(
    'media/fog/fog.otio',
    JSON.stringify(bin('Fog', [clip('a'), timeline('Reel 1', ['a', 'b'])])).replaceAll(
      'rushes/b.mov',
      `file://${at('second/fog/rushes/d.mov')}`,
    ),
  );
  await site.read(volume, second);
  await archived([carrier]);
  rmSync(at('media/fog/rushes/a.mov'));
  await site.read(volume);
  const [copy] = await site.db.select().from(archiveCopies);
  const asked = { archiveId: 1 as ArchiveId, copyId: copy!.id, now: new Date() };
  const sum = await putBackSum(site.db, asked);
  expect(sum).toMatchObject({ files: 1, there: { files: 2 }, beside: { files: 1 }, volumes: [{ volume: 'media' }] });
  await addPutBack(site.db, asked);
  // The second is away.
  renameSync(at('second'), at('taken out'));
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(existsSync(at('media/fog/rushes/a.mov'))).toBe(true);
  const [job] = (await site.db.select().from(jobs)).filter((one) => one.kind === 'put back');
  const [item] = await site.db.select().from(stepItems).where(eq(stepItems.stepId, job!.stepId!));
  rmSync(at('media/fog/rushes/a.mov'));
  const left = privateName({
    use: 'copy',
    site: await siteMark(site.db),
    job: job!.mark,
    lease: job!.mark,
    item: item!.id,
  });
  site.put(`media/.keramion/${left}`, 'half of it');
  const reach = { volumes: new Map([[volume, at('media')]]), carriers: new Map() };
  expect(await askToTidy(site.db, reach, new Date())).toBe(1);
  await site.workOff();
  expect(existsSync(at('media/.keramion', left))).toBe(false);
  expect(await askToTidy(site.db, reach, new Date())).toBe(0);
});

test('of what was cut nothing is put back, and that is said', async () => {
  const carrier = await site.carrier('kd-1');
  await archived([carrier]);
  await site.db.update(archiveFiles).set({ role: 'part' }).where(eq(archiveFiles.role, 'media'));
  rmSync(at('media/fog/rushes'), { recursive: true });
  rmSync(at('media/fog/fog.otio'));
  await site.read(volume);
  const [copy] = await site.db.select().from(archiveCopies);
  const asked = { archiveId: 1 as ArchiveId, copyId: copy!.id, now: new Date() };
  expect(await addPutBack(site.db, asked)).toMatchObject({ files: 1 });
  const plan = await currentPlan(site.db);
  const told = (await findingsOf(site.db, plan.steps)).map((finding) => findingWords(finding, 0));
  expect(told).toMatchObject([
    {
      what: '4 files of it cannot go back where they were',
      detail: expect.stringMatching(/4 files are cut to what was used\. Restore/),
    },
  ]);
});
