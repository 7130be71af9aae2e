// The space lens over a real site: whatever it is looked at by, the parts sum up to the whole.
import { utimesSync } from 'node:fs';
import type { FolderId, VolumeId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { jobs } from '../db/schema/jobs.ts';
import { nameIndex } from '../search/names.ts';
import { search } from '../search/search.ts';
import { AREAS_BY, areas, extremes, type Extreme, folderAt, type Narrowing, type Scope, unitsIn } from './space.ts';
import { askToReadFolder } from '../site/work.ts';

let site: TestSite;
let media: VolumeId;
let scratch: VolumeId;
const now = new Date();
const today = Math.floor(now.getTime() / 86_400_000);
const aged = (place: string, days: number) =>
  utimesSync(place, now.getTime() / 1000 - days * 86_400, now.getTime() / 1000 - days * 86_400);
beforeAll(async () => {
  site = await TestSite.open();
  media = await site.volume('media', 'source');
  scratch = await site.volume('scratch');
  aged(site.put('media/fog/rushes/a.mov', Buffer.alloc(4000)), 40);
  aged(site.put('media/fog/rushes/b.mov', Buffer.alloc(3000)), 500);
  site.put('media/fog/rushes/b.xml', '<b/>');
  for (const frame of [1001, 1002, 1003, 1005])
    aged(site.put(`media/fog/stills/s.${frame}.exr`, Buffer.alloc(100)), 10);
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov']));
  for (let i = 0; i < 12; i++) aged(site.put(`scratch/cache/deep/er/${i}.frm`, Buffer.alloc(10 + i)), i * 10);
  await site.read(media, scratch);
});
afterAll(() => site.close());

const whole: Scope = { volumeIds: [] };
const sum = (rows: { bytes: number }[]) => rows.reduce((n, row) => n + row.bytes, 0);
// The sidecar is counted with the take it lies beside.
const all = { bytes: 4000 + 3000 + 4 + 400, cache: 10 * 12 + 66 };
async function folder(name: string): Promise<Scope> {
  const found = await search(site.db, name);
  const hit = found.hits.find((h) => h.what === 'folder')!;
  return { folder: (await folderAt(site.db, hit.id as FolderId))! };
}

test.each(AREAS_BY)('by %s the parts are the whole, for the site and for one folder', async (by) => {
  const document = sum(await areas(site.db, { scope: whole, by: 'folder', only: { kind: 'document' }, today }));
  expect(sum(await areas(site.db, { scope: whole, by, only: {}, today }))).toBe(all.bytes + all.cache + document);
  const rushes = await folder('rushes');
  const inside = await areas(site.db, { scope: rushes, by, only: {}, today });
  if (by !== 'folder') expect(sum(inside)).toBe(7004);
});

test('narrowed by project, kind and age, folder by folder', async () => {
  const only: Narrowing = { kind: 'source', band: 2 };
  const tops = await areas(site.db, { scope: whole, by: 'folder', only, today });
  expect(tops).toMatchObject([{ name: 'media', bytes: 4000, files: 1 }]);
  const top = (await folderAt(site.db, Number(tops[0]!.key) as FolderId))!;
  expect(await areas(site.db, { scope: { folder: top }, by: 'folder', only, today })).toMatchObject([
    { name: 'fog', bytes: 4000 },
  ]);
  expect(await areas(site.db, { scope: whole, by: 'kind', only: { projectId: 0 }, today })).toMatchObject([
    { key: 'cache', bytes: all.cache },
  ]);
  expect(await areas(site.db, { scope: whole, by: 'project', only: {}, today })).toMatchObject([
    { name: 'Fog' },
    { name: 'no project' },
  ]);
});

test.each<[Extreme, string]>([
  ['largest', 'a.mov'],
  ['oldest', 'b.mov'],
  ['deepest', 'er'],
])('the %s first', async (which, name) => {
  expect((await extremes(site.db, { scope: whole, only: {}, today, which }))[0]).toMatchObject({ name });
});

test('extremes are those of all files, whatever they are narrowed to', async () => {
  const scope: Scope = { volumeIds: [scratch] };
  const rows = await extremes(site.db, { scope, only: { kind: 'cache' }, today, which: 'largest' });
  expect(rows.map((row) => row.bytes)).toEqual(Array.from({ length: 12 }, (_, i) => 21 - i));
  const newest = await extremes(site.db, { scope, only: {}, today, which: 'newest' });
  expect(newest.map((row) => row.name)).toEqual(Array.from({ length: 12 }, (_, i) => `${i}.frm`));
});

test('units are one row that opens, and say which frames are missing', async () => {
  const stills = await folder('stills');
  const asked = { only: {}, today, open: 's.[1001-1005].exr' };
  const [row] = await unitsIn(site.db, 'folder' in stills ? stills.folder.folderId : (0 as FolderId), asked);
  expect(row).toMatchObject({ is: 'sequence', files: 4, bytes: 400, trouble: 'frame 1004 is missing' });
  expect(row!.members).toHaveLength(4);
  const rushes = await folder('rushes');
  const units = await unitsIn(site.db, 'folder' in rushes ? rushes.folder.folderId : (0 as FolderId), {
    ...asked,
    open: null,
  });
  expect(units.map((unit) => [unit.name, unit.is, unit.files])).toEqual([
    ['a.mov', 'file', 1],
    ['b.mov', 'with sidecars', 2],
  ]);
});

test('one folder is read by itself: what is new in it is known, what is new elsewhere is not', async () => {
  site.put('media/fog/rushes/new.mov', 'n');
  site.put('media/other/new too.mov', 'n');
  const rushes = await folder('rushes');
  if (!('folder' in rushes)) throw new Error('no folder');
  await askToReadFolder(site.db, rushes.folder.folderId, { who: 'Mara', now });
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
  expect((await site.db.select().from(jobs))[0]).toMatchObject({ state: 'done', title: 'Read fog/rushes on media' });
  expect((await search(site.db, 'new.mov')).hits).toHaveLength(1);
  expect((await search(site.db, 'new too')).hits).toEqual([]);
});

test('the names in memory find the same as the rows, with filters, and follow what is added', async () => {
  const names = nameIndex(site.database.url);
  try {
    await until(async () => (await names.find('files', ['x'], 1)).ready);
    for (const text of [
      'frm',
      'A.MOV',
      's.100',
      'frm kind:cache',
      'mov older than a year',
      'exr project:fog',
      'frm on:media',
    ]) {
      const [slow, fast] = [await search(site.db, text), await search(site.db, text, names)];
      const found = (hits: { what: string; name: string }[]) =>
        hits
          .filter((h) => h.what === 'file')
          .map((h) => h.name)
          .sort();
      if (found(slow.hits).length < 12) expect(found(fast.hits)).toEqual(found(slow.hits));
      else expect(found(fast.hits)).toHaveLength(12);
    }
    expect((await search(site.db, 'kind:cache over 19 b', names)).hits.map((h) => h.bytes)).toEqual([21, 20, 19]);
    expect((await search(site.db, 'kind:film', names)).trouble).toMatch(/no kind/);
    site.put('scratch/late/arrival.mov', 'x');
    await site.read(scratch);
    await until(async () => (await search(site.db, 'arrival', names)).hits.length === 1);
  } finally {
    await names.end();
  }
});
