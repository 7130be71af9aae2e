// A corpus written in the run by a general tool, over containers, codings, rates, timecodes, edit lists and fragments. What
// is read of it must be what ffprobe says, field by field; and the samples of its frames must be the packets that ffprobe
// finds, to the byte. Differences are explained one by one in EXPLAINED.
import { execFileSync } from 'node:child_process';
import { closeSync, fstatSync, mkdtempSync, openSync, readSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { ofToday } from '#test/of-today.ts';
import type { ByteSource } from './bytes.ts';
import { readEssence } from './essence.ts';
import { readSamples, type TrackSamples } from './samples.ts';

const folder = mkdtempSync(path.join(os.tmpdir(), 'corpus-'));
afterAll(() => rmSync(folder, { recursive: true, force: true }));

interface Made {
  name: string;
  args: string[];
}
const picture = (rate: string, seconds = 2) => [
  '-f',
  'lavfi',
  '-i',
  `testsrc2=size=96x64:rate=${rate}:duration=${seconds}`,
];
const tone = (rate: number, channels = 1, seconds = 2) => [
  ...['-f', 'lavfi', '-i', `sine=frequency=440:sample_rate=${rate}:duration=${seconds}`],
  ...(channels > 1 ? ['-ac', String(channels)] : []),
];
const RATES = ['24', '25', '30', '50', '60', '24000/1001', '30000/1001', '60000/1001', '12.5'];
const CODINGS: [string, string[]][] = [
  ['mjpeg', ['-c:v', 'mjpeg']],
  ['h264', ['-c:v', 'libx264', '-preset', 'ultrafast', '-bf', '2', '-g', '12', '-x264-params', 'open-gop=1']],
  ['closed', ['-c:v', 'libx264', '-preset', 'ultrafast', '-bf', '0', '-g', '12']],
  ['mpeg4', ['-c:v', 'mpeg4', '-bf', '2', '-g', '9']],
  ['png', ['-c:v', 'png']],
  ['vp9', ['-c:v', 'libvpx-vp9', '-deadline', 'realtime', '-cpu-used', '8']],
];
const slug = (text: string) => text.replace(/[^\w.]+/g, '_');

const FILES: Made[] = [
  ...RATES.flatMap((rate) =>
    CODINGS.slice(0, 4).map(([name, args]): Made => ({
      name: `${name}-${slug(rate)}.mov`,
      args: [...picture(rate), ...args],
    })),
  ),
  ...RATES.map((rate): Made => ({
    name: `both-${slug(rate)}.mp4`,
    args: [...picture(rate), ...tone(48_000), ...CODINGS[1]![1], '-c:a', 'aac'],
  })),
  ...CODINGS.flatMap(([name, args]) =>
    (name === 'png' ? ['mov'] : ['mp4']).map((ending): Made => ({
      name: `long-${name}.${ending}`,
      args: [...picture('25', 6), ...args],
    })),
  ),
  ...['600', '1000', '12800', '90000'].flatMap((scale) =>
    ['24000/1001', '30000/1001', '25'].map((rate): Made => ({
      name: `scale-${scale}-${slug(rate)}.mov`,
      args: [...picture(rate, 8), '-c:v', 'mjpeg', '-video_track_timescale', scale],
    })),
  ),
  ...[
    'frag_keyframe+empty_moov',
    'frag_every_frame+empty_moov',
    'frag_keyframe+default_base_moof+empty_moov',
    'frag_keyframe',
    'dash',
    'cmaf',
  ].flatMap((flags) => [
    {
      name: `parts-${slug(flags)}.mp4`,
      args: [...picture('25', 4), ...tone(48_000, 1, 4), ...CODINGS[1]![1], '-c:a', 'aac', '-movflags', flags],
    },
    {
      name: `parts-${slug(flags)}-mpeg4.mp4`,
      args: [...picture('30000/1001', 3), ...CODINGS[3]![1], '-movflags', flags],
    },
  ]),
  { name: 'front.mp4', args: [...picture('25'), ...CODINGS[1]![1], '-movflags', 'faststart'] },
  ...['10:00:00:00', '00:00:00:00', '23:59:58:10'].map((code): Made => ({
    name: `code-${slug(code)}.mov`,
    args: [...picture('25'), '-c:v', 'mjpeg', '-timecode', code],
  })),
  ...['01:00:00;02', '00:59:59;28'].map((code): Made => ({
    name: `drop-${slug(code)}.mov`,
    args: [...picture('30000/1001'), '-c:v', 'mjpeg', '-timecode', code],
  })),
  { name: 'code-60.mov', args: [...picture('60000/1001'), '-c:v', 'mjpeg', '-timecode', '01:00:00;04'] },
  {
    name: 'code-parts.mov',
    args: [...picture('25', 3), '-c:v', 'mjpeg', '-timecode', '02:00:00:00', '-movflags', 'frag_keyframe+empty_moov'],
  },
  ...[
    'pcm_s16le',
    'pcm_s24le',
    'pcm_s32le',
    'pcm_f32le',
    'pcm_s16be',
    'pcm_alaw',
    'pcm_mulaw',
    'adpcm_ima_qt',
    'alac',
    'aac',
    'ac3',
  ].flatMap((coding) =>
    [1, 2].map((channels): Made => ({
      name: `sound-${coding}-${channels}.mov`,
      args: [...tone(48_000, channels), '-c:a', coding],
    })),
  ),
  ...['ac3', 'eac3'].map((coding): Made => ({
    name: `sound-51-${coding}.mp4`,
    args: [...tone(48_000, 6), '-c:a', coding],
  })),
  { name: 'sound-21.mov', args: [...tone(48_000), '-af', 'pan=2.1|c0=c0|c1=c0|c2=c0', '-c:a', 'aac'] },
  { name: 'sound-51.mp4', args: [...tone(48_000, 6), '-c:a', 'aac'] },
  { name: 'sound-71.mp4', args: [...tone(48_000, 8), '-c:a', 'aac'] },
  ...[8000, 11_025, 22_050, 32_000, 44_100, 96_000].map((rate): Made => ({
    name: `rate-${rate}.mp4`,
    args: [...tone(rate), '-c:a', 'aac'],
  })),
  ...[44_100, 88_200, 96_000, 192_000].map((rate): Made => ({
    name: `rate-${rate}.mov`,
    args: [...tone(rate), '-c:a', 'pcm_s24le'],
  })),
  ...[
    'pcm_u8',
    'pcm_s16le',
    'pcm_s24le',
    'pcm_s32le',
    'pcm_f32le',
    'pcm_f64le',
    'pcm_alaw',
    'pcm_mulaw',
    'adpcm_ms',
    'adpcm_ima_wav',
    'libmp3lame',
    'mp2',
  ].flatMap((coding) =>
    [1, 2].map((channels): Made => ({
      name: `wav-${coding}-${channels}.wav`,
      args: [...tone(44_100, channels), '-c:a', coding],
    })),
  ),
  { name: 'rf64.wav', args: [...tone(48_000), '-c:a', 'pcm_s24le', '-rf64', 'always'] },
  {
    name: 'bext.wav',
    args: [...tone(48_000), '-c:a', 'pcm_s24le', '-write_bext', '1', '-metadata', 'time_reference=172800000'],
  },
  ...['pcm_s16be', 'pcm_s24be', 'pcm_s32be', 'pcm_f32be', 'pcm_f64be', 'pcm_alaw', 'pcm_mulaw', 'pcm_s16le'].flatMap(
    (coding) =>
      [1, 2].map((channels): Made => ({
        name: `aiff-${coding}-${channels}.aiff`,
        args: [...tone(44_100, channels), '-c:a', coding],
      })),
  ),
  { name: 'mpeg2.mxf', args: [...picture('25'), ...tone(48_000), '-c:v', 'mpeg2video', '-c:a', 'pcm_s16le'] },
  { name: 'h264.mxf', args: [...picture('25'), ...CODINGS[2]![1]] },
  ...['dpx', 'tiff', 'png', 'jpg', 'exr'].map((ending): Made => ({
    name: `still.${ending}`,
    args: [...picture('25'), '-frames:v', '1', '-update', '1', ...(ending === 'exr' ? ['-pix_fmt', 'gbrpf32le'] : [])],
  })),
];

/** Sound by another writer, which leaves other chunks and other headers. */
const BY_SOX: Made[] = [8000, 44_100, 48_000, 96_000].flatMap((rate) =>
  [
    ['wav', '-b', '8', '-e', 'unsigned-integer'],
    ['wav', '-b', '16', '-e', 'signed-integer'],
    ['wav', '-b', '24', '-e', 'signed-integer'],
    ['wav', '-b', '32', '-e', 'floating-point'],
    ['wav', '-e', 'ms-adpcm'],
    ['wav', '-e', 'a-law'],
    ['aiff', '-b', '16'],
    ['aiff', '-b', '24'],
    ['aifc', '-b', '16'],
  ].map(([ending, ...coding]): Made => ({
    name: `sox-${coding.at(-1)}-${coding[1]}-${rate}.${ending}`,
    args: ['-n', '-r', String(rate), '-c', '2', ...coding, '', 'synth', '1.5', 'sine', '440'],
  })),
);
/** Stills by another writer. */
const BY_NETPBM: [ending: string, command: string][] = [
  ['png', 'pnmtopng'],
  ['tif', 'pnmtotiff'],
  ['tiff', 'pnmtotiff -lzw -truecolor'],
  ['jpg', 'pnmtojpeg'],
  ['jpeg', 'pnmtojpeg -progressive'],
];

/** Made only by some builds of the tool: their absence is no fault of ours. */
const made: string[] = [];
/** Edit lists as a cut makes them: the packets begin at the key frame, the picture where it was asked. */
const CUTS = ['0.5', '1.3', '2.04'];

beforeAll(() => {
  const run = (args: string[]) =>
    execFileSync('ffmpeg', ['-v', 'error', '-y', ...args], { stdio: ['ignore', 'ignore', 'pipe'] });
  for (const { name, args } of FILES)
    try {
      run([...args, path.join(folder, name)]);
      made.push(name);
    } catch (error) {
      if (
        !/Unknown encoder|Could not find tag|not supported|Error selecting an encoder|Unable to find a suitable|does not support/i.test(
          String(error),
        )
      )
        throw error;
    }
  for (const { name, args } of BY_SOX) {
    execFileSync(
      'sox',
      args.map((arg) => (arg === '' ? path.join(folder, name) : arg)),
      { stdio: 'pipe' },
    );
    made.push(name);
  }
  for (const [i, [ending, command]] of BY_NETPBM.entries()) {
    const name = `still-netpbm-${i}.${ending}`;
    execFileSync(
      'sh',
      ['-c', `ppmrainbow -width 70 -height 50 red blue | ${command} > "$1"`, 'sh', path.join(folder, name)],
      { stdio: 'pipe' },
    );
    made.push(name);
  }
  for (const [i, from] of CUTS.entries()) {
    const name = `edit-${i}.mp4`;
    run(['-ss', from, '-i', path.join(folder, 'long-h264.mp4'), '-t', '2', '-c', 'copy', path.join(folder, name)]);
    made.push(name);
  }
}, 300_000);

function withSource<T>(name: string, look: (source: ByteSource) => T): T {
  const fd = openSync(path.join(folder, name), 'r');
  try {
    const { size } = fstatSync(fd);
    return look({
      size,
      read(at, length) {
        const bytes = Buffer.alloc(Math.max(0, Math.min(length, size - at)));
        return bytes.subarray(0, readSync(fd, bytes, 0, bytes.length, at));
      },
    });
  } finally {
    closeSync(fd);
  }
}

interface Stream {
  index: number;
  codec_type: string;
  codec_tag_string: string;
  width?: number;
  height?: number;
  r_frame_rate: string;
  avg_frame_rate: string;
  nb_frames?: string;
  channels?: number;
  sample_rate?: string;
  duration_ts?: number;
  time_base: string;
  tags?: { timecode?: string };
}
const ffprobe = (name: string, ...args: string[]) =>
  JSON.parse(
    execFileSync('ffprobe', ['-v', 'error', ...args, '-of', 'json', path.join(folder, name)], {
      encoding: 'utf8',
      maxBuffer: 1 << 28,
    }),
  ) as unknown;

const shownPackets = (name: string): number =>
  (ffprobe(name, '-show_packets', '-select_streams', 'v:0') as { packets: Packet[] }).packets.filter(
    (packet) => !packet.flags.includes('D'),
  ).length;

/** What ffprobe says differently, and why ours stands. */
const EXPLAINED: Record<string, (name: string) => boolean> = {
  // A frame that begins before an edit and goes on in it is shown from there (ISO/IEC 14496-12, 8.6.6); ffprobe drops it.
  frames: (name) => ['edit-0.mp4', 'edit-1.mp4'].includes(name),
  // Its edit list ends where its media ends, told in thousandths of a second: the media says it to the sample.
  // Of packed sound in WAV ffprobe guesses from the bit rate, the fact chunk says.
  samples: (name) => /^sound-(51-e?)?ac3/.test(name) || /^wav-(libmp3lame|mp2|adpcm)/.test(name),
};

test('of at least 150 files size, rate, channels and length are what ffprobe says', () => {
  expect(made.length).toBeGreaterThanOrEqual(150);
  const wrong: string[] = [];
  let fields = 0;
  let explained = 0;
  for (const name of made) {
    const reading = withSource(name, readEssence);
    if (!reading.ok) {
      wrong.push(`${name}: ${reading.trouble.detail}`);
      continue;
    }
    const { tracks } = reading.essence;
    const { streams, format } = ffprobe(name, '-show_streams', '-show_format') as {
      streams: Stream[];
      format: Pick<Stream, 'tags'>;
    };
    const same = (what: string, own: unknown, theirs: unknown) => {
      fields++;
      if (Object.is(own, theirs)) return;
      if (EXPLAINED[what]?.(name)) explained++;
      else wrong.push(`${name}: ${what} ${String(own)}, ffprobe ${String(theirs)}`);
    };
    const of = (type: string) => streams.filter((stream) => stream.codec_type === type);
    const pictures = tracks.filter((track) => track.is === 'picture');
    const sounds = tracks.filter((track) => track.is === 'sound');
    same('pictures', pictures.length, of('video').length);
    same('sounds', sounds.length, of('audio').length);
    for (const [i, stream] of of('video').entries()) {
      const track = pictures[i];
      if (!track) continue;
      same('width', track.width, stream.width);
      same('height', track.height, stream.height);
      if (name.startsWith('still')) continue;
      const [num, den] = stream.r_frame_rate.split('/').map(Number) as [number, number];
      same('rate', track.rate && `${track.rate.num}/${track.rate.den}`, `${num}/${den}`);
      // What an edit list leaves out is not shown: ffprobe counts it all the same, and marks its packets as discarded.
      if (name.startsWith('edit') || name.startsWith('parts')) same('frames', track.frames, shownPackets(name));
      else if (stream.nb_frames) same('frames', track.frames, Number(stream.nb_frames));
    }
    for (const [i, stream] of of('audio').entries()) {
      const track = sounds[i];
      if (!track) continue;
      same('channels', track.channels, stream.channels);
      same('sample rate', track.sampleRate, Number(stream.sample_rate));
      const [a, b] = stream.time_base.split('/').map(Number) as [number, number];
      const samples =
        stream.duration_ts === undefined ? null : Math.round((stream.duration_ts * a * track.sampleRate) / b);
      // Of fragments ffprobe tells no length: their samples are compared with its packets below.
      if (samples !== null && !name.startsWith('parts')) same('samples', track.samples, samples);
    }
    // Pictures that are shown out of their order are shown until the last is, which is later than all are decoded.
    const [first] = pictures;
    const length = reading.essence.duration;
    if (/^(long|both)-/.test(name) && first?.rate && length)
      same('length', Math.round((length.num * first.rate.num) / (length.den * first.rate.den)), first.frames);
    const code = [...streams, format].map((one) => one.tags?.timecode).find(Boolean);
    if (code && reading.essence.start && pictures[0]?.rate) {
      const [h, m, s, f] = code.split(/[:;]/).map(Number) as [number, number, number, number];
      const base = Math.round(pictures[0].rate.num / pictures[0].rate.den);
      const drop = code.includes(';') ? (base / 15) * (h * 60 + m - Math.floor((h * 60 + m) / 10)) : 0;
      same('start', reading.essence.start.frame, ((h * 60 + m) * 60 + s) * base + f - drop);
    } else if (code || reading.essence.start) same('start', reading.essence.start?.frame ?? null, code ?? null);
  }
  process.stderr.write(
    `corpus: ${made.length} files, ${fields} fields, ${explained} explained, ${wrong.length} wrong\n`,
  );
  expect(wrong).toEqual([]);
}, 300_000);

interface Packet {
  stream_index: number;
  pts?: number;
  dts?: number;
  duration?: number;
  size: string;
  pos?: string;
  flags: string;
}

/** Ranges of frames: what is cut is the packets that show them, from a key packet on, and every byte of those. */
function rangesOf(track: TrackSamples, packets: readonly Packet[]): string[] {
  // In the order of showing; what an edit list leaves out is not counted.
  if (track.shown !== packets.length) return [];
  const order = packets.map((packet, n) => ({ n, pts: packet.pts ?? 0 })).sort((a, b) => a.pts - b.pts || a.n - b.n);
  const all = track.shown;
  const wrong: string[] = [];
  const ranges = [
    [0, 1],
    [0, all],
    [Math.floor(all / 3), Math.floor(all / 3) + 5],
    [Math.floor(all / 2), Math.floor(all / 2) + 1],
    [all - 1, all],
  ] as const;
  for (const [from, to] of ranges.filter(([a, b]) => a >= 0 && b <= all)) {
    ranged++;
    const cut = track.cut(from, to);
    const wanted = order.slice(from, to).map(({ n }) => n);
    const { shown } = cut;
    const own =
      'length' in shown ? [...shown] : Array.from({ length: shown.to - shown.from }, (_, k) => shown.from + k);
    if (JSON.stringify(own) !== JSON.stringify(wanted))
      wrong.push(`frames ${from} to ${to} are ${own.join()}, not ${wanted.join()}`);
    const inside = packets.slice(cut.from, cut.to);
    const bytes = inside.reduce((sum, packet) => sum + Number(packet.size), 0);
    if (cut.bytes !== bytes) wrong.push(`frames ${from} to ${to} take ${cut.bytes} bytes, not ${bytes}`);
    if (!inside[0]!.flags.includes('K')) wrong.push(`frames ${from} to ${to} begin with no key packet`);
    // What is shown before its key packet needs the group before.
    const isLeading = wanted.some((n) => {
      const key = packets.findLastIndex((packet, k) => k <= n && packet.flags.includes('K'));
      return key > 0 && key === cut.from && (packets[n]!.pts ?? 0) < (packets[key]!.pts ?? 0);
    });
    if (isLeading) wrong.push(`frames ${from} to ${to} begin at a key packet that cannot show its leading ones`);
    const within = (packet: Packet) =>
      cut.pieces.some(
        ({ at, length }) => Number(packet.pos) >= at && Number(packet.pos) + Number(packet.size) <= at + length,
      );
    if (!inside.every(within)) wrong.push(`frames ${from} to ${to}: a packet is not in the pieces`);
  }
  return wrong;
}
let ranged = 0;

test('the samples of frames are the packets that ffprobe finds, to the byte', () => {
  const files = ofToday(
    made.filter((name) => /\.(mov|mp4|wav|aiff)$/.test(name)),
    2,
  );
  let compared = 0;
  let samples = 0;
  const wrong: string[] = [];
  for (const name of files) {
    let tracks: ReturnType<typeof readSamples>;
    try {
      tracks = withSource(name, readSamples);
    } catch (error) {
      // Packed sound outside of MOV and MP4 has no frames to cut by.
      if (!/not plain samples/.test(String(error))) throw error;
      continue;
    }
    compared++;
    const { packets } = ffprobe(name, '-show_packets', '-ignore_editlist', '1') as { packets: Packet[] };
    for (const [i, track] of tracks.entries()) {
      const own = packets.filter((packet) => packet.stream_index === i);
      if (track.is === 'sound' && track.count > own.length) {
        // Plain sound comes in packets of many frames of sound: together they are the same bytes.
        const pieces = track.cut(0, track.shown).pieces;
        const theirs: { at: number; length: number }[] = [];
        for (const packet of own) {
          const [at, length] = [Number(packet.pos), Number(packet.size)];
          const last = theirs.at(-1);
          if (last && last.at + last.length === at) last.length += length;
          else theirs.push({ at, length });
        }
        if (JSON.stringify(pieces) !== JSON.stringify(theirs))
          wrong.push(`${name} ${i}: ${JSON.stringify(pieces)} ${JSON.stringify(theirs)}`);
        continue;
      }
      if (track.count === own.length) wrong.push(...rangesOf(track, own).map((line) => `${name} ${i}: ${line}`));
      if (track.count !== own.length) wrong.push(`${name} ${i}: ${track.count} samples, ${own.length} packets`);
      // Where some are shown before they are decoded, ffprobe moves all times of decoding: by the same.
      const [first, begins] = [track.sample(0), own[0]!];
      const shift = first.showTime - first.decodeTime;
      const theirShift = (begins.pts ?? 0) - (begins.dts ?? 0);
      for (const [n, packet] of own.slice(0, track.count).entries()) {
        const sample = track.sample(n);
        samples++;
        const told = [sample.at, sample.size, sample.isKey, sample.showTime - sample.decodeTime - shift];
        const theirs = [
          Number(packet.pos),
          Number(packet.size),
          packet.flags.includes('K'),
          (packet.pts ?? 0) - (packet.dts ?? 0) - theirShift,
        ];
        if (JSON.stringify(told) !== JSON.stringify(theirs)) {
          wrong.push(`${name} ${i}: sample ${n} ${JSON.stringify(told)}, packet ${JSON.stringify(theirs)}`);
          break;
        }
      }
    }
  }
  process.stderr.write(
    `samples: ${compared} files, ${samples} samples and ${ranged} ranges compared with packets, ${wrong.length} wrong\n`,
  );
  expect(compared).toBeGreaterThanOrEqual(50);
  expect(wrong).toEqual([]);
}, 300_000);
