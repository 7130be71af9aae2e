// What is read must be what ffprobe says, for files that ffmpeg wrote in every format; and a file that lies, loops or is
// cut off ends in a sentence, whatever is done to it.
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import fc from 'fast-check';
import { memorySource } from './bytes.ts';
import { type Essence, framesIn, readEssence } from './essence.ts';

let folder: string;
const made = new Map<string, Buffer>();
const PICTURE = ['-f', 'lavfi', '-i', 'testsrc2=size=128x72:rate=25:duration=2'];
const SOUND = ['-f', 'lavfi', '-i', 'sine=frequency=440:sample_rate=48000:duration=2'];
const PAL = ['-f', 'lavfi', '-i', 'testsrc2=size=720x576:rate=25:duration=2'];
const FILES: [name: string, args: string[]][] = [
  ['a.mov', [...PICTURE, ...SOUND, '-c:v', 'mjpeg', '-c:a', 'pcm_s16le', '-timecode', '10:00:00:05']],
  [
    'drop.mov',
    [
      '-f',
      'lavfi',
      '-i',
      'testsrc2=size=128x72:rate=30000/1001:duration=2',
      '-c:v',
      'mjpeg',
      '-timecode',
      '01:00:00;02',
    ],
  ],
  ['a.mp4', [...PICTURE, ...SOUND, '-c:v', 'mpeg4', '-c:a', 'aac']],
  ['pieces.mp4', [...PICTURE, '-c:v', 'mpeg4', '-g', '10', '-movflags', 'frag_keyframe+empty_moov+default_base_moof']],
  ['a.wav', [...SOUND, '-c:a', 'pcm_s24le', '-write_bext', '1', '-metadata', 'time_reference=480000']],
  ['rf64.wav', [...SOUND, '-c:a', 'pcm_s16le', '-rf64', 'always']],
  ['a.aiff', [...SOUND, '-c:a', 'pcm_s16be']],
  ['a.mxf', [...PICTURE, ...SOUND, '-c:v', 'mpeg2video', '-c:a', 'pcm_s16le', '-timecode', '02:00:00:00']],
  ['long.mxf', ['-f', 'lavfi', '-i', 'testsrc2=size=64x36:rate=25:duration=20', '-c:v', 'mpeg2video']],
  ['few.mxf', [...PICTURE, '-frames:v', '20', '-c:v', 'mpeg2video']],
  ['same.mxf', [...PAL, ...SOUND, '-c:v', 'dvvideo', '-pix_fmt', 'yuv420p', '-c:a', 'pcm_s16le', '-ac', '2']],
  ['clip.mxf', [...SOUND, '-c:a', 'pcm_s16le', '-f', 'mxf_opatom']],
  ['picture.mxf', [...PAL, '-frames:v', '10', '-c:v', 'jpeg2000', '-f', 'mxf_opatom']],
  ['still.dpx', [...PICTURE, '-frames:v', '1']],
  ['still.exr', [...PICTURE, '-frames:v', '1', '-pix_fmt', 'gbrpf32le']],
  ['still.tiff', [...PICTURE, '-frames:v', '1', '-update', '1']],
  ['still.png', [...PICTURE, '-frames:v', '1', '-update', '1']],
  ['still.jpg', [...PICTURE, '-frames:v', '1', '-update', '1']],
];
beforeAll(() => {
  folder = mkdtempSync(path.join(os.tmpdir(), 'essence-'));
  for (const [name, args] of FILES) {
    execFileSync('ffmpeg', ['-v', 'error', '-y', ...args, path.join(folder, name)]);
    made.set(name, readFileSync(path.join(folder, name)));
  }
}, 120_000);
afterAll(() => rmSync(folder, { recursive: true, force: true }));

const read = (name: string): Essence => {
  const reading = readEssence(memorySource(made.get(name)!));
  if (!reading.ok) throw new Error(`${name}: ${reading.trouble.detail} at ${reading.trouble.at}`);
  return reading.essence;
};
interface Stream {
  codec_type: string;
  width?: number;
  height?: number;
  r_frame_rate: string;
  nb_frames?: string;
  channels?: number;
  sample_rate?: string;
  duration_ts?: number;
  tags?: Record<string, string>;
}
const probe = (name: string) =>
  JSON.parse(
    execFileSync('ffprobe', ['-v', 'error', '-show_streams', '-show_format', '-of', 'json', path.join(folder, name)], {
      encoding: 'utf8',
    }),
  ) as { streams: Stream[]; format: { duration?: string; tags?: Record<string, string> } };

test.each(FILES.map(([name]) => name))('%s: size, rate, channels and length are what ffprobe says', (name) => {
  const essence = read(name);
  const told = probe(name);
  const pictures = told.streams.filter((stream) => stream.codec_type === 'video');
  const sounds = told.streams.filter((stream) => stream.codec_type === 'audio');
  expect(essence.tracks.filter((track) => track.is === 'picture')).toHaveLength(pictures.length);
  expect(essence.tracks.filter((track) => track.is === 'sound')).toHaveLength(sounds.length);
  for (const [i, track] of essence.tracks.filter((one) => one.is === 'picture').entries()) {
    expect([track.width, track.height]).toEqual([pictures[i]!.width, pictures[i]!.height]);
    if (track.rate && !name.startsWith('still'))
      expect(`${track.rate.num}/${track.rate.den}`).toBe(pictures[i]!.r_frame_rate);
    if (pictures[i]!.nb_frames) expect(track.frames).toBe(Number(pictures[i]!.nb_frames));
  }
  for (const [i, track] of essence.tracks.filter((one) => one.is === 'sound').entries()) {
    expect([track.channels, track.sampleRate]).toEqual([sounds[i]!.channels, Number(sounds[i]!.sample_rate)]);
    // Compressed sound begins and ends on whole packets.
    if (track.codec.startsWith('pcm') || track.codec === 'sowt') expect(track.samples).toBe(96_000);
  }
  if (essence.duration && told.format.duration)
    expect(essence.duration.num / essence.duration.den).toBeCloseTo(Number(told.format.duration), 1);
});

test('start timecodes, drop-frame flags and time references are read', () => {
  expect(read('a.mov').start).toEqual({ frame: 10 * 3600 * 25 + 5, rate: { num: 25, den: 1 }, dropFrame: false });
  expect(read('drop.mov').start).toMatchObject({ rate: { num: 30_000, den: 1001 }, dropFrame: true });
  // Drop-frame counts leave two numbers out in nine of ten minutes: 01:00:00;02 is the 107,894th frame.
  expect(read('drop.mov').start!.frame).toBe(107_894);
  expect(read('a.mxf').start).toMatchObject({ frame: 2 * 3600 * 25 });
  expect(read('a.wav').startSample).toBe(480_000);
  expect(framesIn(read('a.mov'), { num: 25, den: 1 })).toBe(50);
  expect(framesIn(read('a.wav'), { num: 24, den: 1 })).toBe(48);
});

test.each(['a.mov', 'a.mp4', 'few.mxf', 'same.mxf', 'clip.mxf', 'picture.mxf'])(
  '%s: exact sizes of all samples',
  (name) => {
    const shown = ['-show_entries', 'packet=stream_index,size', '-of', 'csv=p=0', path.join(folder, name)];
    const sums: number[] = [];
    for (const line of execFileSync('ffprobe', ['-v', 'error', ...shown], { encoding: 'utf8' }).split('\n')) {
      const [stream, size] = line.split(',').map(Number);
      if (size) sums[stream!] = (sums[stream!] ?? 0) + size;
    }
    const { tracks } = read(name);
    expect(tracks.map((track) => track.bytes)).toEqual(sums.slice(0, tracks.length));
  },
);

test('where telling needs every frame of a long recording to be met, its size is left open', () => {
  expect(read('long.mxf').tracks[0]!.bytes).toBeNull();
  expect(read('pieces.mp4').tracks[0]!.bytes).toBeGreaterThan(0);
});

test('an MXF that is still written, or cut off in its body, tells all but its sizes', () => {
  const whole = made.get('few.mxf')!;
  for (let end = Math.floor(whole.length / 2); end < Math.floor(whole.length / 2) + 300; end++) {
    const reading = readEssence(memorySource(whole.subarray(0, end)));
    if (!reading.ok) throw new Error(`cut at ${end}: ${reading.trouble.detail}`);
    expect(reading.essence.tracks).toMatchObject([{ is: 'picture', width: 128, height: 72, bytes: null }]);
  }
});

test('a file cut off anywhere ends in a sentence or in what it still says', () => {
  for (const bytes of made.values())
    for (let part = 1; part < 24; part++) {
      const reading = readEssence(memorySource(bytes.subarray(0, Math.floor((bytes.length * part) / 24))));
      if (!reading.ok) expect(reading.trouble.detail.length).toBeGreaterThan(5);
    }
});

test('whatever bytes are changed, it ends soon and never throws', () => {
  const all = [...made.values()];
  fc.assert(
    fc.property(
      fc.nat({ max: all.length - 1 }),
      fc.array(fc.tuple(fc.nat(), fc.oneof(fc.constantFrom(0, 1, 0x7f, 0xff), fc.nat({ max: 255 }))), {
        minLength: 1,
        maxLength: 12,
      }),
      fc.boolean(),
      (which, changes, early) => {
        const bytes = Uint8Array.from(all[which]!);
        for (const [at, value] of changes) bytes[at % (early ? Math.min(4096, bytes.length) : bytes.length)] = value;
        const start = performance.now();
        readEssence(memorySource(bytes));
        expect(performance.now() - start).toBeLessThan(2000);
      },
    ),
    { numRuns: 1500 },
  );
});

test('boxes that loop, nest without end or announce a gigabyte are refused', () => {
  const box = (type: string, body: Buffer, size = body.length + 8) => {
    const head = Buffer.alloc(8);
    head.writeUInt32BE(size);
    head.write(type, 4, 'latin1');
    return Buffer.concat([head, body]);
  };
  const trouble = (bytes: Buffer) => {
    const reading = readEssence(memorySource(bytes));
    return reading.ok ? null : reading.trouble.detail;
  };
  let nested = box('stbl', Buffer.alloc(0));
  for (let i = 0; i < 40; i++) nested = box('mdia', nested);
  expect(trouble(Buffer.concat([box('ftyp', Buffer.alloc(8)), box('moov', box('trak', nested))]))).toMatch(
    /nested too deep/,
  );
  const table = Buffer.alloc(16);
  table.writeUInt32BE(0x7fffffff, 4);
  const lying = box('trak', box('mdia', box('minf', box('stbl', box('stts', table)))));
  expect(trouble(Buffer.concat([box('ftyp', Buffer.alloc(8)), box('moov', lying)]))).toMatch(/2147483647 entries/);
  expect(trouble(Buffer.concat([box('ftyp', Buffer.alloc(8)), box('moov', Buffer.alloc(8), 4)]))).toMatch(
    /smaller than its own head/,
  );
  expect(trouble(Buffer.alloc(64))).toMatch(/like no format/);
});
