// Of a timeline only what it uses comes back: real films and sound of general tools, cut on the volume, compared frame by frame with the
// originals, in documents that say what there is.
import { execFileSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync, rmSync, statSync } from 'node:fs';
import path from 'node:path';
import { eq, sql } from 'drizzle-orm';
import type { Handles } from '#core/archive/lengths.ts';
import { readOtio } from '#core/documents/formats/otio.ts';
import { stillTarget } from '#core/documents/stills.ts';
import { pathOfUrl } from '#core/documents/targets.ts';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { TestSite } from '#test/site.ts';
import type { Only } from '../archives/contents.ts';
import { archiveFiles, archiveUses } from '../db/schema/archives.ts';
import { stepParts } from '../db/schema/plans.ts';
import { receipts } from '../db/schema/receipts.ts';
import { currentPlan } from '../plan/plan.ts';
import { setMount } from '../stores/places.ts';
import { addArchive } from './archive.ts';
import { addRestore, restoreWeight } from './restore.ts';

let site: TestSite;
let volume: VolumeId;
let carrier: CarrierId;

const time = (value: number) => ({ OTIO_SCHEMA: 'RationalTime.1', rate: 25, value });
const range = (start: number, duration: number) => ({
  ...{ OTIO_SCHEMA: 'TimeRange.1', start_time: time(start), duration: time(duration) },
});
const HOUR = 10 * 3600 * 25;
/** What the document says there is of each, where it does. */
const AVAILABLE: Record<string, object | undefined> = { 'deck.mov': range(HOUR, 100), 'pier.mp4': range(0, 100) };
const STARTS: Record<string, number> = { 'deck.mov': HOUR };
const clip = (name: string, at: number) => ({
  ...{ OTIO_SCHEMA: 'Clip.1', name, source_range: range((STARTS[name] ?? 0) + at, 5) },
  media_reference: {
    ...{ OTIO_SCHEMA: 'ExternalReference.1', target_url: `rushes/${name}` },
    ...(AVAILABLE[name] ? { available_range: AVAILABLE[name] } : {}),
  },
});
const timeline = (name: string, children: object[]) => ({
  ...{ OTIO_SCHEMA: 'Timeline.1', name },
  tracks: { OTIO_SCHEMA: 'Stack.1', children: [{ OTIO_SCHEMA: 'Track.1', kind: 'Video', children }] },
});
const NAMES = ['deck.mov', 'pier.mp4', 'room.wav', 'note.mkv', 'torn.mov'];
const DOCUMENT = {
  ...{ OTIO_SCHEMA: 'SerializableCollection.1', name: 'Fog' },
  children: [
    timeline(
      'Reel 1',
      NAMES.map((name) => clip(name, 40)),
    ),
    timeline('Reel 2', [clip('deck.mov', 80), clip('pier.mp4', 41)]),
  ],
};
const picture = ['-f', 'lavfi', '-i', 'testsrc2=size=96x64:rate=25:duration=4'];
const sound = ['-f', 'lavfi', '-i', 'sine=frequency=300:sample_rate=48000:duration=4'];

function make(name: string, args: string[]): void {
  execFileSync('ffmpeg', ['-v', 'error', '-y', '-nostdin', ...args, site.put(`media/fog/rushes/${name}`, '')]);
}

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  carrier = await site.carrier('kd-1');
  const mjpeg = ['-c:v', 'mjpeg', '-q:v', '2'];
  make('deck.mov', [...picture, ...sound, ...mjpeg, '-c:a', 'pcm_s16le', '-timecode', '10:00:00:00']);
  make('pier.mp4', [...picture, ...sound, '-c:v', 'libx264', '-bf', '2', '-g', '12', '-c:a', 'aac']);
  make('room.wav', [...sound, '-c:a', 'pcm_s24le']);
  make('note.mkv', [...picture, ...mjpeg]);
  make('torn.mov', [...picture, ...mjpeg]);
  site.put('media/fog/fog.otio', JSON.stringify(DOCUMENT));
  await site.read(volume);
}, 60_000);
afterEach(() => site.close());

const at = (...parts: string[]) => path.join(site.root, ...parts);
async function run() {
  await site.runPlan();
  return site.workOff();
}
/** Sealed, and nothing of it left on the volume. */
async function archived(): Promise<void> {
  await addArchive(site.db, { projectId: 1 as ProjectId, carrierIds: [carrier], folder: 'fog_1', now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  const kept = at('kept');
  execFileSync('cp', ['-a', at('media/fog'), kept]);
  rmSync(at('media/fog'), { recursive: true });
  await site.read(volume);
}
const FRAMES: Handles = { value: 4, unit: 'frames', gapSeconds: 0 };
const asked = (only: Partial<Only>, handles: Handles | null = FRAMES) => ({
  ...{ archiveId: 1 as ArchiveId, copyId: 1, volumeId: volume, folder: 'back', handles },
  only: { timelines: [], bins: [], files: [], ...only },
});
const back = (name = '') => at('media/back/media/not in any bin', name);
const original = (name: string) => at('kept/rushes', name);

/** Checksums of what is shown of it, one a picture. */
const pictures = (file: string): string[] =>
  execFileSync(
    'ffmpeg',
    ['-v', 'error', '-i', file, '-map', '0:V', '-fps_mode', 'passthrough', '-f', 'framemd5', '-'],
    { encoding: 'utf8' },
  )
    .split('\n')
    .filter((line) => /^\d/.test(line))
    .map((line) => line.split(',').at(-1)!.trim());
const timecode = (file: string): string =>
  execFileSync('ffprobe', ['-v', 'error', '-show_entries', 'stream_tags=timecode', '-of', 'csv=p=0', file], {
    encoding: 'utf8',
  }).trim();

/** Every reference of the document that came back, with what it says there is, and what is taken of it. */
function referencesBack() {
  const reading = readOtio(readFileSync(at('media/back/documents/fog.otio'), 'utf8'));
  if (!reading.ok) throw new Error(reading.trouble.detail);
  const { media, timelines } = reading.document;
  return {
    timelines: timelines.map((one) => one.name),
    media: media.map((one) => ({
      file: pathOfUrl(one.target!),
      available: one.available && [one.available.range.start, one.available.range.duration],
      used: timelines.flatMap((reel) =>
        reel.uses.filter((use) => use.media === one.key).map((use) => [use.range.start, use.range.duration]),
      ),
    })),
  };
}

test('of one timeline its ranges alone come back, frame by frame what they were, and its document says so', async () => {
  await archived();
  const request = asked({ timelines: ['Reel 1'] });
  const [about, whole] = [
    await restoreWeight(site.db, request),
    await restoreWeight(site.db, { ...request, handles: null }),
  ];
  expect(about.readBytes).toBe(whole.bytes);
  expect(about.bytes).toBeLessThan(whole.bytes * 0.6);
  await addRestore(site.db, { ...request, now: new Date() });
  const [step] = (await currentPlan(site.db)).steps;
  expect(step).toMatchObject({ bytes: about.bytes, files: about.files });
  expect(step!.title).toContain('used ranges alone');
  expect(await run()).toMatchObject({ state: 'done', trouble: null });

  expect(readdirSync(back()).sort()).toEqual([
    ...['deck_f000036.mov', 'note.mkv', 'pier_f000036.mp4', 'room_f069120.wav', 'torn_f000036.mov'],
  ]);
  for (const name of ['deck.mov', 'torn.mov'])
    expect([name, pictures(back(name.replace('.', '_f000036.')))]).toEqual([
      ...[name, pictures(original(name)).slice(36, 49)],
    ]);
  expect(pictures(back('pier_f000036.mp4')).slice(0, 13)).toEqual(pictures(original('pier.mp4')).slice(36, 49));
  expect(timecode(back('deck_f000036.mov'))).toContain('10:00:01:11');
  // What is not cut here came whole.
  expect(readFileSync(back('note.mkv')).equals(readFileSync(original('note.mkv')))).toBe(true);

  const { timelines, media } = referencesBack();
  expect(timelines).toEqual(['Reel 1']);
  for (const { file, available, used } of media) {
    expect([file, existsSync(file)]).toEqual([file, true]);
    for (const [start, duration] of used)
      if (available) {
        expect(start!).toBeGreaterThanOrEqual(available[0]!);
        expect(start! + duration!).toBeLessThanOrEqual(available[0]! + available[1]!);
      }
  }
  expect(media.find(({ file }) => file.endsWith('deck_f000036.mov'))!.available).toEqual([HOUR + 36, 13]);
  // The receipt says what lies there, and that is what was told within a twentieth.
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'project restored'));
  const lies = readdirSync(at('media/back'), { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile() && !entry.name.endsWith('.otio'))
    .reduce((sum, entry) => sum + statSync(path.join(entry.parentPath, entry.name)).size, 0);
  expect(Math.abs(receipt!.bytes - lies)).toBeLessThan(20_000);
  expect(Math.abs(about.bytes - receipt!.bytes) / receipt!.bytes).toBeLessThan(0.25);
  expect((await site.db.select().from(stepParts)).every((part) => part.measured)).toBe(true);
});

test('of two timelines there are as many ranges as they use; a file that is asked for by itself comes whole', async () => {
  await archived();
  const [pier] = await site.db
    .select()
    .from(archiveFiles)
    .where(sql`payload_path LIKE '%pier.mp4'`);
  await addRestore(site.db, { ...asked({ timelines: ['Reel 1', 'Reel 2'], files: [pier!.id] }), now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(
    readdirSync(back())
      .filter((name) => /deck|pier/.test(name))
      .sort(),
  ).toEqual([...['deck_f000036.mov', 'deck_f000076.mov', 'pier.mp4']]);
  const { media } = referencesBack();
  for (const { file } of media) expect([file, existsSync(file)]).toEqual([file, true]);
  const decks = media.filter(({ file }) => file.includes('deck_f'));
  expect(decks.map(({ available, used }) => [available, used.length])).toEqual(
    expect.arrayContaining([
      [[HOUR + 36, 13], 1],
      [[HOUR + 76, 13], 1],
    ]),
  );
});

test('what turns out not to be cut comes whole, with the reason; what is not known comes whole', async () => {
  site.put('media/fog/rushes/torn.mov', readFileSync(at('media/fog/rushes/torn.mov')).subarray(0, 2000));
  await site.read(volume);
  await archived();
  // It was whole when it was read, and is said to be longer than it is.
  const [torn] = await site.db
    .select()
    .from(archiveFiles)
    .where(sql`payload_path LIKE '%torn.mov'`);
  const [use] = await site.db
    .select()
    .from(archiveUses)
    .where(sql`frames IS NOT NULL`);
  await site.db.update(archiveUses).set({ frames: use!.frames }).where(eq(archiveUses.archiveFileId, torn!.id));
  await site.db
    .update(archiveUses)
    .set({ frames: { file: 'nonsense', ranges: [] } as never })
    .where(sql`archive_file_id IN (SELECT id FROM archive_files WHERE payload_path LIKE '%room.wav')`);
  await addRestore(site.db, { ...asked({ timelines: ['Reel 1'] }), now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(readdirSync(back()).sort()).toEqual([
    ...['deck_f000036.mov', 'note.mkv', 'pier_f000036.mp4', 'room.wav', 'torn.mov'],
  ]);
  expect(readFileSync(back('torn.mov')).equals(readFileSync(original('torn.mov')))).toBe(true);
  const parts = await site.db.select().from(stepParts).where(eq(stepParts.fileId, torn!.id));
  expect(parts[0]!.whyWhole).toBeTruthy();
  for (const { file } of referencesBack().media) expect([file, existsSync(file)]).toEqual([file, true]);
});

test('where one use alone leaves it open where the file begins, all uses of it say so', async () => {
  // Its timecode begins at one second, and its document counts from zero: frame 10 is only there if that is so.
  make('slate.mov', [...picture, '-c:v', 'mjpeg', '-timecode', '00:00:01:00']);
  const children = [timeline('Reel 3', [clip('slate.mov', 10), clip('slate.mov', 60)])];
  site.put('media/fog/fog.otio', JSON.stringify({ ...DOCUMENT, children }));
  await site.read(volume);
  await archived();
  await addRestore(site.db, { ...asked({ timelines: ['Reel 3'] }), now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(readdirSync(back()).sort()).toEqual(['slate_f000006.mov', 'slate_f000056.mov']);
  expect(pictures(back('slate_f000056.mov'))).toEqual(pictures(original('slate.mov')).slice(56, 69));
  const { media } = referencesBack();
  expect(media.map(({ file, available }) => [path.basename(file), available])).toEqual([
    ['slate_f000006.mov', [6, 13]],
    ['slate_f000056.mov', [56, 13]],
  ]);
});

test('of a sequence the stills come that are shown, with their numbers, and its document says from which on', async () => {
  for (let n = 1001; n <= 1100; n++) site.put(`media/fog/scan/fog_${n}.dpx`, `still ${n}`);
  const scan = (start: number, duration: number) => ({
    ...{ OTIO_SCHEMA: 'Clip.1', name: 'scan', source_range: range(start, duration) },
    media_reference: {
      ...{
        OTIO_SCHEMA: 'ImageSequenceReference.1',
        target_url_base: 'scan/',
        name_prefix: 'fog_',
        name_suffix: '.dpx',
      },
      ...{ start_frame: 1001, frame_step: 1, rate: 25, frame_zero_padding: 4, available_range: range(500, 100) },
    },
  });
  const children = [
    timeline('Reel 5', [scan(540, 5), clip('deck.mov', 40), scan(570, 2)]),
    timeline('Reel 6', [scan(590, 5)]),
  ];
  site.put('media/fog/fog.otio', JSON.stringify({ ...DOCUMENT, children }));
  await site.read(volume);
  await archived();
  const request = asked({ timelines: ['Reel 5'] });
  const whole = await restoreWeight(site.db, { ...request, handles: null });
  const about = await restoreWeight(site.db, request);
  // 13 stills around the first, 10 around the second.
  expect(whole.files - about.files).toBe(100 - 23);
  await addRestore(site.db, { ...request, now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  const stills = readdirSync(at('media/back/media'), { recursive: true, encoding: 'utf8' })
    .filter((name) => name.endsWith('.dpx'))
    .map((name) => Number(/(\d+)\.dpx$/.exec(name)![1]))
    .sort((a, b) => a - b);
  const from = (first: number, count: number) => Array.from({ length: count }, (_, i) => first + i);
  expect(stills).toEqual([...from(1037, 13), ...from(1067, 10)]);

  const reading = readOtio(readFileSync(at('media/back/documents/fog.otio'), 'utf8'));
  if (!reading.ok) throw new Error(reading.trouble.detail);
  const sequences = reading.document.media.filter((one) => one.stills);
  expect(
    sequences.map(({ stills: one, available }) => [one!.first, available!.range.start, available!.range.duration]),
  ).toEqual([
    [1037, 536, 13],
    [1067, 566, 10],
  ]);
  for (const { stills: one } of sequences)
    for (let ord = 0; ord < one!.count!; ord++) expect(existsSync(pathOfUrl(stillTarget(one!, ord)))).toBe(true);
  // A still that is asked for by itself comes too.
  const [named] = await site.db
    .select()
    .from(archiveFiles)
    .where(sql`payload_path LIKE '%fog_1099.dpx'`);
  const more = await restoreWeight(site.db, asked({ timelines: ['Reel 5'], files: [named!.id] }));
  expect(more.files).toBe(about.files + 1);
});

test('documents get the paths that a station has to the volume, however that writes them', async () => {
  await setMount(site.db, { volumeId: volume, station: 'Suite 2', path: 'R:\\' }, { who: 'Mara', now: new Date() });
  await archived();
  const request = { ...asked({ timelines: ['Reel 1'] }), station: 'Suite 2' };
  await expect(addRestore(site.db, { ...request, station: 'Suite 9', now: new Date() })).rejects.toThrow(
    /not known where Suite 9 has media.*Suite 2/,
  );
  await addRestore(site.db, { ...request, now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  const { media, timelines } = referencesBack();
  expect(timelines).toEqual(['Reel 1']);
  expect(media.length).toBe(5);
  for (const { file } of media) {
    expect(file).toMatch(/^R:\/back\/media\//);
    expect(existsSync(at('media', file.slice(3)))).toBe(true);
  }
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'project restored'));
  expect(receipt!.facts).toMatchObject({ pathsAsOn: 'Suite 2' });
});

test('ranges are those of timelines: without one nothing is added', async () => {
  await archived();
  await expect(addRestore(site.db, { ...asked({ files: [1] }), now: new Date() })).rejects.toThrow(/none is chosen/);
  expect((await currentPlan(site.db)).steps).toEqual([]);
});
