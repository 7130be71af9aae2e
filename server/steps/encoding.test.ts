// Archives that hold media encoded anew: real films and sound of general tools, decoded by ffmpeg on its own and compared with what the
// originals decode to.
import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';
import { xxh64 } from '@node-rs/xxhash';
import { eq, like } from 'drizzle-orm';
import { type Encodings, GUESSED_PACE } from '#core/archive/encoding.ts';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { encode } from '#disk/encode.ts';
import { TestSite } from '#test/site.ts';
import { earlierArchives } from '../archives/base.ts';
import { measuredRates } from '../archives/rates.ts';
import { projectSelection } from '../archives/selection.ts';
import { archiveFiles, archives } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepParts } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { currentPlan, findingsOf } from '../plan/plan.ts';
import { addArchive } from './archive.ts';
import { sweepEncoded } from './encoded.ts';
import { addRestore } from './restore.ts';
import { addOriginalsRemoval } from './remove-originals.ts';

let site: TestSite;
let volume: VolumeId;
let carrier: CarrierId;
const FOG = 1 as ProjectId;

const time = (value: number) => ({ OTIO_SCHEMA: 'RationalTime.1', rate: 25, value });
const range = (start: number, duration: number) => ({
  ...{ OTIO_SCHEMA: 'TimeRange.1', start_time: time(start), duration: time(duration) },
});
const clip = (name: string, at: number, available: object | null = null) => ({
  ...{ OTIO_SCHEMA: 'Clip.1', name, source_range: range(at, 5) },
  media_reference: {
    ...{ OTIO_SCHEMA: 'ExternalReference.1', target_url: `rushes/${name}` },
    ...(available ? { available_range: available } : {}),
  },
});
const HOUR = 10 * 3600 * 25;
const NAMES = ['deck.mov', 'pier.mp4', 'full.mov', 'room.wav', 'torn.mov'];
const DOCUMENT = {
  ...{ OTIO_SCHEMA: 'Timeline.1', name: 'Fog v1' },
  tracks: {
    OTIO_SCHEMA: 'Stack.1',
    children: [
      {
        ...{ OTIO_SCHEMA: 'Track.1', kind: 'Video' },
        children: [clip('deck.mov', HOUR + 3, range(HOUR, 20)), ...NAMES.slice(1).map((name) => clip(name, 2))],
      },
    ],
  },
};

function make(name: string, args: string[]): void {
  execFileSync('ffmpeg', ['-v', 'error', '-y', '-nostdin', ...args, site.put(`media/fog/${name}`, '')]);
}
const picture = ['-f', 'lavfi', '-i', 'testsrc2=size=96x64:rate=25:duration=0.8'];
const sound = ['-f', 'lavfi', '-i', 'sine=frequency=300:sample_rate=48000:duration=0.8'];

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  carrier = await site.carrier('kd-1');
  make('rushes/deck.mov', [
    ...picture,
    ...sound,
    ...['-c:v', 'mjpeg', '-c:a', 'pcm_s24le', '-timecode', '10:00:00:00'],
  ]);
  make('rushes/pier.mp4', [...picture, ...sound, ...['-c:v', 'libx264', '-bf', '2', '-g', '12', '-c:a', 'aac']]);
  make('rushes/full.mov', [...picture, ...['-c:v', 'libx264', '-pix_fmt', 'yuvj420p']]);
  make('rushes/room.wav', [...sound, ...['-c:a', 'pcm_f32le']]);
  make('rushes/torn.mov', [...picture, ...['-c:v', 'mjpeg']]);
  make('renders/fog_v1.mov', [...picture, ...['-c:v', 'qtrle']]);
  // Its tables are whole, and half of its frames are not.
  const torn = path.join(site.root, 'media/fog/rushes/torn.mov');
  const bytes = readFileSync(torn);
  bytes.fill(0x55, 3000, Math.floor(bytes.length * 0.7));
  writeFileSync(torn, bytes);
  site.put('media/fog/fog.otio', JSON.stringify(DOCUMENT, null, 1));
  await site.read(volume);
}, 60_000);
afterEach(() => site.close());

const scopeWith = (encode: Encodings) => ({ ...USUAL_SCOPE, parts: ['render' as const], encode });
const stage = (encode: Encodings, more: object = {}) =>
  addArchive(site.db, {
    ...{ projectId: FOG, carrierIds: [carrier], folder: 'fog_1', scope: scopeWith(encode), now: new Date() },
    ...more,
  });
async function runAll() {
  await site.runPlan();
  return site.workOff();
}
const inBag = (...parts: string[]) => path.join(site.root, 'kd-1/fog_1', ...parts);
const original = (name: string) => path.join(site.root, 'media/fog', name);

/** What it decodes to: every picture in one format for both, and all of its sound. */
function decoded(file: string): string[] {
  const said = (args: readonly string[]) =>
    execFileSync('ffmpeg', ['-v', 'error', '-i', file, ...args, '-hash', 'md5', '-'], { encoding: 'utf8' })
      .split('\n')
      .filter((line) => /^\d/.test(line))
      .map((line) => line.split(/[,=]/).at(-1)!.trim());
  const kinds = probe(file, 'stream=codec_type');
  const pictures = ['-map', '0:V', '-fps_mode', 'passthrough', '-pix_fmt', 'yuv444p16le', '-c:v', 'rawvideo'];
  return [
    ...(kinds.includes('video') ? said([...pictures, '-f', 'framehash']) : []),
    ...(kinds.includes('audio') ? said(['-map', '0:a', '-c:a', 'pcm_f32le', '-f', 'streamhash']) : []),
  ];
}

const probe = (file: string, entries: string): string =>
  execFileSync('ffprobe', ['-v', 'error', '-show_entries', entries, '-of', 'csv=p=0', file], { encoding: 'utf8' });

/** What the work of this test has left on the machine. */
async function scratch(): Promise<string[]> {
  const marks = (await site.db.select({ mark: jobs.mark }).from(jobs)).map((job) => `keramion-made-${job.mark}`);
  return readdirSync(tmpdir()).filter((name) => marks.includes(name));
}

test('media goes in as FFV1 and FLAC in Matroska, decodes to the same, and documents name it', async () => {
  const planned = await stage({ used: 'lossless', render: 'lossless' });
  const before = await currentPlan(site.db);
  const guessed = await measuredRates(site.db);
  expect(guessed.encode).toEqual(GUESSED_PACE);
  const { encodingWork } = await projectSelection(site.db, FOG, scopeWith({ used: 'lossless', render: 'lossless' }));
  expect(encodingWork.lossless).toBeGreaterThan(3 * 20 * 96 * 64);
  expect((await findingsOf(site.db, before.steps)).map((one) => one.code)).toEqual(
    expect.arrayContaining(['encoded anew', 'not weighed yet']),
  );
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  const [weighed] = (await currentPlan(site.db)).steps;
  const found = await findingsOf(site.db, [weighed!]);
  expect(found.map((one) => one.code)).not.toContain('not weighed yet');
  expect(found.find((one) => one.code === 'encoded anew')!.facts).toMatchObject({ files: 5, viewing: 0 });
  expect(weighed!.bytes).not.toBe(planned.bytes);
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  // How long it took counts for what is encoded next, and not as if it had been written so slowly.
  const { encode: paces, measured } = await measuredRates(site.db);
  expect(paces.lossless).not.toBe(GUESSED_PACE.lossless);
  expect(paces.viewing).toBe(GUESSED_PACE.viewing);
  expect(measured).toBe(false);

  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: inBag() });
  const media = inBag('data/media/Fog v1');
  expect(readdirSync(media).sort()).toEqual([
    ...['deck.mov.mkv', 'full.mov.mkv', 'pier.mp4.mkv', 'room.wav.mka', 'torn.mov'],
  ]);
  for (const [name, made] of [
    ['rushes/deck.mov', 'media/Fog v1/deck.mov.mkv'],
    ['rushes/pier.mp4', 'media/Fog v1/pier.mp4.mkv'],
    ['rushes/room.wav', 'media/Fog v1/room.wav.mka'],
    ['renders/fog_v1.mov', 'renders/fog_v1.mov.mkv'],
  ] as const)
    expect([name, decoded(inBag('data', made))]).toEqual([name, decoded(original(name))]);
  expect(probe(path.join(media, 'deck.mov.mkv'), 'stream=codec_name')).toMatch(/ffv1[\s\S]*flac/);
  expect(probe(path.join(media, 'deck.mov.mkv'), 'stream_tags=timecode')).toContain('10:00:00:00');
  expect(probe(path.join(media, 'full.mov.mkv'), 'stream=color_range')).toContain('pc');
  // What cannot be decoded to its end goes in as it is.
  expect(readFileSync(path.join(media, 'torn.mov'))).toEqual(readFileSync(original('rushes/torn.mov')));

  const document = JSON.parse(readFileSync(inBag('data/documents/fog.otio'), 'utf8')) as typeof DOCUMENT;
  for (const { media_reference: reference } of document.tracks.children[0]!.children)
    expect(existsSync(path.join(inBag('data/documents'), decodeURIComponent(reference.target_url)))).toBe(true);
  expect(document.tracks.children[0]!.children[0]!.media_reference).toMatchObject({ available_range: range(HOUR, 20) });

  const rows = await site.db.select().from(archiveFiles);
  for (const row of rows.filter((one) => one.role !== 'document')) expect(row.payloadBytes).toBe(row.sizeBytes);
  expect(rows.find((row) => row.path.endsWith('torn.mov'))!.whyWhole).toMatch(/cannot be encoded|can be decoded/);
  expect(rows.find((row) => row.path.endsWith('deck.mov'))).toMatchObject({ role: 'encoded', encoding: 'lossless' });
  expect(readFileSync(inBag('README.txt'), 'utf8')).toContain('encoded anew without loss');
  expect(readFileSync(inBag('keramion-archive.json'), 'utf8')).toContain('"encoded": "lossless"');
  expect(await scratch()).toEqual([]);
}, 180_000);

test('a viewing copy has all frames and the timecode, and stands for nothing: its original stays the only copy', async () => {
  await stage({ used: 'viewing' });
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  const made = inBag('data/media/Fog v1/deck.mov.mp4');
  expect(probe(made, 'stream=codec_name')).toMatch(/h264[\s\S]*aac/);
  expect(decoded(made).length).toBe(21);
  expect(probe(made, 'stream=nb_frames').split('\n')[0]).toBe('20');
  expect(probe(made, 'stream_tags=timecode')).toContain('10:00:00:00');
  await addOriginalsRemoval(site.db, 1 as ArchiveId, new Date());
  expect(await runAll()).toMatchObject({ state: 'done' });
  for (const name of ['deck.mov', 'pier.mp4', 'full.mov', 'room.wav'])
    expect([name, existsSync(original(`rushes/${name}`))]).toEqual([name, true]);
  // The render went in as it is.
  expect(existsSync(original('renders/fog_v1.mov'))).toBe(false);
}, 180_000);

test('what was made is brought back under its name and read; a later archive builds on it', async () => {
  await stage({ used: 'lossless' });
  await site.workOff();
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  const [base] = await earlierArchives(site.db, FOG);
  site.put('media/fog/notes.otio', JSON.stringify({ ...DOCUMENT, name: 'Fog v2' }));
  await site.read(volume);
  await stage({ used: 'lossless' }, { folder: 'fog_2', baseId: base!.archiveId });
  await site.workOff();
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  const later = path.join(site.root, 'kd-1/fog_2/data');
  expect(existsSync(path.join(later, 'documents/notes.otio'))).toBe(true);
  expect(existsSync(path.join(later, 'media'))).toBe(false);
  await addRestore(site.db, {
    archiveId: base!.archiveId,
    copyId: 1,
    volumeId: volume,
    folder: 'back',
    now: new Date(),
  });
  expect(await runAll()).toMatchObject({ state: 'done' });
  const back = path.join(site.root, 'media/back/media/Fog v1/deck.mov.mkv');
  expect(decoded(back)).toEqual(decoded(original('rushes/deck.mov')));
}, 180_000);

test('a source that changes after it was encoded stays out and is told; nothing made stays on the machine', async () => {
  await stage({ used: 'lossless' });
  await site.workOff();
  await site.runPlan();
  writeFileSync(original('rushes/deck.mov'), 'another');
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  const [sealed] = await site.db.select().from(archives);
  expect(sealed).toMatchObject({ state: 'sealed', gaps: 1 });
  expect(existsSync(inBag('data/media/Fog v1/deck.mov.mkv'))).toBe(false);
  expect(await scratch()).toEqual([]);
}, 180_000);

test('what was left of work that ended is swept, and what goes on or is somebody else’s stays', async () => {
  await stage({ used: 'lossless' });
  await site.workOff();
  await site.runPlan();
  const [open] = await site.db.select().from(jobs).where(eq(jobs.state, 'queued'));
  const others = '00000000-0000-4000-8000-000000000000';
  const [ended] = await site.db.select().from(jobs).where(eq(jobs.state, 'done'));
  const folders = [open!.mark, others, ended!.mark].map((mark) => path.join(tmpdir(), `keramion-made-${mark}`));
  for (const folder of folders) mkdirSync(folder, { recursive: true });
  await sweepEncoded(site.db);
  expect(folders.map((folder) => existsSync(folder))).toEqual([true, true, false]);
  for (const folder of folders) rmSync(folder, { recursive: true, force: true });
}, 60_000);

test('what lies there of an earlier run counts only as it was proved; the same source gives the same bytes again', async () => {
  await stage({ used: 'lossless' });
  await site.workOff();
  await site.runPlan();
  const [job] = await site.db.select().from(jobs).where(eq(jobs.state, 'queued'));
  const [row] = await site.db.select().from(archiveFiles).where(like(archiveFiles.path, '%deck.mov'));
  const own = path.join(site.root, 'made.mkv');
  const frames = { frames: 20, isToEnd: () => false };
  await encode({ media: original('rushes/deck.mov'), to: own, encoding: 'lossless', ...frames });
  const bytes = readFileSync(own);
  const sum = xxh64(bytes).toString(16).padStart(16, '0');
  await site.db
    .update(archiveFiles)
    .set({ sizeBytes: bytes.length, xxh64: sum, measured: true })
    .where(eq(archiveFiles.id, row!.id));
  // As large as it was, and lost when the machine went down.
  const folder = path.join(tmpdir(), `keramion-made-${job!.mark}`);
  mkdirSync(folder, { mode: 0o700 });
  writeFileSync(path.join(folder, `${row!.fileId}-lossless`), Buffer.alloc(bytes.length));
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  expect(readFileSync(inBag('data/media/Fog v1/deck.mov.mkv')).equals(bytes)).toBe(true);
  expect(await scratch()).toEqual([]);
}, 60_000);

test('what cannot be encoded keeps the length that was asked for', async () => {
  const range4 = (start: number) => ({ ...range(start, 4) });
  const stills = {
    ...{
      OTIO_SCHEMA: 'ImageSequenceReference.1',
      target_url_base: 'plates',
      name_prefix: 'plate_',
      name_suffix: '.png',
    },
    ...{ start_frame: 1, frame_step: 1, rate: 25, frame_zero_padding: 4, available_range: range(0, 12) },
  };
  for (let n = 1; n <= 12; n++) site.put(`media/mist/plates/plate_${String(n).padStart(4, '0')}.png`, `still ${n}`);
  const shown = { ...{ OTIO_SCHEMA: 'Clip.1', name: 'plate', source_range: range4(2) }, media_reference: stills };
  const track = { ...{ OTIO_SCHEMA: 'Track.1', kind: 'Video' }, children: [shown] };
  const tracks = { OTIO_SCHEMA: 'Stack.1', children: [track] };
  site.put('media/mist/mist.otio', JSON.stringify({ ...{ OTIO_SCHEMA: 'Timeline.1', name: 'Mist v1' }, tracks }));
  await site.read(volume);
  const [mist] = await site.db.select().from(projects).where(eq(projects.name, 'mist'));
  const handles = { value: 0, unit: 'frames' as const, gapSeconds: 0 };
  const taken = async (encode: Encodings) =>
    (await projectSelection(site.db, mist!.id as ProjectId, { ...scopeWith(encode), handles })).chosen
      .filter((file) => file.name.endsWith('.png'))
      .map((file) => file.name);
  const cut = await taken({});
  expect(cut).toEqual(['plate_0003.png', 'plate_0004.png', 'plate_0005.png', 'plate_0006.png']);
  expect(await taken({ used: 'lossless' })).toEqual(cut);
}, 60_000);

test('what is there of it is as large as was said; a still, a piece of several and a document that cannot be written stay', async () => {
  make('rushes/plate_0001.png', [...picture, ...['-frames:v', '1']]);
  await site.read(volume);
  const selection = await projectSelection(site.db, FOG, {
    ...scopeWith({ used: 'viewing', unused: 'viewing' }),
    parts: ['unused'],
  });
  const still = selection.chosen.find((file) => file.name === 'plate_0001.png');
  expect(still).toMatchObject({ encoding: null, whyWhole: 'it is a still' });
  const { used } = { used: selection.chosen.filter((file) => file.encoding === 'viewing') };
  expect(used.map((file) => file.name).sort()).toEqual([...NAMES].sort());
  await stage({ used: 'viewing' });
  const rows = await site.db.select().from(stepParts).where(eq(stepParts.encoding, 'viewing'));
  expect(rows).toHaveLength(NAMES.length);
  rmSync(original('rushes/pier.mp4'));
  // Of what is away the step itself speaks.
  expect(await site.workOff()).toMatchObject({ state: 'done' });
}, 180_000);
