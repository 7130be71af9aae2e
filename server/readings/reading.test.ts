import { mkdirSync, renameSync, rmSync, symlinkSync, utimesSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq, isNotNull, isNull } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { otio, TestSite } from '#test/site.ts';
import { files, folders, readingNotices } from '../db/schema/catalogue.ts';
import { documents, media, mediaTargets } from '../db/schema/documents.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { folderHoldings, volumeDays, volumeHoldings } from '../db/schema/sums.ts';
import { lastReading } from './notices.ts';
import { projectRows } from '../projects/projects.ts';
import { rackVolumes } from '../site/rack.ts';
import { askForDue } from '../site/work.ts';
import { readDocuments } from './read-documents.ts';
import { readVolume } from './read-volume.ts';

let site: TestSite;
let volume: VolumeId;
beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('scratch');
});
afterEach(() => site.close());

const living = () =>
  site.db
    .select({ name: files.name, size: files.sizeBytes, kind: files.kind })
    .from(files)
    .where(isNull(files.goneAt))
    .orderBy(files.name);

/** Rollups must say at any moment what the files say. */
async function expectRollupsTrue() {
  const all = await site.db.select().from(files).where(isNull(files.goneAt));
  const bytes = all.reduce((sum, file) => sum + file.sizeBytes, 0);
  const byFolder = await site.db.select().from(folderHoldings);
  const byVolume = await site.db.select().from(volumeHoldings);
  const byDay = await site.db.select().from(volumeDays);
  for (const rows of [byFolder, byVolume, byDay]) {
    expect(rows.reduce((sum, row) => sum + row.bytes, 0)).toBe(bytes);
    expect(rows.reduce((sum, row) => sum + row.files, 0)).toBe(all.length);
  }
  const tops = await site.db.select().from(folders).where(isNull(folders.parentId));
  expect(tops.reduce((sum, top) => sum + top.totalBytes, 0)).toBe(bytes);
  expect(tops.reduce((sum, top) => sum + top.totalFiles, 0)).toBe(all.length);
}

test('a reading brings in files with kinds, a second one changes nothing', async () => {
  site.put('scratch/rushes/a.mov', 'aaaa');
  site.put('scratch/cache/frames/x.frm', 'xx');
  const first = await site.read(volume);
  expect(first.results[0]).toMatchObject({ added: 2, changed: 0, gone: 0, ended: 'whole' });
  expect(await living()).toEqual([
    { name: 'a.mov', size: 4, kind: 'source' },
    { name: 'x.frm', size: 2, kind: 'cache' },
  ]);
  const before = await site.db.select().from(folders);
  expect((await site.read(volume)).results[0]).toMatchObject({ added: 0, changed: 0, gone: 0 });
  expect(await site.db.select().from(folders)).toEqual(before);
  await expectRollupsTrue();
});

test('what changed, came, went and came back is written, and the rollups stay true', async () => {
  site.put('scratch/a/one.mov', '1');
  site.put('scratch/a/two.mov', '22');
  site.put('scratch/b/three.mov', '333');
  await site.read(volume);
  site.put('scratch/a/one.mov', '1111');
  rmSync(path.join(site.root, 'scratch/a/two.mov'));
  rmSync(path.join(site.root, 'scratch/b'), { recursive: true });
  site.put('scratch/c/deep/four.wav', '4');
  expect((await site.read(volume)).results[0]).toMatchObject({ added: 1, changed: 1, gone: 2 });
  expect((await living()).map((f) => f.name)).toEqual(['four.wav', 'one.mov']);
  await expectRollupsTrue();
  site.put('scratch/b/three.mov', '333');
  site.put('scratch/a/two.mov', '22');
  await site.read(volume);
  expect((await living()).map((f) => f.name)).toEqual(['four.wav', 'one.mov', 'three.mov', 'two.mov']);
  await expectRollupsTrue();
});

test('a folder of more files than are compared at once: first and last changed, one went, came back, one is new', async () => {
  const name = (i: number) => `scratch/many/f${String(i).padStart(5, '0')}.dpx`;
  for (let i = 0; i < 10_050; i++) site.put(name(i), 'x');
  expect((await site.read(volume)).results[0]).toMatchObject({ added: 10_050 });
  site.put(name(0), 'longer');
  site.put(name(10_049), 'longer');
  rmSync(path.join(site.root, name(5)));
  expect((await site.read(volume)).results[0]).toMatchObject({ added: 0, changed: 2, gone: 1 });
  site.put(name(5), 'back');
  site.put(name(10_050), 'new');
  expect((await site.read(volume)).results[0]).toMatchObject({ added: 1, changed: 1, gone: 0 });
  expect((await living()).length).toBe(10_051);
  expect(await site.db.select().from(files).where(isNotNull(files.goneAt))).toEqual([]);
  await expectRollupsTrue();
});

test('a file of the same size whose time alone differs is seen as changed', async () => {
  const place = site.put('scratch/a/one.mov', '1');
  await site.read(volume);
  utimesSync(place, 5000, 5000);
  expect((await site.read(volume)).results[0]).toMatchObject({ changed: 1 });
});

test('an unreachable volume keeps what was known and says when it was seen', async () => {
  site.put('scratch/a/one.mov', '1');
  await site.read(volume);
  renameSync(path.join(site.root, 'scratch'), path.join(site.root, 'away'));
  await expect(site.read(volume)).rejects.toThrow(
    'scratch cannot be reached, so it was not read. What is known of it was kept.',
  );
  expect(await living()).toHaveLength(1);
  await site.look();
  const [row] = await rackVolumes(site.db);
  expect(row).toMatchObject({ state: 'unreachable', files: 1 });
  expect(row!.seenMs).toBeGreaterThan(Date.now() - 60_000);
});

test('another disk at the same path is not taken for the volume', async () => {
  site.put('scratch/a/one.mov', '1');
  await site.read(volume);
  renameSync(path.join(site.root, 'scratch'), path.join(site.root, 'away'));
  mkdirSync(path.join(site.root, 'scratch'));
  await expect(site.read(volume)).rejects.toThrow('Another disk is mounted where scratch belongs');
  expect(await living()).toHaveLength(1);
  await site.look();
  expect((await site.db.select().from(volumes))[0]!.state).toBe('swapped');
});

test('a clock that was wrong does not keep a volume from being read when it is due', async () => {
  await site.db.update(volumes).set({ readEveryHours: 1, readAt: new Date(Date.now() + 86_400_000 * 400) });
  expect(await askForDue(site.db, [volume], new Date())).toBe(1);
});

test('a cancelled reading marks nothing as gone', async () => {
  site.put('scratch/a/one.mov', '1');
  await site.read(volume);
  rmSync(path.join(site.root, 'scratch/a'), { recursive: true });
  const stop = stopFlag();
  Atomics.store(stop, 0, 1);
  const result = await readVolume(site.db, site.pools.walk, volume, { stop, now: () => new Date() });
  expect(result.ended).toBe('cancelled');
  expect(await living()).toHaveLength(1);
});

test('links and odd names are told, and nothing is fatal', async () => {
  site.put('scratch/line\nbreak.mov', '1');
  site.put(`scratch/${'東'.repeat(85)}`, '22');
  symlinkSync('/etc/passwd', path.join(site.root, 'scratch/out'));
  writeFileSync(Buffer.concat([Buffer.from(path.join(site.root, 'scratch') + '/'), Buffer.from([0xff, 0xfe])]), 'raw');
  await site.read(volume);
  const names = (await living()).map((f) => f.name);
  expect(names).toEqual(expect.arrayContaining(['line\nbreak.mov', '東'.repeat(85), '\\xFF\\xFE']));
  expect((await site.db.select().from(readingNotices)).map((n) => n.code).sort()).toEqual(['link', 'name not UTF-8']);
  expect(await lastReading(site.db, volume)).toMatchObject({
    total: 2,
    looked: 3,
    notices: [{ code: expect.any(String) }, { code: expect.any(String) }],
  });
  // Read again, the odd one is the same file, not a new one.
  expect((await site.read(volume)).results[0]).toMatchObject({ added: 0, gone: 0 });
});

test('names that differ only by a space at their end or by case are two files', async () => {
  site.put('scratch/a', '1');
  site.put('scratch/a ', '22');
  site.put('scratch/A', '333');
  await site.read(volume);
  expect(await living()).toHaveLength(3);
});

describe('documents', () => {
  const place = (name: string) => path.join(site.root, 'scratch', name);

  test('a document makes a project; its media is found by path, what is missing is counted', async () => {
    site.put('scratch/fog signals/rushes/a.mov', 'aaaa');
    site.put(
      'scratch/fog signals/fog.otio',
      otio('Fog Signals', [`file://${encodeURI(place('fog signals/rushes/a.mov'))}`, 'rushes/b.mov']),
    );
    await site.read(volume);
    expect(await projectRows(site.db)).toMatchObject([{ name: 'Fog Signals', media: 2, missing: 1, files: 2 }]);
    site.put('scratch/fog signals/rushes/b.mov', 'bb');
    await site.read(volume);
    expect(await projectRows(site.db)).toMatchObject([{ media: 2, missing: 0, files: 3 }]);
  });

  test('a name in another Unicode form or another case is found where there is just one like it', async () => {
    site.put('scratch/fog/Rushes/\u00dcbergabe.mov', 'nfc');
    site.put('scratch/fog/Rushes/A001.MOV', 'case');
    site.put('scratch/fog/Rushes/twice.mov', '1');
    site.put('scratch/fog/Rushes/TWICE.mov', '2');
    site.put('scratch/fog/fog.otio', otio('Fog', ['rushes/U\u0308bergabe.mov', 'Rushes/a001.mov', 'rushes/Twice.mov']));
    await site.read(volume);
    // Of two that differ in case alone nobody knows which is meant.
    expect(await projectRows(site.db)).toMatchObject([{ media: 3, missing: 1 }]);
    // Both forms on one disk are two files.
    site.put('scratch/fog/Rushes/U\u0308bergabe.mov', 'nfd');
    await site.read(volume);
    expect((await living()).filter((file) => file.name.normalize('NFC') === '\u00dcbergabe.mov')).toHaveLength(2);
  });

  test('a broken document belongs with the good one beside it, whichever is met first', async () => {
    site.put('scratch/fog/a broken cut.otio', '{ "OTIO_SCHEMA": "Timeline.1", "na');
    site.put('scratch/fog/cut.otio', otio('Fog', ['a.mov']));
    await site.read(volume);
    expect((await projectRows(site.db)).map((row) => row.name)).toEqual(['Fog']);
    const rows = await site.db.select({ name: documents.name, state: documents.state }).from(documents);
    expect(rows.sort((a, b) => (a.name < b.name ? -1 : 1))).toEqual([
      { name: 'a broken cut.otio', state: 'broken' },
      { name: 'cut.otio', state: 'read' },
    ]);
  });

  test('a broken document says where, and keeps what an earlier reading told', async () => {
    site.put('scratch/fog/fog.otio', otio('Fog', ['a.mov']));
    await site.read(volume);
    site.put('scratch/fog/fog.otio', '{\n  "OTIO_SCHEMA": "Timeline.1",\n  "name": oops\n}');
    const { documents: read } = await site.read(volume);
    expect(read[0]!.broken).toMatchObject([{ path: 'fog/fog.otio', where: 'line 3, column 11' }]);
    expect(await site.db.select().from(media)).toHaveLength(1);
    const [row] = await site.db.select().from(documents);
    expect(row!.state).toBe('broken');
    expect(row!.trouble).toContain('line 3, column 11');
  });

  test('what a reading that was cut short left unsettled, the next one settles, though it finds nothing new', async () => {
    site.put('scratch/fog/fog.otio', otio('Fog', ['a.mov']));
    await site.read(volume);
    site.put('scratch/fog/a.mov', 'aaaa');
    // Read, but the process ends before what follows from it is worked out.
    await readVolume(site.db, site.pools.walk, volume, { stop: stopFlag(), now: () => new Date() });
    expect((await site.db.select().from(media))[0]!.found).toBe(0);
    const { results } = await site.read(volume);
    expect(results[0]).toMatchObject({ added: 0, touched: [] });
    expect((await site.db.select().from(media))[0]!.found).toBe(1);
    expect((await projectRows(site.db))[0]).toMatchObject({ media: 1, missing: 0 });
  });

  test('a path that climbs out of the volume is never followed', async () => {
    site.put('outside.mov', 'secret');
    site.put(
      'scratch/fog/fog.otio',
      otio('Fog', ['../../outside.mov', '../../../../etc/passwd', 'file:///etc/passwd']),
    );
    await site.read(volume);
    const rows = await site.db.select({ place: media.place, found: media.found }).from(media).orderBy(media.id);
    expect(rows).toEqual([
      { place: 'outside', found: 0 },
      { place: 'outside', found: 0 },
      { place: 'unknown', found: 0 },
    ]);
  });

  test('two documents of one project are one project, and folders named after it are its own', async () => {
    site.put('scratch/Fog_Signals/a.otio', otio('Fog Signals', []).replace('"children": []', '"children": []'));
    site.put('scratch/Fog_Signals/v1.otio', otio('Fog Signals', ['x.mov']));
    site.put('scratch/cache/fog-signals/1.frm', 'xx');
    site.put('scratch/cache/other/1.frm', 'xx');
    await site.read(volume);
    expect(await site.db.select().from(projects)).toHaveLength(1);
    const owned = await site.db
      .select({ path: folders.path })
      .from(files)
      .innerJoin(folders, eq(folders.id, files.folderId))
      .where(eq(files.projectId, 1))
      .orderBy(folders.path);
    expect(new Set(owned.map((o) => o.path))).toEqual(new Set(['Fog_Signals', 'cache/fog-signals']));
    await expectRollupsTrue();
  });

  test('stills are a range: only those that are there have rows, and whatever is there is meant where nothing says how many', async () => {
    const scan = (suffix: string, available: object | null, first = 1) => ({
      OTIO_SCHEMA: 'Clip.1',
      name: suffix,
      media_reference: {
        OTIO_SCHEMA: 'ImageSequenceReference.1',
        target_url_base: 'scan/',
        name_prefix: 'F_',
        name_suffix: suffix,
        start_frame: first,
        frame_step: 1,
        frame_zero_padding: 4,
        rate: 24,
        available_range: available,
      },
    });
    const time = (value: number) => ({ OTIO_SCHEMA: 'RationalTime.1', rate: 24, value });
    const long = { OTIO_SCHEMA: 'TimeRange.1', start_time: time(0), duration: time(999_999) };
    const ten = { ...long, duration: time(10) };
    for (let i = 1; i <= 10; i++) {
      site.put(`scratch/fog/scan/f_${String(i).padStart(4, '0')}.dpx`, `d${i}`);
      if (i !== 4) site.put(`scratch/fog/scan/F_${String(i).padStart(4, '0')}.exr`, `e${i}`);
    }
    // Forty of a million, one in another case, and one that does not say how many.
    const clips = [
      ...Array.from({ length: 40 }, (_, i) => scan('.exr', long, i + 1)),
      scan('.dpx', ten),
      scan('.exr', null),
    ];
    const document = (children: object[]) =>
      JSON.stringify({ OTIO_SCHEMA: 'SerializableCollection.1', name: 'Fog', children });
    site.put('scratch/fog/fog.otio', document(clips));
    await site.read(volume);
    const rows = await site.db
      .select({ targets: media.targets, found: media.found, stills: media.stills })
      .from(media)
      .orderBy(media.id);
    expect(rows).toHaveLength(42);
    expect(rows[0]).toMatchObject({ targets: 999_999, found: 9 });
    expect(rows[4]).toMatchObject({ found: 6 });
    expect(rows[40]).toMatchObject({ targets: 10, found: 10 });
    expect(rows[41]).toMatchObject({ targets: 9, found: 9, stills: { count: null } });
    expect(await site.db.$count(mediaTargets)).toBeLessThan(300);
    // One more comes, one goes.
    site.put('scratch/fog/scan/F_0004.exr', 'e4');
    rmSync(place('fog/scan/f_0003.dpx'));
    await site.read(volume);
    const [again] = await site.db
      .select({ found: media.found, targets: media.targets })
      .from(media)
      .where(eq(media.id, 42));
    expect(again).toEqual({ found: 10, targets: 10 });
    expect((await projectRows(site.db))[0]).toMatchObject({ media: 42, missing: 41 });
  });

  test('a document whose folder became a link, or went, before it was read does not keep the others from being read', async () => {
    for (const name of ['aaa', 'bbb', 'ccc']) site.put(`scratch/${name}/${name}.otio`, otio(name, [`${name}.mov`]));
    const options = { stop: stopFlag(), now: () => new Date() };
    const reading = await readVolume(site.db, site.pools.walk, volume, options);
    mkdirSync(path.join(site.root, 'outside'));
    renameSync(place('aaa/aaa.otio'), path.join(site.root, 'outside/aaa.otio'));
    rmSync(place('aaa'), { recursive: true });
    symlinkSync(path.join(site.root, 'outside'), place('aaa'));
    rmSync(place('bbb'), { recursive: true });
    const result = await readDocuments(site.db, site.pools.documents, volume, { now: options.now, reading });
    expect(result.broken.map((one) => one.path)).toEqual(['aaa/aaa.otio', 'bbb/bbb.otio']);
    expect((await projectRows(site.db)).map((row) => row.name)).toEqual(['ccc']);
  });
});
