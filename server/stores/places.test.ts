import { mkdirSync, renameSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { files } from '../db/schema/catalogue.ts';
import { media } from '../db/schema/documents.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { volumes } from '../db/schema/stores.ts';
import { changeVolume, retireVolume, setMount, stationPaths } from './places.ts';
import { rackVolumes } from '../site/rack.ts';
import { awaitJob } from '../runtime/await-job.ts';
import { askToRegisterVolume } from './register.ts';
import { addCarrier, addVolume } from './stores.ts';
import { askForDue } from '../site/work.ts';

let site: TestSite;
let volume: VolumeId;
const by = { who: 'Mara', now: new Date() };
const at = (name: string) => path.join(site.root, name);
beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('scratch');
});
afterEach(() => site.close());
const change = (over: object) =>
  changeVolume(
    site.db,
    {
      volumeId: volume,
      name: 'scratch',
      duty: 'none',
      quotaBytes: null,
      path: at('scratch'),
      readEveryHours: null,
      systemDrive: false,
      portable: false,
      shared: false,
      linkMbits: null,
      ...over,
    },
    by,
  );

test('a volume is changed with a receipt; nothing said twice leaves none', async () => {
  await change({ name: 'loft-1 scratch', duty: 'cache', quotaBytes: 5e9 });
  await change({ name: 'loft-1 scratch', duty: 'cache', quotaBytes: 5e9 });
  expect((await rackVolumes(site.db))[0]).toMatchObject({
    name: 'loft-1 scratch',
    duty: 'cache',
    capacityBytes: 5e9,
    quota: true,
  });
  expect(await site.db.select({ title: receipts.title, who: receipts.who }).from(receipts)).toEqual([
    { title: 'scratch: name, duty, kind of capacity, capacity changed', who: 'Mara' },
  ]);
});

test('a volume moves to another path only if it is the same one that lies there', async () => {
  mkdirSync(at('stranger'));
  await expect(change({ path: at('stranger') })).rejects.toThrow(
    'is not scratch: it has another identity, or none. Nothing was changed.',
  );
  await expect(change({ path: at('nowhere') })).rejects.toThrow('There is no folder at');
  renameSync(at('scratch'), at('moved'));
  await change({ path: at('moved') });
  expect((await site.db.select().from(volumes))[0]!.path).toBe(at('moved'));
});

test('names and places are taken once, and a volume is not registered around or over another', async () => {
  mkdirSync(at('other'));
  const add = (name: string, place: string) =>
    addVolume(
      site.db,
      { station: 's', stationRole: 'server', name, path: place, duty: 'none', quotaBytes: null },
      by.now,
    );
  await expect(add('scratch', at('other'))).rejects.toThrow('The name scratch is taken');
  await expect(add('again', at('scratch'))).rejects.toThrow('is registered already, as scratch');
  await expect(add('around', site.root)).rejects.toThrow('holds scratch, which is registered on its own');
  await expect(add('lost', at('nowhere'))).rejects.toThrow('There is no folder at');
  await expect(add('loose', 'relative')).rejects.toThrow('is not a full path');
  await expect(
    addCarrier(
      site.db,
      { name: 'kd', kind: 'disk', place: 'x', settings: { folder: at('scratch') }, capacityBytes: null },
      by.now,
    ),
  ).rejects.toThrow('registered already');
  expect(await site.db.select().from(volumes)).toHaveLength(1);
});

test('a registered volume is read at once; out of use it leaves the rack and keeps what was known', async () => {
  mkdirSync(at('new'));
  const given = {
    station: 's',
    stationRole: 'server' as const,
    name: 'new',
    path: at('new'),
    duty: 'none' as const,
    quotaBytes: null,
    readEveryHours: null,
    systemDrive: false,
    portable: false,
    shared: false,
    linkMbits: null,
  };
  const worker = site.worker();
  await awaitJob(site.db, await askToRegisterVolume(site.db, given, by));
  await expect(
    awaitJob(site.db, await askToRegisterVolume(site.db, { ...given, name: 'x', path: at('nowhere') }, by)),
  ).rejects.toThrow('There is no folder at');
  await worker.stop();
  const [row] = await site.db.select().from(volumes).where(eq(volumes.name, 'new'));
  const added = row!.id as VolumeId;
  await site.db.update(jobs).set({ state: 'queued', finishedAt: null }).where(eq(jobs.title, 'Read new'));
  await expect(retireVolume(site.db, added, by)).rejects.toThrow('"Read new" is not done yet and needs new');
  site.put('scratch/a.mov');
  await site.read(volume);
  await retireVolume(site.db, volume, by);
  expect((await rackVolumes(site.db)).map((v) => v.name)).toEqual(['new']);
  expect(await site.db.select().from(files).where(eq(files.volumeId, volume))).toHaveLength(1);
  await expect(retireVolume(site.db, volume, by)).rejects.toThrow('no such volume in use');
});

test('every station names a file in its own syntax, and a path written there finds it', async () => {
  await setMount(site.db, { volumeId: volume, station: 'grade', path: 'R:\\' }, by);
  await setMount(site.db, { volumeId: volume, station: 'dub', path: '/Volumes/Scratch' }, by);
  expect((await stationPaths(site.db, volume, 'fog/a.mov')).map((p) => [p.station, p.path])).toEqual([
    ['loft-1', `${at('scratch')}/fog/a.mov`],
    ['dub', '/Volumes/Scratch/fog/a.mov'],
    ['grade', 'R:\\fog\\a.mov'],
  ]);
  site.put('scratch/fog/a.mov');
  site.put('scratch/fog/b.mov');
  site.put(
    'scratch/fog/fog.otio',
    otio('Fog', ['file:///R:/fog/a.mov', '/Volumes/Scratch/fog/b.mov', 'S:\\fog\\a.mov']),
  );
  await site.read(volume);
  expect(await site.db.select({ place: media.place, found: media.found }).from(media).orderBy(media.id)).toEqual([
    { place: 'inside', found: 1 },
    { place: 'inside', found: 1 },
    { place: 'unknown', found: 0 },
  ]);
  await setMount(site.db, { volumeId: volume, station: 'dub', path: '' }, by);
  expect(await stationPaths(site.db, volume, '')).toHaveLength(2);
});

test('a mount that is no path, or another volume already, is refused', async () => {
  const other = await site.volume('other');
  await setMount(site.db, { volumeId: volume, station: 'grade', path: 'R:\\' }, by);
  await expect(setMount(site.db, { volumeId: other, station: 'grade', path: 'R:\\' }, by)).rejects.toThrow(
    'On grade R:\\ is scratch already',
  );
  await expect(setMount(site.db, { volumeId: other, station: 'grade', path: 'somewhere' }, by)).rejects.toThrow(
    'is no full path',
  );
});

test('a volume with a schedule is asked for when it is due, once, and only where it is reached', async () => {
  await change({ readEveryHours: 6 });
  const now = new Date();
  expect(await askForDue(site.db, [], now)).toBe(0);
  expect(await askForDue(site.db, [volume], now)).toBe(1);
  expect(await askForDue(site.db, [volume], now)).toBe(0);
  expect(await site.db.select({ who: jobs.who }).from(jobs)).toEqual([{ who: 'the schedule' }]);
  await site.db.update(jobs).set({ state: 'done', finishedAt: now });
  await site.read(volume);
  expect(await askForDue(site.db, [volume], now)).toBe(0);
  expect(await askForDue(site.db, [volume], new Date(now.getTime() + 7 * 3_600_000))).toBe(1);
});
