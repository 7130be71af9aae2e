// The demo site is the same for the same seed, costs little disk, and its media are true to plain tools.
import { execFile, execFileSync } from 'node:child_process';
import { promisify } from 'node:util';
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync, statSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { readDawproject } from '#core/documents/formats/dawproject.ts';
import type { MediaRef } from '#core/documents/model.ts';
import { stillTarget } from '#core/documents/stills.ts';
import { readEdl } from '#core/documents/formats/edl.ts';
import { readOtio } from '#core/documents/formats/otio.ts';
import { unzipSync } from 'fflate';
import { pathOfUrl } from '#core/documents/targets.ts';
import { essenceOf } from '#disk/documents/essence-source.ts';
import { labelText } from '#core/time/timecode.ts';
import { ofToday } from '#test/of-today.ts';
import { chance } from './chance.ts';
import { movHead } from './mov.ts';
import { type DemoSite, makeSite, MOUNTS, VOLUMES } from './site.ts';
import { wavHead } from './wav.ts';

const TODAY = new Date('2026-05-04T12:00:00Z');
let root: string;
let site: DemoSite;
beforeAll(() => {
  root = mkdtempSync(path.join(os.tmpdir(), 'demo-'));
  site = makeSite(path.join(root, 'one'), TODAY);
}, 60_000);
afterAll(() => rmSync(root, { recursive: true, force: true }));
const files = (name: string) =>
  readdirSync(path.join(root, name), { recursive: true, withFileTypes: true })
    .filter((e) => e.isFile())
    .map((e) => path.relative(path.join(root, name), path.join(e.parentPath, e.name)))
    .sort();
const probe = (file: string, entries: string) =>
  execFileSync('ffprobe', ['-v', 'error', '-show_entries', entries, '-of', 'json', path.join(root, 'one', file)], {
    encoding: 'utf8',
  });

test('the same seed makes the same site, another seed another', () => {
  makeSite(path.join(root, 'two'), TODAY);
  expect(files('two')).toEqual(files('one'));
  const facts = (name: string) =>
    files(name).map(
      (file) =>
        `${file} ${statSync(path.join(root, name, file)).size} ${statSync(path.join(root, name, file)).mtimeMs}`,
    );
  const withoutDocuments = (list: string[]) => list.filter((line) => !/\.(otio|dawproject) /.test(line));
  expect(withoutDocuments(facts('two'))).toEqual(withoutDocuments(facts('one')));
  expect([chance(1).next(), chance(2).next()]).not.toEqual([chance(1).next(), chance(1).next()]);
}, 60_000);

test('it says it holds what a facility holds, and costs next to nothing', () => {
  expect(site.files).toBe(files('one').length);
  if (site.shrink > 1) return;
  expect(site.bytes).toBeGreaterThan(500e9);
  const onDisk = files('one').reduce((sum, file) => sum + statSync(path.join(root, 'one', file)).blocks * 512, 0);
  expect(onDisk).toBeLessThan(60e6);
  expect(files('one').filter((file) => file.includes('cache')).length).toBeGreaterThan(36_000);
});

test('no file is younger than today, and every volume has some', () => {
  for (const file of files('one'))
    expect(statSync(path.join(root, 'one', file)).mtimeMs).toBeLessThanOrEqual(TODAY.getTime());
  for (const volume of VOLUMES) expect(files('one').some((file) => file.startsWith(`${volume.folder}/`))).toBe(true);
});

test('camera files have a picture track, a timecode and a first picture that decodes', () => {
  const file = files('one').find((name) => name.includes('/camera/B007C003'))!;
  const told = JSON.parse(
    probe(file, 'stream=codec_name,width,height,nb_frames,r_frame_rate:stream_tags=timecode,reel_name'),
  ) as { streams: Record<string, unknown>[] };
  expect(told.streams[0]).toMatchObject({ codec_name: 'mjpeg', width: 960, height: 540, r_frame_rate: '25/1' });
  expect(JSON.stringify(told)).toContain('"reel_name":"B007"');
  const picture = execFileSync(
    'ffmpeg',
    ['-v', 'error', '-i', path.join(root, 'one', file), '-frames:v', '1', '-f', 'rawvideo', '-pix_fmt', 'gray', '-'],
    { maxBuffer: 1 << 24 },
  );
  expect(picture.length).toBe(960 * 540);
  expect(new Set(picture).size).toBeGreaterThan(3);
});

test('sound files have their length and time reference', () => {
  const file = files('one').find((name) => name.endsWith('deck_wind.wav'))!;
  const told = JSON.parse(
    probe(file, 'stream=codec_name,sample_rate,channels,duration:format_tags=time_reference'),
  ) as { streams: Record<string, unknown>[]; format: { tags: Record<string, string> } };
  expect(told.streams[0]).toMatchObject({ codec_name: 'pcm_s24le', sample_rate: '48000', channels: 2 });
  expect(Number(told.format.tags.time_reference)).toBeGreaterThanOrEqual(0);
});

/** A path as any station of the demo writes it, as a file of this site. */
function placeOf(target: string): string {
  const plain = pathOfUrl(target);
  const mount = MOUNTS.find((each) => plain.startsWith(each.path));
  if (!mount) return plain;
  const folder = VOLUMES.find((volume) => volume.name === mount.volume)!.folder;
  const inside = plain.slice(mount.path.length).replaceAll('\\', '/');
  return path.join(root, 'one', folder, inside);
}

const targetsOf = ({ target, stills }: MediaRef): string[] =>
  stills
    ? Array.from({ length: stills.count ?? 1 }, (_, ord) => stillTarget(stills, ord))
    : target === null
      ? []
      : [target];

test('every document reads; what it names is there, but for three clips, three stills and one half document', () => {
  const missing: string[] = [];
  const broken: string[] = [];
  // What lies on an old disk names the places of another house.
  const own = files('one').filter((name) => !name.startsWith('carriers/') && !name.includes('autosaves'));
  for (const file of own.filter((name) => name.endsWith('.otio'))) {
    const reading = readOtio(readFileSync(path.join(root, 'one', file), 'utf8'));
    if (!reading.ok) {
      broken.push(path.basename(file));
      continue;
    }
    expect(reading.document.timelines.length).toBeGreaterThanOrEqual(3);
    for (const media of reading.document.media)
      for (const target of targetsOf(media)) if (!existsSync(placeOf(target))) missing.push(media.name);
  }
  expect(missing.sort()).toEqual([
    'chart_of_the_bay',
    'keeper_portrait_07',
    'lighthouse_model_02',
    'tt_020_plate',
    'tt_020_plate',
    'tt_020_plate',
  ]);
  expect(broken).toEqual(['quayside cut old.otio']);
});

test('the edit list and the sound session read as well', () => {
  const text = (name: string) => readFileSync(path.join(root, 'one/ropewalk-projects', name));
  const list = readEdl(text('gannet-rock/gannet rock cut 3.edl').toString());
  if (!list.ok) throw new Error(list.trouble.detail);
  expect(list.document.timelines[0]!.uses).toHaveLength(6);
  const zip = unzipSync(text('lamp-keepers/lamp-keepers mix.dawproject'));
  const mix = readDawproject(Buffer.from(zip['project.xml']!).toString(), () => false);
  if (!mix.ok) throw new Error(mix.trouble.detail);
  expect(mix.document.media.every((media) => existsSync(media.target!))).toBe(true);
  expect(mix.document.timelines[0]!.uses).toHaveLength(6);
});

test('what is read of every media file is what a plain tool reads of it', async () => {
  const media = files('one').filter(
    (file) => /\.(mov|mp4|wav)$/.test(file) && !file.includes('titles/house') && !file.endsWith('matte.mov'),
  );
  expect(media.length).toBeGreaterThan(140);
  const wrong: string[] = [];
  const check = async (file: string) => {
    const place = path.join(root, 'one', file);
    const { reading } = essenceOf(place);
    if (!reading.ok) return void wrong.push(`${file}: ${reading.trouble.detail}`);
    const { stdout } = await promisify(execFile)('ffprobe', [
      '-v',
      'error',
      '-show_entries',
      'stream=codec_type,width,height,nb_frames,avg_frame_rate,sample_rate,channels,duration_ts:stream_tags=timecode',
      '-of',
      'json',
      place,
    ]);
    const { streams } = JSON.parse(stdout) as { streams: Record<string, string & number>[] };
    const ours = reading.essence.tracks.map((track) =>
      track.is === 'picture'
        ? `${track.width}x${track.height} ${track.frames} ${track.rate!.num}/${track.rate!.den}`
        : `${track.sampleRate} ${track.channels} ${track.samples}`,
    );
    const theirs = streams.flatMap((stream) =>
      stream.codec_type === 'video'
        ? [`${stream.width}x${stream.height} ${stream.nb_frames} ${stream.avg_frame_rate}`]
        : stream.codec_type === 'audio'
          ? [`${stream.sample_rate} ${stream.channels} ${stream.duration_ts}`]
          : [],
    );
    if (ours.join() !== theirs.join()) wrong.push(`${file}: ${ours.join()} is not ${theirs.join()}`);
    const { start } = reading.essence;
    const code = (streams.find((stream) => stream.tags)?.tags as unknown as Record<string, string> | undefined)
      ?.timecode;
    if (start && labelText(start.frame, start.rate, start.dropFrame) !== code)
      wrong.push(`${file}: ${start.frame}, ${code}`);
  };
  const waiting = ofToday(media, 3);
  await Promise.all(
    Array.from({ length: 4 }, async () => {
      for (let file = waiting.pop(); file; file = waiting.pop()) await check(file);
    }),
  );
  expect(wrong).toEqual([]);
}, 120_000);

test('heads say the length they belong to', () => {
  const { head, firstFrameAt, fileBytes } = movHead({
    frames: 60,
    frameBytes: 1000,
    fps: 25,
    width: 16,
    height: 16,
    startFrame: 90_000,
    reel: 'A001',
  });
  expect(head.length).toBe(firstFrameAt);
  expect(fileBytes).toBe(firstFrameAt + 60_000);
  const wav = wavHead(600, 'x', 48_000);
  expect(wav.readUInt32LE(4)).toBe(wav.length - 8 + 600);
});
