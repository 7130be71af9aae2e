import type { ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { receipts } from '../db/schema/receipts.ts';
import { allStrays, homesOf, projectHomes, setHome, takeSuggestedHomes } from './homes.ts';

let site: TestSite;
let media: VolumeId;
let system: VolumeId;
const FOG = 1 as ProjectId;
const by = { who: 'Mara', now: new Date() };
beforeEach(async () => {
  site = await TestSite.open();
  media = await site.volume('media');
  system = await site.volume('system');
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov']));
  site.put('media/fog/rushes/a.mov', Buffer.alloc(9000));
  site.put('media/mist/mist.otio', otio('Mist', ['b.mov']));
  site.put('media/mist/b.mov', Buffer.alloc(300));
  site.put('system/Desktop/fog/b.mov', Buffer.alloc(500));
  await site.read(media, system);
});
afterEach(() => site.close());

test('homes are suggested from where files lie; what lies elsewhere has strayed', async () => {
  expect(await allStrays(site.db)).toEqual([]);
  expect(await takeSuggestedHomes(site.db, FOG, by)).toBe(2);
  expect(await takeSuggestedHomes(site.db, FOG, by)).toBe(0);
  expect(await homesOf(site.db, FOG)).toEqual([
    { kind: 'source', volumeId: media, folder: 'fog/rushes' },
    { kind: 'document', volumeId: media, folder: 'fog' },
  ]);
  expect(await allStrays(site.db)).toEqual([
    { projectId: FOG, project: 'Fog', state: 'in work', kind: 'source', volumeId: system, files: 1, bytes: 500 },
  ]);
});

test('a home is set by a person with a receipt, and tells who else has files there', async () => {
  await setHome(site.db, FOG, { kind: 'source', volumeId: media, folder: '' }, by);
  expect((await projectHomes(site.db, FOG)).neighbours).toEqual([
    { kind: 'source', project: 'Mist', bytes: expect.any(Number) },
  ]);
  expect((await projectHomes(site.db, FOG)).strays).toMatchObject([{ volumeId: system, bytes: 500 }]);
  await setHome(site.db, FOG, { kind: 'source', volumeId: system, folder: 'Desktop' }, by);
  expect((await projectHomes(site.db, FOG)).strays).toMatchObject([{ volumeId: media, bytes: 9000 }]);
  expect((await site.db.select({ title: receipts.title }).from(receipts)).map((r) => r.title)).toEqual([
    'Fog: source belongs on media',
    'Fog: source belongs on system, in Desktop',
  ]);
  await expect(setHome(site.db, FOG, { kind: 'library', volumeId: media, folder: '' }, by)).rejects.toThrow(
    'have no home',
  );
  await expect(setHome(site.db, 99 as ProjectId, { kind: 'source', volumeId: media, folder: '' }, by)).rejects.toThrow(
    'not known',
  );
});
