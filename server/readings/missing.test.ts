// Missing media, candidates, relinking: with real files that have real structure, through the worker.
import { readFileSync, readdirSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import { strToU8, zipSync } from 'fflate';
import { movHead } from '#demo/mov.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { followersOf } from '#core/missing/followers.ts';
import { TestSite, until } from '#test/site.ts';
import { essence, files } from '../db/schema/catalogue.ts';
import { documents, media, mediaTargets } from '../db/schema/documents.ts';
import { jobs } from '../db/schema/jobs.ts';
import { projects } from '../db/schema/projects.ts';
import { candidatesFor, missingMedia, oldFolder } from './missing.ts';
import { stepItems } from '../db/schema/plans.ts';
import { currentPlan, runPlan } from '../plan/plan.ts';
import { addRelinking } from '../steps/relink.ts';

let site: TestSite;
let volume: VolumeId;
beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
});
afterEach(() => site.close());

const mov = (frames: number, startFrame: number, reel: string, width = 64): Buffer => {
  const [fps, height] = [25, (width * 9) / 16];
  const { head, fileBytes } = movHead({ frames, frameBytes: 40, fps, width, height, startFrame, reel });
  return Buffer.concat([head, Buffer.alloc(fileBytes - head.length)]);
};
const time = (value: number) => ({ OTIO_SCHEMA: 'RationalTime.1', rate: 25, value });
const range = (start: number, duration: number) => ({
  OTIO_SCHEMA: 'TimeRange.1',
  start_time: time(start),
  duration: time(duration),
});
const clip = (name: string, reference: object, start: number) => ({
  OTIO_SCHEMA: 'Clip.2',
  name,
  metadata: { cmx_3600: { reel: name.slice(0, 4) } },
  source_range: range(start + 10, 20),
  media_references: { DEFAULT_MEDIA: { available_range: range(start, 100), ...reference } },
  active_media_reference_key: 'DEFAULT_MEDIA',
});
const external = (url: string) => ({ OTIO_SCHEMA: 'ExternalReference.1', target_url: url });
const cut = (...clips: object[]) =>
  JSON.stringify(
    {
      OTIO_SCHEMA: 'Timeline.1',
      name: 'Fog',
      tracks: { OTIO_SCHEMA: 'Stack.1', children: [{ OTIO_SCHEMA: 'Track.1', kind: 'Video', children: clips }] },
    },
    null,
    1,
  );

const fog = 1 as ProjectId;
const candidates = async () => {
  const missing = await missingMedia(site.db, { projectId: fog });
  const found = await candidatesFor(site.db, missing);
  return { missing, found, of: (name: string) => found.get(missing.find((m) => m.wanted.name === name)!.mediaId)! };
};
async function run(choices: { mediaId: number; fileId: number }[]) {
  await addRelinking(site.db, { projectId: fog, choices, now: new Date() });
  const plan = await currentPlan(site.db);
  await runPlan(site.db, { planId: plan.planId!, version: plan.version, who: 'Mara', now: new Date() });
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
  return (await site.db.select().from(jobs)).at(-1)!;
}

const heldNow = async () =>
  (await site.db.select().from(stepItems).where(eq(stepItems.state, 'held')).orderBy(stepItems.id)).map((item) => [
    item.path,
    item.reason,
    item.detail,
  ]);

async function fogWithMoved() {
  site.put('media/day 1/A001C001.mov', mov(100, 90_000, 'A001'));
  site.put('media/day 1/A001C002.mov', mov(100, 180_000, 'A001'));
  site.put('media/copy/A001C002.mov', mov(100, 180_000, 'A001'));
  site.put('media/day 1/B002C001.mov', mov(100, 45_000, 'B002'));
  site.put(
    'media/fog/fog.otio',
    cut(
      clip('A001C001.mov', external('file:///old/rushes/A001C001.mov'), 90_000),
      clip('A001C002.mov', external('file:///old/rushes/A001C002.mov'), 180_000),
      clip('B002C001.mov', { OTIO_SCHEMA: 'MissingReference.1' }, 45_000),
      clip('C003C001.mov', external('file:///old/rushes/C003C001.mov'), 0),
    ),
  );
  await site.read(volume);
}

test('candidates come with evidence; what is alike twice is left to a person; nothing is chosen silently', async () => {
  await fogWithMoved();
  const { missing, of } = await candidates();
  expect(missing.map((item) => item.wanted.name)).toEqual([
    'A001C001.mov',
    'A001C002.mov',
    'B002C001.mov',
    'C003C001.mov',
  ]);
  expect(of('A001C001.mov')).toMatchObject([{ verdict: 'certain', where: 'media/day 1', known: true }]);
  expect(of('A001C001.mov')[0]!.evidence.map((each) => each.code)).toEqual(
    expect.arrayContaining(['name', 'rate', 'duration', 'start', 'reel', 'covers', 'neighbours']),
  );
  expect(of('A001C002.mov').map((each) => each.verdict)).toEqual(['likely', 'likely']);
  expect(of('B002C001.mov')).toMatchObject([{ verdict: 'certain' }]);
  expect(of('C003C001.mov')).toEqual([]);
  expect(await site.db.select().from(mediaTargets).where(eq(mediaTargets.fileId, 1))).toEqual([]);
});

test('a file whose picture is not of the size that the document says is never certain', async () => {
  const bounds = (x: number, y: number) => ({
    available_image_bounds: { OTIO_SCHEMA: 'Box2d.1', min: { x: 0, y: 0 }, max: { x, y } },
  });
  site.put('media/day 1/A001C001.mov', mov(100, 90_000, 'A001'));
  site.put('media/day 1/A001C002.mov', mov(100, 180_000, 'A001'));
  site.put(
    'media/fog/fog.otio',
    cut(
      // The files are of 64 by 36.
      clip('A001C001.mov', { ...external('file:///old/A001C001.mov'), ...bounds(128, 72) }, 90_000),
      clip('A001C002.mov', { ...external('file:///old/A001C002.mov'), ...bounds(64, 36) }, 180_000),
    ),
  );
  await site.read(volume);
  const { of } = await candidates();
  expect(of('A001C001.mov')).toMatchObject([{ verdict: 'possible' }]);
  expect(of('A001C001.mov')[0]!.evidence).toContainEqual({
    code: 'picture',
    fits: false,
    says: '64 × 36, not 128 × 72',
  });
  // A height of 36 is too small to be told from a unit of its own, so it says nothing.
  expect(of('A001C002.mov')).toMatchObject([{ verdict: 'certain' }]);
});

test('where a document says no size, what is smaller than all its other media is never certain', async () => {
  site.put('media/fog/rushes/C001C001.mov', mov(100, 1_000, 'C001', 1920));
  site.put('media/small/A001C001.mov', mov(100, 90_000, 'A001', 960));
  site.put('media/large/B001C001.mov', mov(100, 180_000, 'B001', 1920));
  site.put(
    'media/fog/fog.otio',
    cut(
      clip('C001C001.mov', external('rushes/C001C001.mov'), 1_000),
      clip('A001C001.mov', external('file:///old/A001C001.mov'), 90_000),
      clip('B001C001.mov', external('file:///old/B001C001.mov'), 180_000),
    ),
  );
  await site.read(volume);
  const { of } = await candidates();
  expect(of('A001C001.mov')).toMatchObject([{ verdict: 'possible' }]);
  expect(of('A001C001.mov')[0]!.evidence.find((one) => one.code === 'picture')!.says).toMatch(/may be a proxy/);
  expect(of('B001C001.mov')).toMatchObject([{ verdict: 'certain' }]);
});

test('accepted answers become a new version; neighbours follow; the old document stays byte for byte', async () => {
  await fogWithMoved();
  const place = path.join(site.root, 'media/fog/fog.otio');
  const before = readFileSync(place, 'utf8');
  const { missing, found, of } = await candidates();
  const all = missing.map((item) => ({
    mediaId: item.mediaId,
    documentId: item.documentId,
    oldFolder: item.target === null ? '' : oldFolder(item.target),
    candidates: found.get(item.mediaId)!,
  }));
  const first = { mediaId: missing[0]!.mediaId, fileId: of('A001C001.mov')[0]!.fileId };
  const following = followersOf(all, first);
  expect([...following.keys()]).toEqual([missing[1]!.mediaId]);
  const absent = { mediaId: missing[2]!.mediaId, fileId: of('B002C001.mov')[0]!.fileId };
  const job = await run([first, absent, ...[...following].map(([mediaId, fileId]) => ({ mediaId, fileId }))]);
  expect(job).toMatchObject({ state: 'done', title: 'Relink 3 clips of Fog' });
  expect(readFileSync(place, 'utf8')).toBe(before);
  const fresh = readFileSync(path.join(site.root, 'media/fog/fog v2.otio'), 'utf8');
  expect(fresh).toContain(`${path.join(site.root, 'media/day%201/A001C002.mov')}`);
  expect(fresh).toContain('"ExternalReference.1", "target_url": "file://');
  expect((await missingMedia(site.db, { projectId: fog })).map((item) => item.wanted.name)).toEqual(['C003C001.mov']);
  const rows = await site.db.select({ name: documents.name, by: documents.supersededBy }).from(documents);
  expect(rows.find((row) => row.name === 'fog.otio')!.by).not.toBeNull();
});

test('a choice that no longer fits writes nothing and says so', async () => {
  await fogWithMoved();
  const { missing, of } = await candidates();
  const choice = { mediaId: missing[0]!.mediaId, fileId: of('A001C001.mov')[0]!.fileId };
  const there = () => readdirSync(path.join(site.root, 'media/fog'));
  await expect(
    addRelinking(site.db, { projectId: 99 as ProjectId, choices: [choice], now: new Date() }),
  ).rejects.toThrow(/no longer fits/);
  writeFileSync(path.join(site.root, 'media/day 1/A001C001.mov'), 'another');
  await run([choice]);
  expect(await heldNow()).toEqual([['fog/fog.otio', 'changed', 'a chosen file is not what it was any more']]);
  expect(there()).toEqual(['fog.otio']);
  site.put('media/day 1/A001C001.mov', mov(100, 90_000, 'A001'));
  await site.read(volume);
  writeFileSync(path.join(site.root, 'media/fog/fog.otio'), '{}');
  const again = (await candidates()).of('A001C001.mov')[0]!;
  await run([{ mediaId: choice.mediaId, fileId: again.fileId }]);
  expect((await heldNow()).at(-1)).toEqual(['fog/fog.otio', 'changed', null]);
  expect(there()).toEqual(['fog.otio']);
});

test('run once more after its worker was killed, the version that is there counts, and another choice is refused', async () => {
  await fogWithMoved();
  const { missing, of } = await candidates();
  const choice = { mediaId: missing[0]!.mediaId, fileId: of('A001C001.mov')[0]!.fileId };
  const there = () => readdirSync(path.join(site.root, 'media/fog')).sort();
  expect(await run([choice])).toMatchObject({ state: 'done' });
  const before = readFileSync(path.join(site.root, 'media/fog/fog v2.otio'), 'utf8');
  // Killed after it wrote and read the version, before it could say so.
  await site.db.update(jobs).set({ state: 'queued', finishedAt: null, lease: null, leaseUntil: null });
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
  expect((await site.db.select().from(jobs))[0]).toMatchObject({ state: 'done', attempts: 2 });
  expect(there()).toEqual(['fog v2.otio', 'fog.otio']);
  expect(readFileSync(path.join(site.root, 'media/fog/fog v2.otio'), 'utf8')).toBe(before);
  // The old version's media are no longer what counts.
  await run([{ ...choice, fileId: of('A001C001.mov')[0]!.fileId }]);
  expect((await heldNow()).at(-1)).toEqual(['fog/fog.otio', 'changed', 'a newer version counts by now']);
  expect(there()).toEqual(['fog v2.otio', 'fog.otio']);
});

test('what a clip has already is not offered to replace it', async () => {
  site.put('media/day 1/A001C001.mov', mov(100, 90_000, 'A001'));
  site.put('media/copy/A001C001.mov', mov(100, 90_000, 'A001'));
  site.put('media/fog/fog.otio', cut(clip('A001C001.mov', external('../day 1/A001C001.mov'), 90_000)));
  await site.read(volume);
  const [item] = await missingMedia(site.db, { mediaIds: [1] });
  expect(item).toMatchObject({ found: 1, targets: 1 });
  const offered = (await candidatesFor(site.db, [item!])).get(1)!;
  expect(offered.map((one) => one.where)).toEqual(['media/copy']);
});

test('a file that went is known again by its bytes, also by a version of the document written since', async () => {
  const sound = (text: string) => Buffer.from(text.padEnd(300_000, text));
  site.put('media/fog/mix.bin', sound('one'));
  site.put('media/fog/fog.otio', cut(clip('mix.bin', external('mix.bin'), 0)));
  await site.read(volume);
  rmSync(path.join(site.root, 'media/fog/mix.bin'));
  site.put('media/moved/mix.bin', sound('one'));
  site.put('media/other/mix.bin', sound('two'));
  site.put('media/short/mix.bin', sound('one').subarray(1));
  site.put('media/fog/fog v2.otio', cut(clip('mix.bin', external('mix.bin'), 0)));
  await site.read(volume);
  const { missing, of } = await candidates();
  expect(missing).toMatchObject([{ document: 'fog v2.otio', wanted: { was: { sizeBytes: 300_000 } } }]);
  const told = of('mix.bin').map(({ where, verdict, evidence }) => [
    where,
    verdict,
    ...evidence.filter((one) => one.code === 'size' || one.code === 'fingerprint').map((one) => [one.code, one.fits]),
  ]);
  expect(told).toEqual([
    ['media/moved', 'certain', ['size', true], ['fingerprint', true]],
    ['media/short', 'unlikely', ['size', false]],
    ['media/other', 'unlikely', ['size', true], ['fingerprint', false]],
  ]);
});

test('stills of a sequence are found by the folder they moved to, and relinked as one', async () => {
  const still = (frame: number) => `rain plate.${frame}.exr`;
  const sequence = {
    OTIO_SCHEMA: 'ImageSequenceReference.1',
    target_url_base: '../plates/',
    name_prefix: 'rain%20plate.',
    name_suffix: '.exr',
    start_frame: 1001,
    frame_step: 1,
    rate: 25,
    frame_zero_padding: 4,
  };
  site.put('media/fog/fog.otio', cut(clip('rain', sequence, 0)));
  for (let frame = 1001; frame < 1101; frame++) {
    site.put(`media/plates/${still(frame)}`, `take ${frame}`);
    site.put(`media/another shot/${still(frame)}`, `shot ${frame}`);
    if (frame !== 1001 && frame !== 1050) site.put(`media/holes/${still(frame)}`, `take ${frame}`);
  }
  await site.read(volume);
  expect(await missingMedia(site.db)).toEqual([]);
  renameSync(path.join(site.root, 'media/plates'), path.join(site.root, 'media/new plates'));
  await site.read(volume);
  const { missing, of } = await candidates();
  expect(missing).toMatchObject([{ targets: 100, found: 0, wanted: { name: still(1001) } }]);
  const told = of(still(1001));
  expect(told.map((one) => [one.where, one.verdict, one.evidence.at(-1)!.says, one.bytes])).toEqual([
    ['media/new plates', 'certain', 'its first still: its fingerprint', 900],
    ['media/another shot', 'possible', 'its first still: not its fingerprint: the bytes differ', 900],
    ['media/holes', 'possible', '98 of 100 stills lie there', 98 * 9],
  ]);
  expect(await run([{ mediaId: missing[0]!.mediaId, fileId: told[0]!.fileId }])).toMatchObject({ state: 'done' });
  const fresh = readFileSync(path.join(site.root, 'media/fog/fog v2.otio'), 'utf8');
  expect(fresh).toContain('"target_url_base": "../new plates/"');
  expect(fresh).toContain('"name_prefix": "rain%20plate."');
  expect(await missingMedia(site.db, { projectId: fog })).toEqual([]);
  // Three of them go: the folder they lie in is not offered as another, the one with holes is.
  for (const frame of [1001, 1002, 1003]) rmSync(path.join(site.root, 'media/new plates', still(frame)));
  await site.read(volume);
  const after = await candidates();
  expect(after.missing).toMatchObject([{ targets: 100, found: 97, document: 'fog v2.otio' }]);
  expect(after.of(still(1001)).map((one) => [one.where, one.verdict])).toEqual([
    ['media/another shot', 'possible'],
    ['media/holes', 'possible'],
  ]);
});

test('an edit list finds its media by reel and timecode where that is certain, and loses them with the file', async () => {
  site.put('media/rushes/A001C001.mov', mov(100, 90_000, 'A001C001'));
  site.put('media/rushes/A001C002.mov', mov(100, 180_000, 'A001C002'));
  site.put('media/twice/A001C002.mov', mov(100, 180_000, 'A001C002'));
  site.put(
    'media/brine/brine cut.edl',
    [
      'TITLE: BRINE',
      '* FRAME RATE: 25',
      '001  A001C001 V C 01:00:01:00 01:00:02:00 00:00:00:00 00:00:01:00',
      '* FROM CLIP NAME: A001C001.mov',
      '002  A001C002 V C 02:00:01:00 02:00:02:00 00:00:01:00 00:00:02:00',
      '* FROM CLIP NAME: A001C002.mov',
      '',
    ].join('\n'),
  );
  await site.read(volume);
  const state = () =>
    site.db.select({ name: media.name, found: media.found, ranges: media.ranges }).from(media).orderBy(media.id);
  expect(await state()).toEqual([
    { name: 'A001C001.mov', found: 1, ranges: [[90_025, 25]] },
    { name: 'A001C002.mov', found: 0, ranges: [[180_025, 25]] },
  ]);
  const [target] = await site.db.select().from(mediaTargets).orderBy(mediaTargets.mediaId);
  expect(target!.foundBy).toBe('evidence');
  rmSync(path.join(site.root, 'media/twice/A001C002.mov'));
  rmSync(path.join(site.root, 'media/rushes/A001C001.mov'));
  await site.read(volume);
  expect((await state()).map((row) => row.found)).toEqual([0, 1]);
});

test('structure is read once, again when a file changes, and a damaged file says where', async () => {
  site.put('media/fog/a.mov', mov(100, 90_000, 'A001'));
  site.put('media/fog/b.mov', mov(100, 0, 'B001').subarray(0, 200));
  site.put('media/fog/fog.otio', cut(clip('a.mov', external('a.mov'), 90_000), clip('b.mov', external('b.mov'), 0)));
  await site.read(volume);
  const rows = await site.db
    .select({
      name: files.name,
      frames: essence.durationFrames,
      start: essence.startFrame,
      reel: essence.reel,
      trouble: essence.trouble,
    })
    .from(essence)
    .innerJoin(files, eq(files.id, essence.fileId))
    .orderBy(files.name);
  expect(rows[0]).toEqual({ name: 'a.mov', frames: 100, start: 90_000, reel: 'A001', trouble: null });
  expect(rows[1]!.trouble).toMatch(/at byte \d+$/);
  site.put('media/fog/a.mov', mov(50, 90_000, 'A001'));
  await site.read(volume);
  const [after] = await site.db.select().from(essence).where(eq(essence.reel, 'A001'));
  expect(after!.durationFrames).toBe(50);
});

test('bundles: media inside a zip are there with it, media beside a folder bundle are found, and neither is written', async () => {
  const inside = cut(clip('in.mov', external('media/in.mov'), 0), clip('out.mov', external('/gone/out.mov'), 0));
  const zip = zipSync({
    'content.otio': strToU8(inside),
    'version.txt': strToU8('1.0.0'),
    'media/in.mov': strToU8('x'),
  });
  site.put('media/fog/fog.otioz', Buffer.from(zip));
  site.put('media/gull/Gull.otiod/content.otio', cut(clip('a.mov', external('media/a.mov'), 0)).replace('"Fog"', '""'));
  site.put('media/gull/Gull.otiod/media/a.mov', mov(100, 0, 'G001'));
  site.put('media/fog/half.otioz', Buffer.from(zip).subarray(0, 60));
  site.put('media/found/out.mov', mov(100, 0, 'O001'));
  await site.read(volume);
  const rows = await site.db
    .select({ name: media.name, place: media.place, found: media.found, project: projects.name })
    .from(media)
    .innerJoin(projects, eq(projects.id, media.projectId))
    .orderBy(media.name);
  expect(rows).toEqual([
    { name: 'a.mov', place: 'inside', found: 1, project: 'Gull' },
    { name: 'in.mov', place: 'bundled', found: 1, project: 'Fog' },
    { name: 'out.mov', place: 'unknown', found: 0, project: 'Fog' },
  ]);
  const [half] = await site.db.select().from(documents).where(eq(documents.name, 'half.otioz'));
  expect(half).toMatchObject({ state: 'broken', trouble: expect.stringMatching(/at its zip$/) as string });
  const [missing] = await missingMedia(site.db);
  const [file] = await site.db.select().from(files).where(eq(files.name, 'out.mov'));
  await expect(
    addRelinking(site.db, {
      projectId: missing!.projectId,
      choices: [{ mediaId: missing!.mediaId, fileId: file!.id }],
      now: new Date(),
    }),
  ).rejects.toThrow(/is a bundle that Keramion reads and does not write/);
});
