// The second level of the map, and what is taken along from the lists: both agree with what lies on the disk.
import { utimesSync } from 'node:fs';
import type { FolderId, VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { chosenRows } from './chosen.ts';
import { innerAreas } from './inner.ts';
import { areas, folderAt, type Scope } from './space.ts';

let site: TestSite;
let media: VolumeId;
const now = Date.now();
const today = Math.floor(now / 86_400_000);
const aged = (place: string, days: number) => utimesSync(place, now / 1000 - days * 86_400, now / 1000 - days * 86_400);
beforeAll(async () => {
  site = await TestSite.open();
  media = await site.volume('media', 'source');
  const scratch = await site.volume('scratch');
  aged(site.put('media/fog/rushes/a.mov', Buffer.alloc(4000)), 500);
  aged(site.put('media/fog/rushes/b.wav', Buffer.alloc(3000)), 500);
  aged(site.put('media/fog/sound/c.wav', Buffer.alloc(900)), 1);
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov']));
  site.put('media/other/top.txt', Buffer.alloc(50));
  site.put('scratch/cache/deep/er/x.frm', Buffer.alloc(70));
  await site.read(media, scratch);
});
afterAll(() => site.close());

async function at(path: string): Promise<Scope> {
  let scope: Scope = { volumeIds: [media] };
  for (const name of ['media', ...path.split('/').filter(Boolean)]) {
    const rows = await areas(site.db, { scope, by: 'folder', only: {}, today });
    scope = { folder: (await folderAt(site.db, Number(rows.find((row) => row.name === name)!.key) as FolderId))! };
  }
  return scope;
}
/** By names instead of numbers. */
async function told(scope: Scope, colour: 'kind' | 'project' | 'age') {
  const rows = await areas(site.db, { scope, by: 'folder', only: {}, today });
  const { inside, most, projects } = await innerAreas(site.db, { scope, colour, today });
  return Object.fromEntries(
    rows.map((row) => [
      row.name,
      {
        most: projects[most[row.key]!] ?? most[row.key],
        inside: (inside[row.key] ?? []).map((one) => [one.name, one.bytes, projects[one.most!] ?? one.most]),
      },
    ]),
  );
}

test('inside volumes are their folders, inside a folder what lies two below, each by what has most of it', async () => {
  const all = await told({ volumeIds: [] }, 'kind');
  expect(all.media!.inside.map(([name]) => name)).toEqual(['fog', 'other']);
  expect(all.media!.most).toBe('source');
  expect(all.scratch).toEqual({ most: 'cache', inside: [['cache', 70, 'cache']] });
  const inMedia = await told(await at(''), 'kind');
  expect(inMedia.fog).toEqual({
    most: 'source',
    inside: [
      ['rushes', 7000, 'source'],
      ['sound', 900, 'audio'],
    ],
  });
  const inFog = await told(await at('fog'), 'kind');
  expect(inFog).toMatchObject({ rushes: { most: 'source', inside: [] }, sound: { most: 'audio' } });
});

test('by project and by age', async () => {
  const byProject = await told({ volumeIds: [media] }, 'project');
  expect(byProject.media).toMatchObject({
    most: 'Fog',
    inside: [
      ['fog', expect.any(Number), 'Fog'],
      ['other', 50, '0'],
    ],
  });
  const byAge = await told(await at(''), 'age');
  expect(byAge.fog).toMatchObject({
    most: '4',
    inside: [
      ['rushes', 7000, '4'],
      ['sound', 900, '0'],
    ],
  });
});

test('what is chosen is told with its whole path, and what is gone is left out', async () => {
  const rows = await areas(site.db, { scope: await at('fog'), by: 'folder', only: {}, today });
  const rushes = rows.find((row) => row.name === 'rushes')!;
  const chosen = await chosenRows(site.db, {
    folderIds: [Number(rushes.key), 99_999] as FolderId[],
    fileIds: [1, 99_999],
  });
  expect(chosen[0]).toEqual({ volume: 'media', path: 'fog/rushes', kind: null, project: 'Fog', files: 2, bytes: 7000 });
  expect(chosen).toHaveLength(2);
  expect(chosen[1]!.files).toBe(1);
  expect(await chosenRows(site.db, { folderIds: [], fileIds: [] })).toEqual([]);
});
