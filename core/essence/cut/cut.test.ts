// Media of many sorts, written by general tools in the run, are cut to ranges of their frames. What is decoded of a cut must
// be what those frames of the source are, hash by hash; its timecode must be the source's and the offset; and ffprobe must
// open it without a word.
import { execFileSync, spawnSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import fc from 'fast-check';
import { ofToday } from '#test/of-today.ts';
import { memorySource } from '../bytes.ts';
import { readEssence } from '../essence.ts';
import { CannotCut, cutFile, type Frames, framesOf } from './cut.ts';
import { made } from './recipe.ts';

const folder = mkdtempSync(path.join(os.tmpdir(), 'cutting-'));
afterAll(() => rmSync(folder, { recursive: true, force: true }));
const at = (name: string) => path.join(folder, name);

const picture = (rate: string, seconds = 3) => [
  ...['-f', 'lavfi', '-i', `testsrc2=size=96x64:rate=${rate}:duration=${seconds}`],
];
const tone = (channels = 1, seconds = 3, rate = 48_000) => [
  ...[
    '-f',
    'lavfi',
    '-i',
    `aevalsrc=${Array.from({ length: channels }, (_, i) => `sin(${300 + i * 70}*t*(1+t))`).join('|')}:s=${rate}:d=${seconds}`,
  ],
];
const INTRA = ['-c:v', 'mjpeg'];
const LONG = ['-c:v', 'libx264', '-preset', 'ultrafast', '-bf', '2', '-g', '12', '-x264-params', 'open-gop=0'];
const OPEN = [
  '-c:v',
  'libx264',
  '-preset',
  'ultrafast',
  '-bf',
  '2',
  '-g',
  '12',
  '-x264-params',
  'open-gop=1:b-adapt=0',
];
const MPEG4 = ['-c:v', 'mpeg4', '-bf', '2', '-g', '9'];

const FILES: Record<string, string[]> = {
  'intra-25.mov': [...picture('25'), ...tone(2), ...INTRA, '-c:a', 'pcm_s24le', '-timecode', '10:00:00:00'],
  'intra-2397.mov': [...picture('24000/1001'), ...tone(1), ...INTRA, '-c:a', 'pcm_s16le', '-timecode', '01:00:00:00'],
  'drop.mov': [...picture('30000/1001'), ...tone(8), ...INTRA, '-c:a', 'pcm_s24le', '-timecode', '00:59:59;20'],
  'fifty.mov': [...picture('50'), ...tone(2), ...INTRA, '-c:a', 'pcm_s16be', '-timecode', '09:59:58:40'],
  'sixty.mov': [...picture('60000/1001'), ...INTRA, '-timecode', '01:00:00;04'],
  'rdd36.mov': [...picture('25'), ...tone(2), '-c:v', 'prores_ks', '-c:a', 'pcm_s24le', '-timecode', '02:00:00:00'],
  'vc3.mov': [
    '-f',
    'lavfi',
    '-i',
    'testsrc2=size=1280x720:rate=25:duration=1',
    '-c:v',
    'dnxhd',
    '-b:v',
    '60M',
    '-pix_fmt',
    'yuv422p',
    '-timecode',
    '03:00:00:00',
  ],
  'png.mov': [...picture('24'), '-c:v', 'png'],
  'rle.mov': [...picture('24'), '-c:v', 'qtrle', '-g', '10'],
  'ffv1.mov': [...picture('25'), '-c:v', 'ffv1', '-strict', '-2', '-g', '5'],
  'mpeg2.mov': [...picture('25'), ...tone(2), '-c:v', 'mpeg2video', '-bf', '2', '-g', '12', '-c:a', 'pcm_s16le'],
  'long.mov': [...picture('25'), ...tone(2), ...LONG, '-c:a', 'pcm_s16le', '-timecode', '10:00:00:00'],
  'long.mp4': [...picture('30000/1001'), ...tone(2), ...LONG, '-c:a', 'aac', '-aac_pns', '0'],
  'open.mp4': [...picture('25'), ...OPEN],
  'open.mov': [...picture('24000/1001'), ...tone(6), ...OPEN, '-c:a', 'pcm_s24le', '-timecode', '01:00:00:00'],
  'hevc.mp4': [
    ...picture('25'),
    '-c:v',
    'libx265',
    '-preset',
    'ultrafast',
    '-x265-params',
    'log-level=none:open-gop=1:keyint=12:bframes=3',
    '-tag:v',
    'hvc1',
  ],
  'mpeg4.mp4': [...picture('25'), ...tone(1), ...MPEG4, '-c:a', 'aac', '-aac_pns', '0'],
  'vp9.mp4': [...picture('25', 2), '-c:v', 'libvpx-vp9', '-deadline', 'realtime', '-cpu-used', '8', '-g', '10'],
  'ac3.mov': [...picture('25'), ...tone(2), ...INTRA, '-c:a', 'ac3'],
  'aac.mov': [...picture('25'), ...tone(2), ...INTRA, '-c:a', 'aac', '-aac_pns', '0', '-timecode', '05:00:00:00'],
  'alac.mov': [...picture('25'), ...tone(2), ...INTRA, '-c:a', 'alac'],
  'front.mp4': [...picture('25'), ...tone(2), ...LONG, '-c:a', 'aac', '-aac_pns', '0', '-movflags', 'faststart'],
  'parts.mp4': [
    ...picture('25', 4),
    ...tone(1, 4),
    ...LONG,
    '-c:a',
    'aac',
    '-aac_pns',
    '0',
    '-movflags',
    'frag_keyframe+empty_moov',
  ],
  'parts-base.mp4': [
    ...picture('25', 4),
    ...tone(1, 4),
    ...OPEN,
    '-c:a',
    'aac',
    '-aac_pns',
    '0',
    '-movflags',
    'frag_keyframe+default_base_moof+empty_moov',
  ],
  'parts.mov': [
    ...picture('25', 3),
    ...tone(2),
    ...INTRA,
    '-c:a',
    'pcm_s16le',
    '-timecode',
    '02:00:00:00',
    '-movflags',
    'frag_keyframe+empty_moov',
  ],
  'scale.mov': [...picture('30000/1001'), ...INTRA, '-video_track_timescale', '600'],
  'fl32.mov': [...picture('25'), ...tone(2), ...INTRA, '-c:a', 'pcm_f32le'],
  'alaw.mov': [...picture('25'), ...tone(1), ...INTRA, '-c:a', 'pcm_alaw'],
  'ima.mov': [...picture('25'), ...tone(2), ...INTRA, '-c:a', 'adpcm_ima_qt'],
  'closed.mxf': [
    ...picture('25'),
    ...tone(2),
    ...['-c:v', 'mpeg2video', '-bf', '2', '-g', '9', '-flags', '+cgop', '-sc_threshold', '1000000000'],
    ...['-c:a', 'pcm_s16le', '-timecode', '10:00:00:00'],
  ],
  'drop.mxf': [
    ...picture('30000/1001'),
    ...tone(1),
    ...['-c:v', 'mpeg2video', '-g', '1', '-intra_vlc', '1', '-c:a', 'pcm_s24le', '-timecode', '00:59:59;20'],
  ],
  'vc3.mxf': [
    ...['-f', 'lavfi', '-i', 'testsrc2=size=1280x720:rate=25:duration=1', ...tone(8, 1)],
    ...['-c:v', 'dnxhd', '-b:v', '60M', '-pix_fmt', 'yuv422p', '-c:a', 'pcm_s24le', '-timecode', '03:00:00:00'],
  ],
  'j2k.mxf': [...picture('24', 1), ...tone(2, 1), '-c:v', 'jpeg2000', '-c:a', 'pcm_s24le'],
  'fifty.mxf': [...picture('50', 1), ...tone(2, 1), '-c:v', 'mpeg2video', '-g', '1', '-c:a', 'pcm_s16le'],
  'units.mxf': [
    ...['-f', 'lavfi', '-i', 'testsrc2=size=720x576:rate=25:duration=1', ...tone(4, 1)],
    ...['-c:v', 'mpeg2video', '-g', '1', '-pix_fmt', 'yuv422p', '-b:v', '30M', '-minrate', '30M', '-maxrate', '30M'],
    ...['-bufsize', '1.2M', '-rc_init_occupancy', '1.2M', '-intra_vlc', '1', '-qscale:v', '1'],
    ...['-c:a', 'pcm_s16le', '-f', 'mxf_d10'],
  ],
  'sound.mov': [...tone(2), '-c:a', 'pcm_s24le'],
  'sound.m4a': [...tone(2), '-c:a', 'aac', '-aac_pns', '0'],
};
const SOUNDS: Record<string, string[]> = {
  's16.wav': [...tone(2), '-c:a', 'pcm_s16le'],
  's24-mono.wav': [...tone(1), '-c:a', 'pcm_s24le'],
  'f32-8.wav': [...tone(8), '-c:a', 'pcm_f32le'],
  'u8.wav': [...tone(1, 3, 11_025), '-c:a', 'pcm_u8'],
  'large.wav': [...tone(2), '-c:a', 'pcm_s24le', '-rf64', 'always'],
  'bext.wav': [
    ...tone(1),
    '-c:a',
    'pcm_s24le',
    '-write_bext',
    '1',
    '-metadata',
    'time_reference=172800000',
    '-metadata',
    'description=slate',
  ],
  's16.aiff': [...tone(2), '-c:a', 'pcm_s16be'],
  's24.aiff': [...tone(1), '-c:a', 'pcm_s24be'],
  'f32.aiff': [...tone(2), '-c:a', 'pcm_f32be'],
};

const run = (program: string, args: string[]) =>
  execFileSync(program, args, { encoding: 'utf8', maxBuffer: 1 << 28, stdio: ['ignore', 'pipe', 'pipe'] });

beforeAll(() => {
  for (const [name, args] of Object.entries({ ...FILES, ...SOUNDS }))
    run('ffmpeg', ['-v', 'error', '-y', ...args, at(name)]);
  // Turned on its side, and begun within a group by an edit list.
  run('ffmpeg', [
    '-v',
    'error',
    '-y',
    '-i',
    at('long.mp4'),
    '-c',
    'copy',
    '-metadata:s:v',
    'rotate=90',
    at('turned.mp4'),
  ]);
  run('ffmpeg', ['-v', 'error', '-y', '-ss', '0.56', '-i', at('front.mp4'), '-c', 'copy', at('edited.mp4')]);
  run('ffmpeg', [
    '-v',
    'error',
    '-y',
    '-i',
    at('long.mov'),
    '-itsoffset',
    '0.4',
    '-i',
    at('s16.wav'),
    '-map',
    '0:v',
    '-map',
    '1:a',
    '-c',
    'copy',
    at('late.mov'),
  ]);
}, 240_000);

/** Hashes of all decoded frames of a stream, in the order of showing. */
const hashes = (file: string, stream: string): string[] =>
  run('ffmpeg', [
    '-v',
    'error',
    '-i',
    file,
    '-map',
    `0:${stream}`,
    '-fps_mode',
    'passthrough',
    '-f',
    'framehash',
    '-hash',
    'md5',
    '-',
  ])
    .split('\n')
    .filter((line) => line !== '' && !line.startsWith('#'))
    .map((line) => line.split(',').at(-1)!.trim());
const sound = (file: string, stream: number): Buffer =>
  execFileSync(
    'ffmpeg',
    ['-v', 'error', '-i', file, '-map', `0:a:${stream}`, '-f', 's32le', '-c:a', 'pcm_s32le', '-'],
    { maxBuffer: 1 << 28 },
  );

interface Stream {
  start_time: string;
  codec_type: string;
  codec_name: string;
  channels?: number;
  sample_rate?: string;
  tags?: { timecode?: string };
  side_data_list?: { rotation?: number }[];
}
function probe(file: string): { streams: Stream[]; format: Pick<Stream, 'tags'>; said: string } {
  const { stdout, stderr } = spawnSync(
    'ffprobe',
    ['-v', 'warning', '-show_streams', '-show_format', '-of', 'json', file],
    { encoding: 'utf8' },
  );
  return { ...(JSON.parse(stdout) as { streams: Stream[]; format: Pick<Stream, 'tags'> }), said: stderr };
}
const codeOf = ({ streams, format }: ReturnType<typeof probe>) =>
  [...streams, format].map((one) => one.tags?.timecode).find(Boolean) ?? null;

function cutInto(name: string, frames: Frames): { file: string; frames: Frames; sizeBytes: number } {
  const bytes = readFileSync(at(name));
  const source = memorySource(bytes);
  const cut = cutFile(source, frames);
  const file = at(`cut ${frames.from} ${frames.to} ${name}`);
  const out = made(source, cut).read(0, cut.sizeBytes);
  writeFileSync(file, out);
  expect(out.length).toBe(cut.sizeBytes);
  return { file, frames: cut.frames, sizeBytes: cut.sizeBytes };
}

const essenceOf = (file: string) => {
  const reading = readEssence(memorySource(readFileSync(file)));
  if (!reading.ok) throw new Error(reading.trouble.detail);
  return reading.essence;
};

let files = 0;
/** Ranges that begin and end everywhere: in a group, and one frame alone or at the end in turn. `CUTS=all` has them all, and more. */
function ranges(all: number): Frames[] {
  const within = { from: Math.floor(all / 3) + 1, to: Math.min(all, Math.floor(all / 3) + 18) };
  const alone = { from: Math.floor(all / 2), to: Math.floor(all / 2) + 1 };
  const atEnd = { from: all - 9, to: all };
  if (process.env.CUTS === 'all') return [{ from: 0, to: all }, { from: 0, to: 7 }, within, alone, atEnd];
  return [within, files++ % 2 === 0 ? alone : atEnd];
}

/** How much alike two stretches of sound are: 1 where they are the same. */
function likeness(a: Buffer, b: Buffer): number {
  const [x, y] = [a, b].map(
    (one) => new Int32Array(one.buffer.slice(one.byteOffset, one.byteOffset + (one.length & ~3))),
  ) as [Int32Array, Int32Array];
  let [both, left, right] = [0, 0, 0];
  for (let i = 0; i < Math.min(x.length, y.length); i++) {
    both += x[i]! * y[i]!;
    left += x[i]! ** 2;
    right += y[i]! ** 2;
  }
  return left === 0 && right === 0 ? 1 : both / Math.sqrt(left * right);
}

/** Codings whose decoder begins anew with each packet, so that decoded sound is the same to the bit. */
const EXACT = /^(pcm_|alac)/;

/** What a tool says of a source, asked once for all its cuts. */
function onceOf<Said>(ask: (name: string, stream: string) => Said): (name: string, stream?: string) => Said {
  const said = new Map<string, Said>();
  return (name, stream = '') => {
    const key = `${name} ${stream}`;
    if (!said.has(key)) said.set(key, ask(name, stream));
    return said.get(key)!;
  };
}
const sourceProbe = onceOf((name) => probe(at(name)));
const sourceHashes = onceOf((name, stream) => hashes(at(name), stream));
const sourceSound = onceOf((name, stream) => sound(at(name), Number(stream)));

function wrongIn(name: string, frames: Frames): string[] {
  const wrong: string[] = [];
  const source = sourceProbe(name);
  const { file, frames: kept } = cutInto(name, frames);
  const cut = probe(file);
  // A frame of JPEG that ends without its mark does so in the source as well.
  const said = cut.said.replace(/^.*EOI missing, emulating\n/gm, '');
  if (said !== '' && source.said === '') wrong.push(`ffprobe says ${said.trim()}`);
  const pictures = source.streams.filter((stream) => stream.codec_type === 'video');
  for (const i of pictures.keys()) {
    const wanted = sourceHashes(name, `v:${i}`).slice(kept.from, kept.to);
    const own = hashes(file, `v:${i}`);
    if (own.join() !== wanted.join())
      wrong.push(
        `picture: ${own.length} frames, ${wanted.length} wanted, the first ${wanted.findIndex((hash) => hash === own[0])}, equal ${own.filter((hash, n) => hash === wanted[n]).length}`,
      );
  }
  const { start, tracks } = essenceOf(file);
  const before = essenceOf(at(name));
  if ((before.start?.frame ?? null) !== (start ? start.frame - kept.from : null)) wrong.push('another start');
  if (codeOf(source) === null ? codeOf(cut) !== null : codeOf(cut) === null) wrong.push(`timecode ${codeOf(cut)}`);
  const rate = before.tracks.find((track) => track.is === 'picture')?.rate;
  const sounds = (of: typeof source) => of.streams.filter((one) => one.codec_type === 'audio');
  for (const [i, stream] of sounds(source).entries()) {
    const hz = Number(stream.sample_rate);
    const perFrame = rate ? (hz * rate.den) / rate.num : 1;
    const [all, own] = [sourceSound(name, String(i)), sound(file, i)];
    const width = 4 * stream.channels!;
    // Where the picture begins later than the sound does.
    const lead = pictures[0] ? (Number(pictures[0].start_time) - Number(stream.start_time)) * hz : 0;
    // Of fragments it writes the first packet as if it lasted as long as the picture waits; it holds 1024 samples.
    const told = name.startsWith('parts') && stream.codec_name === 'aac' ? lead - 1024 : 0;
    const from = Math.round(lead - told) + kept.from * perFrame;
    const length = own.length / width;
    const wanted = Math.min((kept.to - kept.from) * perFrame, all.length / width - from);
    const isExact = EXACT.test(stream.codec_name);
    // Of packets, the tool plays the last one whole.
    // Of less sound than a packet holds the tool plays nothing.
    if (!rate && !isExact && wanted < 1024) continue;
    if (
      length < wanted - 1.001 ||
      length > wanted + (isExact && stream.codec_name !== 'alac' && !name.startsWith('parts') ? 1.001 : 4096)
    )
      wrong.push(`sound ${i}: ${length} samples, not ${wanted}`);
    // Where a frame does not last a whole number of samples, it has one more or less.
    const isSame = (first: number) => {
      const part = all.subarray(first * width, (first + Math.floor(wanted)) * width);
      return isExact ? part.equals(own.subarray(0, part.length)) : likeness(part, own) > 0.999;
    };
    if (!isSame(Math.floor(from)) && !isSame(Math.ceil(from)))
      wrong.push(`sound ${i} (${stream.codec_name}) is other sound`);
  }
  if (tracks.length !== before.tracks.length) wrong.push(`${tracks.length} tracks, not ${before.tracks.length}`);
  rmSync(file);
  return wrong.map((line) => `${name} ${frames.from} to ${frames.to}: ${line}`);
}

test('what is decoded of a cut is what those frames of the source are, for every coding and container', () => {
  const wrong: string[] = [];
  let cuts = 0;
  for (const name of [...ofToday(Object.keys(FILES), 2), 'turned.mp4', 'edited.mp4']) {
    const all = framesOf(essenceOf(at(name)));
    for (const frames of ranges(all)) {
      cuts++;
      try {
        wrong.push(...wrongIn(name, frames));
      } catch (error) {
        wrong.push(`${name} ${frames.from} to ${frames.to}: ${String(error)}`);
      }
    }
  }
  process.stderr.write(`cutting: ${cuts} cuts, ${wrong.length} wrong\n`);
  expect(wrong).toEqual([]);
}, 600_000);

test('plain sound is cut to the sample, and the time reference goes along', () => {
  const wrong: string[] = [];
  for (const name of Object.keys(SOUNDS)) {
    const before = essenceOf(at(name));
    const all = framesOf(before);
    const width = 4 * (before.tracks[0] as { channels: number }).channels;
    const whole = sound(at(name), 0);
    for (const frames of ranges(all)) {
      const { file } = cutInto(name, frames);
      const { said } = probe(file);
      if (said !== '') wrong.push(`${name}: ${said}`);
      if (!sound(file, 0).equals(whole.subarray(frames.from * width, frames.to * width)))
        wrong.push(`${name} ${frames.from}: other sound`);
      const after = essenceOf(file);
      if (before.startSample !== null && after.startSample !== before.startSample + frames.from)
        wrong.push(`${name}: time reference ${after.startSample}`);
      rmSync(file);
    }
  }
  expect(wrong).toEqual([]);
}, 120_000);

test('what the tool itself copies of a range keeps the old timecode; a cut does not', () => {
  const copied = at('copied.mov');
  run('ffmpeg', ['-v', 'error', '-y', '-ss', '1', '-i', at('intra-25.mov'), '-t', '1', '-c', 'copy', copied]);
  expect(codeOf(probe(copied))).toBe('10:00:00:00');
  const { file } = cutInto('intra-25.mov', { from: 25, to: 50 });
  expect(codeOf(probe(file))).toBe('10:00:01:00');
  // Across the minute at which two labels are dropped.
  const { file: dropped } = cutInto('drop.mov', { from: 20, to: 60 });
  expect(codeOf(probe(dropped))).toBe('01:00:00;10');
});

test('sound that begins later than the picture does so in a cut as well', () => {
  const { file } = cutInto('late.mov', { from: 5, to: 30 });
  const stream = probe(file).streams.find((one) => one.codec_type === 'audio')!;
  expect(Number(stream.start_time)).toBeCloseTo(0.2, 6);
  const [own, all] = [sound(file, 0), sound(at('s16.wav'), 0)];
  const samples = 20 * 1920;
  expect(own.length).toBe(samples * 8);
  expect(own.equals(all.subarray(0, own.length))).toBe(true);
  // Where none is heard, none is kept.
  expect(essenceOf(cutInto('late.mov', { from: 0, to: 7 }).file).tracks).toHaveLength(1);
});

test('one label for two frames: what is kept begins with a whole one', () => {
  const bytes = readFileSync(at('fifty.mov'));
  const { start } = essenceOf(at('fifty.mov'));
  expect(start).not.toBeNull();
  const { frames } = cutFile(memorySource(bytes), { from: 11, to: 40 });
  expect(frames.to).toBe(40);
  expect([10, 11]).toContain(frames.from);
});

test('tracks of data stay behind where that is asked for, and nothing refers to them any more', () => {
  writeFileSync(at('words.srt'), '1\n00:00:00,000 --> 00:00:02,500\nsalt\n');
  const inputs = [...picture('25'), ...tone(1), '-i', at('words.srt'), '-map', '0', '-map', '1', '-map', '2'];
  const codings = [...INTRA, '-c:a', 'pcm_s16le', '-c:s', 'mov_text'];
  run('ffmpeg', ['-v', 'error', '-y', ...inputs, ...codings, at('data.mov')]);
  const bytes = readFileSync(at('data.mov'));
  // As recorders write it: a track of metadata beside the others.
  const handlers = [...bytes.toString('latin1').matchAll(/hdlr.{4}mhlr(text|sbtl)/gs)];
  expect(handlers).toHaveLength(1);
  bytes.write('meta', handlers[0]!.index + 12, 'latin1');
  const source = memorySource(bytes);
  const cutAs = (withoutData: boolean) => {
    const cut = cutFile(source, { from: 5, to: 30, withoutData });
    return Buffer.from(made(source, cut).read(0, cut.sizeBytes));
  };
  const kinds = (cut: Buffer) =>
    [...cut.toString('latin1').matchAll(/hdlr.{4}mhlr(.{4})/gs)].map(([, handler]) => handler);
  const [kept, dropped] = [cutAs(false), cutAs(true)];
  expect(kinds(kept)).toEqual(['vide', 'soun', 'meta']);
  expect(kinds(dropped)).toEqual(['vide', 'soun']);
  expect([kept.includes('salt'), dropped.includes('salt')]).toEqual([true, false]);
  writeFileSync(at('data-cut.mov'), dropped);
  expect(hashes(at('data-cut.mov'), 'v:0')).toEqual(hashes(at('data.mov'), 'v:0').slice(5, 30));
  expect(probe(at('data-cut.mov')).said).toBe('');
  // Text is read by people: it is no data.
  const said = memorySource(readFileSync(at('data.mov')));
  const text = cutFile(said, { from: 5, to: 30, withoutData: true });
  expect(kinds(Buffer.from(made(said, text).read(0, text.sizeBytes)))).toHaveLength(3);
});

test('whatever stands in a file, cutting it gives a true cut or a reason', () => {
  const names = ['intra-25.mov', 'open.mp4', 'parts.mp4', 'bext.wav', 's16.aiff', 'closed.mxf', 'drop.mxf'];
  const files = names.map((name) => readFileSync(at(name)).subarray(0, 60_000));
  const heads = names.map((name) => readFileSync(at(name)));
  fc.assert(
    fc.property(
      fc.integer({ min: 0, max: names.length - 1 }),
      fc.array(
        fc.tuple(fc.double({ min: 0, max: 1, noNaN: true, maxExcluded: true }), fc.integer({ min: 0, max: 255 })),
        { minLength: 1, maxLength: 6 },
      ),
      fc.boolean(),
      (which, changes, isShort) => {
        const bytes = Buffer.from(isShort ? files[which]! : heads[which]!);
        for (const [place, value] of changes) {
          // Structure lies at the ends.
          const at =
            place < 0.5 ? Math.floor(place * 2 * 2000) : bytes.length - 1 - Math.floor((place - 0.5) * 2 * 4000);
          if (at >= 0 && at < bytes.length) bytes[at] = value;
        }
        try {
          const source = memorySource(bytes);
          const cut = cutFile(source, { from: 3, to: 20 });
          expect(made(source, cut).read(0, cut.sizeBytes).length).toBe(cut.sizeBytes);
        } catch (error) {
          if (!(error instanceof CannotCut)) throw error;
        }
      },
    ),
    // A chunk in the middle that is said to lie beyond the end, which neither the first nor the last sample shows.
    { numRuns: 300, examples: [[2, [[0.32675, 1]], false]] },
  );
}, 120_000);

test('what leaves a doubt how it is shown stays whole, with the reason', () => {
  const bytes = readFileSync(at('intra-25.mov'));
  const list = bytes.indexOf('elst');
  const twice = Buffer.from(bytes);
  twice.writeInt32BE(0x20000, list + 4 + 8 + 8);
  expect(() => cutFile(memorySource(twice), { from: 3, to: 20 })).toThrow('its edit list changes how fast it is shown');
  const elsewhere = Buffer.from(bytes);
  const url = elsewhere.indexOf('url ', elsewhere.indexOf('dref', elsewhere.indexOf('vide')));
  elsewhere.writeUInt32BE(0, url + 4);
  expect(() => cutFile(memorySource(elsewhere), { from: 3, to: 20 })).toThrow('its samples lie in another file');
  expect(() => cutFile(memorySource(bytes), { from: 70, to: 90 })).toThrow('are not all in it');
  expect(() => cutFile(memorySource(bytes.subarray(0, 5000)), { from: 3, to: 20 })).toThrow(CannotCut);
  const mxf = readFileSync(at('drop.mxf'));
  // A value of its metadata under a number that nobody knows: which package it is of, its tracks, where a track leads, its own mark.
  const without = (tag: string) => {
    const changed = Buffer.from(mxf);
    const value = Buffer.from(tag, 'hex');
    for (let i = changed.indexOf(value); i >= 0 && i < 20_000; i = changed.indexOf(value, i + 1))
      changed.writeUInt16BE(0x8fff, i);
    return () => cutFile(memorySource(changed), { from: 3, to: 20 });
  };
  for (const tag of ['27010020', '44010020', '48030010']) expect(without(tag)).toThrow(CannotCut);
  expect(without('11010020')).not.toThrow(TypeError);
  // Nothing but its first half, of another pattern, or without the table.
  expect(() => cutFile(memorySource(mxf.subarray(0, mxf.length >> 1)), { from: 3, to: 20 })).toThrow(CannotCut);
  const atom = Buffer.from(mxf);
  atom[atom.indexOf(Buffer.from('060e2b34040101010d01020101', 'hex')) + 12] = 0x10;
  expect(() => cutFile(memorySource(atom), { from: 3, to: 20 })).toThrow('no MXF of a single item');
  const bare = Buffer.from(mxf);
  const index = Buffer.from('060e2b34025301010d01020101100100', 'hex');
  for (let i = bare.indexOf(index); i >= 0; i = bare.indexOf(index, i + 1)) bare[i + 13] = 0x7f;
  expect(() => cutFile(memorySource(bare), { from: 3, to: 20 })).toThrow('it has no index table');
});

test('a part beyond four gigabytes has long places, and they are right', () => {
  // Frames of a hole: a movie whose samples lie far apart, read from a source that has nothing but its head.
  const small = readFileSync(at('png.mov'));
  const reading = cutFile(memorySource(small), { from: 0, to: 40 });
  const head = (reading.pieces[0] as { bytes: Uint8Array }).bytes;
  // The same movie with every frame 200 MB large: its table of sizes says so, and nothing is there to be read but the tables.
  const big = Buffer.from(head);
  const sizes = big.indexOf('stsz');
  const count = big.readUInt32BE(sizes + 12);
  for (let n = 0; n < count; n++) big.writeUInt32BE(200_000_000, sizes + 16 + n * 4);
  const size = big.length + count * 200_000_000;
  const source = {
    size,
    read: (place: number, length: number) => {
      const out = new Uint8Array(Math.max(0, Math.min(length, size - place)));
      if (place < big.length) out.set(big.subarray(place, Math.min(big.length, place + out.length)));
      return out;
    },
  };
  big.writeBigUInt64BE(BigInt(16 + count * 200_000_000), big.lastIndexOf('mdat') + 4);
  const cut = cutFile(source, { from: 2, to: 38 });
  expect(cut.sizeBytes).toBeGreaterThan(36 * 200_000_000);
  const after = readEssence(made(source, cut));
  expect(after.ok && framesOf(after.essence)).toBe(36);
  expect(Buffer.from((cut.pieces[0] as { bytes: Uint8Array }).bytes).includes('co64')).toBe(true);
});
