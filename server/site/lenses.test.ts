// What the lenses show, from a real site: previews must equal what is staged, sums what lies on disk.
import { utimesSync } from 'node:fs';
import type { FolderId, ProjectId, VolumeId } from '#core/model.ts';
import { cutDay } from '#core/reclaim/cuts.ts';
import { otio, TestSite } from '#test/site.ts';
import { projectSelection } from '../archives/selection.ts';
import { brokenDocuments } from '../projects/broken-documents.ts';
import { type ClipFilter, projectBins, projectClips, projectTimelines, WHOLE_PROJECT } from '../reach/clips.ts';
import { ledgerSums, pageOfReceipts, receiptOf } from '../ledger/ledger.ts';
import { addCacheRemoval } from '../steps/remove-caches.ts';
import {} from '../plan/plan.ts';
import { projectDocuments, projectHoldings, projectMedia, setState } from '../projects/projects.ts';
import { measuredRates } from '../archives/rates.ts';
import { cacheFolders } from '../reclaim/reclaim.ts';
import { search } from '../search/search.ts';
import { nameSite, siteName } from './site.ts';
import { areas, folderAt, strata, unitsIn } from '../space/space.ts';
import { volumeFree } from '../stores/volume-free.ts';
import { askToRead, jobRows } from './work.ts';

let site: TestSite;
let media: VolumeId;
let scratch: VolumeId;
const FOG = 1 as ProjectId;
const DAY = 86_400;
const now = new Date();
const aged = (place: string, days: number) =>
  utimesSync(place, now.getTime() / 1000 - days * DAY, now.getTime() / 1000 - days * DAY);
beforeEach(async () => {
  site = await TestSite.open();
  media = await site.volume('media', 'source', 1e6);
  scratch = await site.volume('scratch', 'cache');
  aged(site.put('media/fog/rushes/a.mov', Buffer.alloc(4000)), 40);
  aged(site.put('media/fog/rushes/b.mov', Buffer.alloc(3000)), 400);
  site.put(
    'media/fog/fog.otio',
    otio(
      'Fog',
      ['rushes/a.mov', 'rushes/b.mov', 'rushes/lost_one.mov'],
      ['rushes/a.mov', 'rushes/a.mov', 'rushes/lost_one.mov'],
    ),
  );
  for (let i = 0; i < 30; i++) aged(site.put(`scratch/cache/${i % 3}/${i}.frm`, Buffer.alloc(10 + i)), i * 3);
  await site.read(media, scratch);
});
afterEach(() => site.close());

test.each([0, 7, 30, 60])('caches untouched for %i days: what is shown is what is staged, to the byte', async (age) => {
  const cut = cutDay(now.getTime(), age);
  const shown = await cacheFolders(site.db, [], cut);
  const chosen = shown.filter((folder) => folder.files > 0);
  const staged = await addCacheRemoval(site.db, {
    folderIds: chosen.map((f) => f.folderId as FolderId),
    cutDay: cut,
    now,
  });
  expect(staged).toMatchObject({
    files: chosen.reduce((n, f) => n + f.files, 0),
    bytes: chosen.reduce((n, f) => n + f.bytes, 0),
  });
  expect(shown.reduce((n, f) => n + f.allFiles, 0)).toBe(30);
  expect(await cacheFolders(site.db, [media], cut)).toEqual([]);
});

test('space: volumes, folders, files, the way there, and ages', async () => {
  const today = Math.floor(now.getTime() / 86_400_000);
  const below = async (key?: string) => {
    const folder = key === undefined ? null : await folderAt(site.db, Number(key) as FolderId);
    return areas(site.db, { scope: folder ? { folder } : { volumeIds: [] }, by: 'folder', only: {}, today });
  };
  const tops = await below();
  expect(tops.map((t) => [t.name, t.files])).toEqual([
    ['media', 3],
    ['scratch', 30],
  ]);
  const [fog] = await below(tops[0]!.key);
  expect(fog).toMatchObject({ name: 'fog', files: 3 });
  const [first] = await below(fog!.key);
  const rushes = { folderId: Number(first!.key) as FolderId };
  expect(
    (await unitsIn(site.db, rushes.folderId, { only: {}, today, open: null })).map((f) => [f.name, f.bytes, f.kind]),
  ).toEqual([
    ['a.mov', 4000, 'source'],
    ['b.mov', 3000, 'source'],
  ]);
  expect(await folderAt(site.db, rushes.folderId)).toMatchObject({
    volume: 'media',
    path: 'fog/rushes',
    files: 2,
    bytes: 7000,
    trail: [{ name: 'media' }, { name: 'fog' }, { name: 'rushes' }],
  });
  expect(await folderAt(site.db, 999_999 as FolderId)).toBeNull();
  const layers = await strata(site.db, [media], Math.floor(now.getTime() / 86_400_000));
  expect(layers.map((l) => l.name)).toEqual(['this week', 'this month', '31 to 90 days', '91 to 365 days', 'before']);
  expect([layers[2]!.bytes, layers[4]!.bytes]).toEqual([4000, 3000]);
});

test('a project: bins, clips with their used parts, timelines, documents, found and missing', async () => {
  const { bins, loose, documentIds } = await projectBins(site.db, FOG);
  expect(bins).toMatchObject([{ name: 'Rushes', clips: 3, missing: 1 }]);
  expect(loose).toBe(0);
  const ask = (bin: ClipFilter['bin'], more: Partial<ClipFilter> = {}) =>
    projectClips(site.db, {
      projectId: FOG,
      documentIds,
      bin,
      show: 'all',
      scope: WHOLE_PROJECT,
      text: '',
      kind: null,
      ...more,
    });
  const names = async (more: Partial<ClipFilter>) => (await ask('all', more)).map((c) => c.name);
  const clips = await ask(bins[0]!.binId);
  expect(clips.map((c) => [c.name, c.state, c.bytes, c.used, c.timelines.map((t) => t.name)])).toEqual([
    ['a.mov', 'found', 4000, [{ from: 0.1, to: 0.3 }], ['Cut']],
    ['b.mov', 'found', 3000, [], []],
    ['lost_one.mov', 'missing', 0, [{ from: 0.1, to: 0.3 }], ['Cut']],
  ]);
  expect(await names({ show: 'unused' })).toEqual(['b.mov']);
  expect(await names({ show: 'used' })).toEqual(['a.mov', 'lost_one.mov']);
  expect(await names({ show: 'missing' })).toEqual(['lost_one.mov']);
  expect(await names({ text: 'LOST mov' })).toEqual(['lost_one.mov']);
  expect(await names({ text: '%' })).toEqual([]);
  expect(await names({ kind: 'audio' })).toEqual([]);
  const cut = clips[0]!.timelines[0]!.timelineId;
  const scope = { ...WHOLE_PROJECT, timelineIds: [cut] };
  expect(await names({ scope, show: 'used' })).toEqual(['a.mov', 'lost_one.mov']);
  expect(await names({ scope, show: 'unused' })).toEqual(['b.mov']);
  expect((await ask('all', { scope }))[0]).toMatchObject({
    used: [{ from: 0.1, to: 0.3 }],
    timelines: [{ name: 'Cut' }],
  });
  expect(await names({ scope: { ...scope, only: 'sound' }, show: 'used' })).toEqual([]);
  expect(await ask(null)).toEqual([]);
  expect(await projectTimelines(site.db, documentIds)).toMatchObject([
    { name: 'Cut', length: '00:00:02:10', uses: 3, bytes: 4000 },
  ]);
  expect(await projectMedia(site.db, FOG)).toEqual({ total: 3, missing: 1, unusedBytes: 3000 });
  expect(await projectDocuments(site.db, FOG)).toMatchObject([{ name: 'fog.otio', state: 'read', folder: 'fog' }]);
  expect((await projectHoldings(site.db, FOG)).find((h) => h.kind === 'source')).toMatchObject({
    files: 2,
    bytes: 7000,
  });
  expect(await projectSelection(site.db, FOG)).toMatchObject({ missing: 1, mediaTotal: 2, outside: 0 });
  expect(await brokenDocuments(site.db)).toEqual([]);
});

test('search finds by parts of names in any case, and nothing for one letter or a wild card', async () => {
  expect((await search(site.db, 'FOG')).hits.map((h) => h.what)).toEqual(
    expect.arrayContaining(['project', 'folder', 'file']),
  );
  expect((await search(site.db, 'lost_o')).hits).toMatchObject([{ what: 'clip', name: 'lost_one.mov', parentId: FOG }]);
  expect((await search(site.db, 'rush')).hits[0]).toMatchObject({
    what: 'folder',
    name: 'rushes',
    where: 'media / fog/rushes',
    bytes: 7000,
  });
  for (const nothing of ['', 'a', '%%', '__', "x' OR 1=1 --"])
    expect((await search(site.db, nothing)).hits).toEqual([]);
});

test('a state is changed with a receipt, once', async () => {
  const change = { projectId: FOG, state: 'delivered' as const, since: now, who: 'Mara', now };
  await setState(site.db, change);
  await setState(site.db, change);
  expect(await pageOfReceipts(site.db, null)).toMatchObject([{ title: 'Fog: in work to delivered', who: 'Mara' }]);
  expect(await receiptOf(site.db, 1)).toMatchObject({ action: 'state changed' });
  expect(await receiptOf(site.db, 2)).toBeNull();
  expect(await pageOfReceipts(site.db, 1)).toEqual([]);
  expect(await ledgerSums(site.db)).toEqual({ receipts: 1, removedBytes: 0, archivedBytes: 0 });
  await expect(setState(site.db, { ...change, projectId: 99 as ProjectId })).rejects.toThrow(
    'There is no such project',
  );
});

test('what is free, what is asked for, what the site is called', async () => {
  expect(await volumeFree(site.db, media)).toBe(
    1e6 - (await projectHoldings(site.db, FOG)).reduce((n, h) => n + h.bytes, 0),
  );
  expect(await volumeFree(site.db, 99 as VolumeId)).toBe(0);
  expect(await askToRead(site.db, [media], { who: 'Mara', now })).toBe(1);
  expect(await askToRead(site.db, [], { who: 'Mara', now })).toBe(1);
  expect((await jobRows(site.db)).map((j) => [j.title, j.state])).toEqual([
    ['Read media', 'queued'],
    ['Read scratch', 'queued'],
  ]);
  await expect(askToRead(site.db, [99 as VolumeId], { who: 'Mara', now })).rejects.toThrow('No volume is chosen');
  expect(await measuredRates(site.db)).toMatchObject({ measured: false });
  expect(await siteName(site.db)).toBe('');
  await nameSite(site.db, 'Saltpan House');
  expect(await siteName(site.db)).toBe('Saltpan House');
});
