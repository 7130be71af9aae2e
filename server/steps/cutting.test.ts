// Archives that keep what is used of their media: real files of general tools, and every frame of every timeline looked at
// in the archive as it was in the original.
import { execFileSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import { readOtio } from '#core/documents/formats/otio.ts';
import { pathOfUrl } from '#core/documents/targets.ts';
import type { CarrierId, JobId, ProjectId, VolumeId } from '#core/model.ts';
import { TestSite } from '#test/site.ts';
import { projectSelection } from '../archives/selection.ts';
import { keepShape, namedShapes } from '../archives/shapes.ts';
import { archiveFiles, archives } from '../db/schema/archives.ts';
import { files } from '../db/schema/catalogue.ts';
import { jobQuestions } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { currentPlan, findingsOf } from '../plan/plan.ts';
import { assess } from '../reclaim/assess.ts';
import { worth } from '../db/schema/worth.ts';
import { cancelJob } from '../runtime/queue.ts';
import { addArchive } from './archive.ts';
import { addOriginalsRemoval } from './remove-originals.ts';

let site: TestSite;
let volume: VolumeId;
let carriers: CarrierId[];
const FOG = 1 as ProjectId;
const SCOPE = {
  ...USUAL_SCOPE,
  parts: [],
  handles: { value: 4, unit: 'frames' as const, gapSeconds: 0.5 },
};

const range = (start: number, duration: number, rate = 25) => ({
  OTIO_SCHEMA: 'TimeRange.1',
  start_time: { OTIO_SCHEMA: 'RationalTime.1', rate, value: start },
  duration: { OTIO_SCHEMA: 'RationalTime.1', rate, value: duration },
});
const reference = (url: string, available: object | null) => ({
  OTIO_SCHEMA: 'ExternalReference.1',
  target_url: url,
  ...(available ? { available_range: available } : {}),
  metadata: { note: url },
});
const clip = (url: string, source: object | null, available: object | null = null) => ({
  OTIO_SCHEMA: 'Clip.1',
  name: url,
  source_range: source,
  media_reference: reference(url, available),
});
const track = (kind: string, children: object[], source: object | null = null) => ({
  OTIO_SCHEMA: 'Track.1',
  kind,
  source_range: source,
  children,
});

const HOUR = 10 * 3600 * 25;
const LONG = range(HOUR, 300);
/** Two far uses of one recording, one by a group that is shown in two pieces, a file without a timecode, and sound. */
const DOCUMENT = {
  OTIO_SCHEMA: 'SerializableCollection.1',
  name: 'Fog',
  children: [
    {
      OTIO_SCHEMA: 'SerializableCollection.1',
      name: 'Rushes',
      children: [
        clip('rushes/long.mov', null, LONG),
        clip('rushes/plain.mp4', null, range(0, 250)),
        clip('rushes/room.wav', null),
      ],
    },
    {
      OTIO_SCHEMA: 'Timeline.1',
      name: 'Fog v1',
      tracks: {
        OTIO_SCHEMA: 'Stack.1',
        children: [
          track('Video', [
            clip('rushes/long.mov', range(HOUR + 20, 10), LONG),
            clip('rushes/plain.mp4', range(101, 7), range(0, 250)),
            clip('rushes/long.mov', range(HOUR + 250, 5), LONG),
            track('Video', [clip('rushes/long.mov', range(HOUR + 100, 60), LONG)], range(2, 3)),
            track('Video', [clip('rushes/locked.mov', range(3, 4), range(0, 50))]),
          ]),
          track('Audio', [clip('rushes/room.wav', range(2 * 3600 * 25 + 30, 25))]),
        ],
      },
    },
  ],
};

function film(name: string, seconds: number, more: string[]): void {
  const target = site.put(name, '');
  execFileSync('ffmpeg', [
    '-v',
    'error',
    '-y',
    '-f',
    'lavfi',
    '-i',
    `testsrc2=size=64x48:rate=25:duration=${seconds}`,
    ...more,
    target,
  ]);
}

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  carriers = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  film('media/fog/rushes/long.mov', 12, ['-c:v', 'mjpeg', '-timecode', '10:00:00:00']);
  film('media/fog/rushes/plain.mp4', 10, ['-c:v', 'libx264', '-preset', 'ultrafast', '-bf', '2', '-g', '12']);
  film('media/fog/rushes/locked.mov', 2, ['-c:v', 'mjpeg']);
  const locked = path.join(site.root, 'media/fog/rushes/locked.mov');
  const bytes = readFileSync(locked);
  bytes.write('encv', bytes.indexOf('jpeg', bytes.indexOf('stsd')), 'latin1');
  writeFileSync(locked, bytes);
  const sound = site.put('media/fog/rushes/room.wav', '');
  execFileSync('ffmpeg', [
    ...[
      '-v',
      'error',
      '-y',
      '-f',
      'lavfi',
      '-i',
      'sine=frequency=300:sample_rate=48000:duration=10',
      '-c:a',
      'pcm_s24le',
    ],
    ...['-write_bext', '1', '-metadata', `time_reference=${2 * 3600 * 48_000}`, sound],
  ]);
  site.put('media/fog/fog.otio', JSON.stringify(DOCUMENT, null, 1));
  await site.read(volume);
}, 60_000);
afterEach(() => site.close());

const bag = (carrier: string, ...parts: string[]) => path.join(site.root, carrier, 'fog_1', ...parts);
async function runAll() {
  await site.runPlan();
  return site.workOff();
}
const stage = () =>
  addArchive(site.db, { projectId: FOG, carrierIds: carriers, folder: 'fog_1', scope: SCOPE, now: new Date() });

/** Hashes of all frames that are shown, or of the plain sound. */
function shown(file: string): string[] {
  const isSound = file.endsWith('.wav');
  const args = isSound
    ? ['-f', 's32le', '-c:a', 'pcm_s32le']
    : ['-fps_mode', 'passthrough', '-f', 'framehash', '-hash', 'md5'];
  const out = execFileSync('ffmpeg', ['-v', 'error', '-i', file, ...args, '-'], { maxBuffer: 1 << 27 });
  if (isSound)
    return Array.from({ length: out.length / (4 * 1920) }, (_, i) =>
      out
        .subarray(i * 7680, (i + 1) * 7680)
        .toString('base64')
        .slice(0, 600),
    );
  return out
    .toString()
    .split('\n')
    .filter((line) => line !== '' && !line.startsWith('#'))
    .map((line) => line.split(',').at(-1)!.trim());
}

/** What the timelines of a document show, frame by frame, as whoever opens it sees it. */
function seen(document: string): string[] {
  const reading = readOtio(readFileSync(document, 'utf8'));
  if (!reading.ok) throw new Error(reading.trouble.detail);
  const { media, timelines } = reading.document;
  const frames: string[] = [];
  const known = new Map<string, string[]>();
  for (const { uses } of timelines)
    for (const { media: key, range: used } of uses) {
      const item = media[key]!;
      const file = path.resolve(path.dirname(document), pathOfUrl(item.target!));
      if (file.includes('locked')) continue;
      if (!known.has(file)) known.set(file, shown(file));
      const start = item.available?.range.start ?? 2 * 3600 * 25;
      for (let n = used.start; n < used.start + used.duration; n++)
        frames.push(known.get(file)![n - start] ?? 'nothing');
    }
  return frames;
}

test('one reference that two far uses share can lead to one part alone, and that holds both', async () => {
  const shared = { ...reference('rushes/long.mov', LONG), OTIO_REF_ID: 'long-1' };
  const shot = (media: object, source: object) => ({
    ...{ OTIO_SCHEMA: 'Clip.1', name: 'long', source_range: source },
    media_reference: media,
  });
  const children = [
    shot(shared, range(HOUR + 20, 10)),
    shot({ OTIO_SCHEMA: 'SerializableObjectRef.1', id: 'long-1' }, range(HOUR + 200, 5)),
  ];
  const timeline = {
    ...{ OTIO_SCHEMA: 'Timeline.1', name: 'Fog v1' },
    tracks: { OTIO_SCHEMA: 'Stack.1', children: [track('Video', children)] },
  };
  site.put(
    'media/fog/fog.otio',
    JSON.stringify({ OTIO_SCHEMA: 'SerializableCollection.1', name: 'Fog', children: [timeline] }),
  );
  await site.read(volume);
  const planned = await projectSelection(site.db, FOG, SCOPE);
  expect(planned.chosen.find((file) => file.name === 'long.mov')!.parts).toMatchObject([{ from: 16, to: 209 }]);
  await addArchive(site.db, { projectId: FOG, carrierIds: carriers, folder: 'fog_1', scope: SCOPE, now: new Date() });
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
});

test('one file is kept whole and another with longer handles, as it was asked for each', async () => {
  const ids = new Map((await site.db.select().from(files)).map((file) => [file.name, file.id]));
  const own = [
    { fileId: ids.get('long.mov')!, around: null },
    { fileId: ids.get('plain.mp4')!, around: { value: 1, unit: 'seconds' as const } },
  ];
  const scope = { ...SCOPE, handles: { ...SCOPE.handles, own } };
  const planned = await projectSelection(site.db, FOG, scope);
  const partsOf = (name: string) => planned.chosen.find((file) => file.name === name)!.parts;
  expect(partsOf('long.mov')).toEqual([]);
  expect(partsOf('plain.mp4')).toMatchObject([{ from: 101 - 25, to: 108 + 25 }]);
  const room = partsOf('room.wav');
  expect(room).toMatchObject([{ to: room[0]!.from + (25 + 2 * 4) * 1920 }]);
  await addArchive(site.db, { projectId: FOG, carrierIds: carriers, folder: 'fog_1', scope, now: new Date() });
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  const [whole] = await site.db
    .select()
    .from(archiveFiles)
    .where(eq(archiveFiles.fileId, ids.get('long.mov')!));
  expect(whole).toMatchObject({ role: 'media', whyWhole: null });
  // A shape that is kept by name is of no project: its files stay out of it.
  await keepShape(site.db, { name: 'Own', scope }, { who: 'Mara', now: new Date() });
  expect((await namedShapes(site.db))[0]!.scope.handles).toEqual(SCOPE.handles);
});

test('only what is used is kept: frames, sound and timecodes are those of the original, and its size was known', async () => {
  const before = seen(path.join(site.root, 'media/fog/fog.otio'));
  expect(before).not.toContain('nothing');
  expect(before.length).toBe(10 + 7 + 5 + 3 + 25);
  const planned = await projectSelection(site.db, FOG, SCOPE);
  expect(planned.chosen.map((file) => [file.name, file.parts.map(({ from, to }) => [from, to])])).toEqual(
    expect.arrayContaining([
      [
        'long.mov',
        [
          [16, 34],
          [98, 109],
          [246, 259],
        ],
      ],
      ['plain.mp4', [[97, 112]]],
      ['locked.mov', [[0, 11]]],
      ['room.wav', [[49_920, 113_280]]],
    ]),
  );
  await stage();
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  for (const carrier of ['kd-1', 'kd-2']) {
    expect(readdirSync(bag(carrier, 'data/media/Rushes')).sort()).toEqual([
      'long_f000016.mov',
      'long_f000098.mov',
      'long_f000246.mov',
      'plain_f000097.mp4',
      'room_f049920.wav',
    ]);
    execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: bag(carrier) });
    expect(seen(bag(carrier, 'data/documents/fog.otio'))).toEqual(before);
    const probe = execFileSync(
      'ffprobe',
      [
        '-v',
        'warning',
        '-show_entries',
        'stream_tags=timecode',
        '-of',
        'csv=p=0',
        bag(carrier, 'data/media/Rushes/long_f000246.mov'),
      ],
      { encoding: 'utf8' },
    );
    expect(probe).toContain('10:00:09:21');
  }
  const rows = await site.db.select().from(archiveFiles);
  for (const row of rows)
    expect(row.role === 'document' ? null : row.sizeBytes).toBe(row.role === 'document' ? null : row.payloadBytes);
  expect(rows.find((row) => row.payloadPath.includes('locked'))).toMatchObject({
    role: 'media',
    whyWhole: 'it is encrypted',
  });
  expect(readFileSync(bag('kd-1', 'keramion-archive.json'), 'utf8')).toContain('it is encrypted');
}, 120_000);

test('a range of a file is no copy of it: nothing is offered on its word', async () => {
  await stage();
  expect(await runAll()).toMatchObject({ state: 'done' });
  await addOriginalsRemoval(site.db, 1 as never, new Date());
  const plan = await currentPlan(site.db);
  expect(plan.steps).toHaveLength(1);
  // The document and the one that went in whole; of the rest no original.
  const gone = await runAll();
  expect(gone).toMatchObject({ state: 'done' });
  for (const name of ['long.mov', 'plain.mp4', 'room.wav'])
    expect(existsSync(path.join(site.root, 'media/fog/rushes', name))).toBe(true);
  await assess(site.db);
  const levels = await site.db
    .select({ name: files.name, level: worth.level })
    .from(worth)
    .innerJoin(files, eq(files.id, worth.fileId));
  for (const { name, level } of levels)
    if (name !== 'locked.mov' && !name.endsWith('.otio')) expect([name, level]).toEqual([name, 3]);
}, 120_000);

test('a source that changed after it was chosen goes in neither whole nor in part', async () => {
  await addArchive(site.db, {
    ...{ projectId: FOG, carrierIds: carriers, folder: 'fog_1', now: new Date() },
    scope: { ...SCOPE, goOn: false },
  });
  const place = path.join(site.root, 'media/fog/rushes/long.mov');
  writeFileSync(place, Buffer.concat([readFileSync(place), Buffer.from('more')]));
  await runAll();
  const [asked] = await site.db.select().from(jobQuestions);
  expect(asked).toMatchObject({ path: 'fog/rushes/long.mov', reason: 'changed', answer: null });
  await cancelJob(site.db, asked!.jobId as JobId);
  expect(await site.workOff()).toMatchObject({ state: 'cancelled' });
  for (const carrier of ['kd-1', 'kd-2'])
    expect(readdirSync(path.join(site.root, carrier)).filter((name) => !name.startsWith('.'))).toEqual([]);
  expect(statSync(place).size).toBeGreaterThan(0);
  expect(await site.db.select({ state: archives.state }).from(archives)).toEqual([{ state: 'ended early' }]);
}, 120_000);

test('what will be written is weighed to the byte before anybody runs it', async () => {
  const planned = await stage();
  const before = await currentPlan(site.db);
  expect((await findingsOf(site.db, before.steps)).map((one) => one.code)).toContain('not weighed yet');
  await site.workOff();
  const [weighed] = (await currentPlan(site.db)).steps;
  expect((await findingsOf(site.db, [weighed!])).map((one) => one.code)).not.toContain('not weighed yet');
  expect(weighed!.bytes).not.toBe(planned.bytes);
  expect(await runAll()).toMatchObject({ state: 'done' });
  const rows = await site.db.select().from(archiveFiles);
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'archive sealed'));
  expect(receipt!.bytes).toBe(
    rows.reduce((bytes, row) => bytes + (row.role === 'document' ? 0 : row.payloadBytes!), 0),
  );
  // The relinked document alone weighs what its new places weigh.
  const sum = rows.reduce((bytes, row) => bytes + (row.role === 'document' ? row.sizeBytes : row.payloadBytes!), 0);
  expect(sum).toBe(weighed!.bytes);
}, 120_000);

test('an archive of one timeline holds what that one uses; the rest is missing by its name', async () => {
  const other = {
    OTIO_SCHEMA: 'Timeline.1',
    name: 'Trailer',
    tracks: {
      OTIO_SCHEMA: 'Stack.1',
      children: [
        track('Video', [clip('rushes/long.mov', range(HOUR + 180, 8), LONG)]),
        track('Audio', [clip('rushes/locked.mov', range(1, 2), range(0, 50))]),
      ],
    },
  };
  const document = { ...DOCUMENT, children: [...DOCUMENT.children, other] };
  site.put('media/fog/fog.otio', JSON.stringify(document, null, 1));
  await site.read(volume);
  const scope = { ...SCOPE, timelines: ['Trailer'], layout: 'disk' as const };
  const { chosen, leftOut, mediaTotal } = await projectSelection(site.db, FOG, scope);
  expect(mediaTotal).toBe(2);
  expect(
    chosen
      .filter((file) => !file.isDocument)
      .map((file) => file.name)
      .sort(),
  ).toEqual(['locked.mov', 'long.mov']);
  expect(chosen.find((file) => file.name === 'long.mov')!.parts).toMatchObject([
    { from: 176, to: 192, payloadPath: 'media/media/fog/rushes/long_f000176.mov' },
  ]);
  // What another timeline of the same project uses is not told as somebody else's.
  expect(leftOut.map((part) => part.why)).toEqual(['unused']);
  await addArchive(site.db, { projectId: FOG, carrierIds: carriers, folder: 'fog_1', scope, now: new Date() });
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  const reading = readOtio(readFileSync(bag('kd-1', 'data/documents/fog.otio'), 'utf8'));
  const targets = reading.ok ? reading.document.media.map((item) => item.target) : [];
  expect(targets).toContain('../media/media/fog/rushes/long_f000176.mov');
  expect(targets).toContain('../media/not%20in%20this%20archive/plain.mp4');
  const model = JSON.parse(readFileSync(bag('kd-1', 'project.json'), 'utf8')) as {
    documents: { timelines: object[] }[];
  };
  expect(model.documents[0]!.timelines).toHaveLength(2);
}, 120_000);

test('a source that changed is left out where the work goes on; the parts of the others stand', async () => {
  await stage();
  const place = path.join(site.root, 'media/fog/rushes/long.mov');
  writeFileSync(place, Buffer.concat([readFileSync(place), Buffer.from('more')]));
  expect(await runAll()).toMatchObject({ state: 'done' });
  expect(readdirSync(bag('kd-2', 'data/media/Rushes')).sort()).toEqual(['plain_f000097.mp4', 'room_f049920.wav']);
  const document = readFileSync(bag('kd-2', 'data/documents/fog.otio'), 'utf8');
  expect(document).toContain('../media/not%20in%20this%20archive/long.mov');
  expect(document).not.toContain('long_f');
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: bag('kd-2') });
}, 120_000);

test('of a sequence the stills that are shown go in, with their numbers, and each reference begins with its own', async () => {
  const still = (n: number) => `media/fog/scan/fog.${String(n).padStart(4, '0')}.dpx`;
  for (let n = 101; n < 161; n++) site.put(still(n), `still ${n}`);
  const scan = {
    OTIO_SCHEMA: 'ImageSequenceReference.1',
    target_url_base: 'scan/',
    name_prefix: 'fog.',
    name_suffix: '.dpx',
    start_frame: 101,
    frame_step: 1,
    rate: 25,
    frame_zero_padding: 4,
    available_range: range(0, 60),
  };
  const shot = (source: object | null) => ({
    OTIO_SCHEMA: 'Clip.1',
    name: 'scan',
    source_range: source,
    media_reference: scan,
  });
  const timeline = {
    OTIO_SCHEMA: 'Timeline.1',
    name: 'Scans',
    tracks: { OTIO_SCHEMA: 'Stack.1', children: [track('Video', [shot(range(10, 3)), shot(range(40, 5))])] },
  };
  const bin = { OTIO_SCHEMA: 'SerializableCollection.1', name: 'Scan', children: [shot(null)] };
  site.put(
    'media/fog/fog.otio',
    JSON.stringify({ OTIO_SCHEMA: 'SerializableCollection.1', name: 'Fog', children: [bin, timeline] }),
  );
  await site.read(volume);
  // Names of stills are their numbers: whatever media is to be called, they stay.
  const scope = { ...SCOPE, names: '{clip}', handles: { value: 1, unit: 'frames' as const, gapSeconds: 0.1 } };
  const planned = await projectSelection(site.db, FOG, scope);
  expect(planned.trimmedStills).toBe(60 - 5 - 7);
  await addArchive(site.db, { projectId: FOG, carrierIds: carriers, folder: 'fog_1', scope, now: new Date() });
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  const numbers = [110, 111, 112, 113, 114, 140, 141, 142, 143, 144, 145, 146];
  expect(readdirSync(bag('kd-1', 'data/media/Scan')).sort()).toEqual(numbers.map((n) => path.basename(still(n))));
  const document = readFileSync(bag('kd-1', 'data/documents/fog.otio'), 'utf8');
  const reading = readOtio(document);
  const media = reading.ok ? reading.document.media : [];
  const told = media.map(({ stills, available }) => [
    stills!.folder,
    stills!.first,
    stills!.count,
    available!.range.start,
  ]);
  expect(told).toEqual(
    expect.arrayContaining([
      ['../media/Scan/', 110, 5, 9],
      ['../media/Scan/', 140, 7, 39],
    ]),
  );
  // The bin's clip leads to the first stretch: nothing is missing.
  expect(told).toHaveLength(2);
  const uses = reading.ok ? reading.document.timelines[0]!.uses : [];
  for (const { media: key, range: used } of uses) {
    const { stills, available } = media[key]!;
    const first = stills!.first + used.start - available!.range.start;
    for (let n = first; n < first + used.duration; n++)
      expect(readFileSync(bag('kd-1', `data/media/Scan/fog.${String(n).padStart(4, '0')}.dpx`), 'utf8')).toBe(
        `still ${n}`,
      );
  }
  expect(uses.map(({ range: used }) => [used.start, used.duration])).toEqual([
    [10, 3],
    [40, 5],
  ]);
}, 120_000);

test('MXF is cut where its frames do not depend on what is cut off; its documents show what they showed', async () => {
  const closed = ['-bf', '2', '-g', '9', '-flags', '+cgop', '-sc_threshold', '1000000000'];
  film('media/fog/rushes/tape.mxf', 12, ['-c:v', 'mpeg2video', ...closed, '-timecode', '10:00:00:00']);
  film('media/fog/rushes/card.mxf', 12, ['-c:v', 'mpeg2video', '-g', '1', '-timecode', '10:00:00:00']);
  film('media/fog/rushes/open.mxf', 4, ['-c:v', 'mpeg2video', '-bf', '2', '-g', '9', '-timecode', '10:00:00:00']);
  const shots = [
    clip('rushes/tape.mxf', range(HOUR + 103, 10), LONG),
    clip('rushes/card.mxf', range(HOUR + 203, 7), LONG),
    clip('rushes/open.mxf', range(HOUR + 50, 46), range(HOUR, 100)),
  ];
  const timeline = {
    ...{ OTIO_SCHEMA: 'Timeline.1', name: 'Fog v1' },
    tracks: { OTIO_SCHEMA: 'Stack.1', children: [track('Video', shots)] },
  };
  site.put(
    'media/fog/fog.otio',
    JSON.stringify({ OTIO_SCHEMA: 'SerializableCollection.1', name: 'Fog', children: [timeline] }),
  );
  await site.read(volume);
  const before = seen(path.join(site.root, 'media/fog/fog.otio'));
  expect(before).not.toContain('nothing');
  await stage();
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  expect(seen(bag('kd-1', 'data/documents/fog.otio'))).toEqual(before);
  const rows = await site.db.select().from(archiveFiles);
  const row = (name: string) => rows.find((one) => one.payloadPath.includes(name))!;
  expect(row('card')).toMatchObject({ role: 'part', partFrom: 199, partTo: 214 });
  // Back to the beginning of its group, and on to where the last that is shown was stored.
  expect(row('tape').partFrom).toBe(98);
  expect(row('tape').partTo).toBeGreaterThanOrEqual(117);
  expect(row('tape').partTo).toBeLessThan(120);
  expect(row('open')).toMatchObject({
    role: 'media',
    whyWhole: 'its frames depend on one another, so that all of it is needed',
  });
  for (const one of [row('card'), row('tape')]) expect(one.sizeBytes).toBe(one.payloadBytes);
}, 120_000);
