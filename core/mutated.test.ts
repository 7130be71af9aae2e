// Documents and media files changed at random, over every reader: each ends soon, in a sentence or in what it still says,
// and says nothing that arithmetic or a column does not take. MUTATED says how many; the seed is printed where one fails.
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import fc from 'fast-check';
import { readDawproject } from './documents/formats/dawproject.ts';
import { readEdl } from './documents/formats/edl.ts';
import { readOtio } from './documents/formats/otio.ts';
import { memorySource } from './essence/bytes.ts';
import { readEssence } from './essence/essence.ts';
import { readSamples } from './essence/samples.ts';
import type { DocumentReading } from './documents/model.ts';

const RUNS = Number(process.env.MUTATED ?? 2000);
const SLOWEST_MS = 2000;
const MOST_BYTES = 512 << 20;

const folder = mkdtempSync(path.join(os.tmpdir(), 'mutated-'));
afterAll(() => rmSync(folder, { recursive: true, force: true }));
const make = (name: string, ...args: string[]): Buffer => {
  const place = path.join(folder, name);
  execFileSync('ffmpeg', ['-v', 'error', '-y', ...args, place]);
  return readFileSync(place);
};
const PICTURE = ['-f', 'lavfi', '-i', 'testsrc2=size=64x36:rate=25:duration=1'];
const SOUND = ['-f', 'lavfi', '-i', 'sine=frequency=440:sample_rate=48000:duration=1'];

const time = (value: number, rate = 25) => ({ OTIO_SCHEMA: 'RationalTime.1', value, rate });
const range = (start: number, duration: number) => ({
  OTIO_SCHEMA: 'TimeRange.1',
  start_time: time(start),
  duration: time(duration),
});
const OTIO = JSON.stringify({
  OTIO_SCHEMA: 'Timeline.1',
  name: 'Cut',
  global_start_time: time(90_000),
  tracks: {
    OTIO_SCHEMA: 'Stack.1',
    children: [
      {
        OTIO_SCHEMA: 'Track.1',
        kind: 'Video',
        children: [
          {
            OTIO_SCHEMA: 'Clip.2',
            name: 'a',
            source_range: range(10, 20),
            effects: [{ OTIO_SCHEMA: 'LinearTimeWarp.1', time_scalar: -2.5 }],
            media_references: {
              DEFAULT_MEDIA: {
                OTIO_SCHEMA: 'ExternalReference.1',
                target_url: 'a.mov',
                available_range: range(0, 500),
              },
            },
          },
          { OTIO_SCHEMA: 'Transition.1', in_offset: time(5), out_offset: time(5) },
          {
            OTIO_SCHEMA: 'Clip.1',
            name: 's',
            media_reference: {
              OTIO_SCHEMA: 'ImageSequenceReference.1',
              target_url_base: 's/',
              name_prefix: 'f.',
              name_suffix: '.exr',
              start_frame: 1,
              frame_step: 1,
              frame_zero_padding: 4,
              rate: 25,
              available_range: range(0, 100),
            },
          },
        ],
      },
    ],
  },
});
const EDL = `TITLE: X\nFCM: DROP FRAME\n001  A V C 01:00:00;00 01:00:05;00 10:00:00;00 10:00:05;00\n* FROM CLIP NAME: a.mov\nM2   A  025.0  01:00:00;00\n002  B B D 012 02:00:00;00 02:00:05;00 10:00:05;00 10:00:10;00\n* SOURCE FILE: /m/b.mov\n`;
const DAW = `<?xml version="1.0"?><Project version="1.0"><Transport><Tempo value="120"/></Transport><Structure><Track id="t" name="T"/></Structure><Arrangement><Lanes timeUnit="beats"><Lanes track="t"><Clips><Clip time="4" duration="8" playStart="1.5"><Audio sampleRate="48000" channels="2" duration="20"><File path="a.wav"/></Audio></Clip></Clips></Lanes></Lanes></Arrangement></Project>`;

let inputs: { name: string; bytes: Buffer; read(bytes: Uint8Array): unknown }[];
beforeAll(() => {
  const text = (bytes: Uint8Array) => Buffer.from(bytes).toString('utf8');
  const essence = (bytes: Uint8Array) => {
    const reading = readEssence(memorySource(bytes));
    try {
      for (const track of readSamples(memorySource(bytes)).slice(0, 4))
        if (track.shown > 0) track.cut(0, Math.min(track.shown, 1000));
    } catch (error) {
      // What is not whole, or is no samples, says so.
      if (!(error instanceof RangeError) && (error as Error).constructor.name !== 'EssenceTrouble') throw error;
    }
    return reading;
  };
  const documents: [string, string, (text: string) => DocumentReading][] = [
    ['otio', OTIO, readOtio],
    ['edl', EDL, (one) => readEdl(one)],
    ['dawproject', DAW, (one) => readDawproject(one, () => false)],
  ];
  const files: [string, string[]][] = [
    ['a.mov', [...PICTURE, ...SOUND, '-c:v', 'mjpeg', '-c:a', 'pcm_s16le', '-timecode', '10:00:00:05']],
    ['b.mp4', [...PICTURE, '-c:v', 'mpeg4', '-bf', '2', '-movflags', 'frag_keyframe+empty_moov']],
    ['a.wav', [...SOUND, '-c:a', 'adpcm_ima_wav']],
    ['b.wav', [...SOUND, '-c:a', 'pcm_s24le', '-write_bext', '1']],
    ['a.aiff', [...SOUND, '-c:a', 'pcm_s16be']],
    ['a.mxf', [...PICTURE, ...SOUND, '-c:v', 'mpeg2video', '-c:a', 'pcm_s16le']],
    ['a.dpx', [...PICTURE, '-frames:v', '1']],
    ['a.exr', [...PICTURE, '-frames:v', '1', '-pix_fmt', 'gbrpf32le']],
    ['a.tiff', [...PICTURE, '-frames:v', '1', '-update', '1']],
  ];
  inputs = [
    ...documents.map(([name, body, read]) => ({
      name,
      bytes: Buffer.from(body),
      read: (bytes: Uint8Array) => read(text(bytes)),
    })),
    ...files.map(([name, args]) => ({ name, bytes: make(name, ...args), read: essence })),
  ];
}, 120_000);

test('a run of a fragment that tells more samples than its file has bytes is refused at once', () => {
  const bytes = Uint8Array.from(inputs.find((input) => input.name === 'b.mp4')!.bytes);
  const at = Buffer.from(bytes).lastIndexOf('trun');
  const data = new DataView(bytes.buffer);
  // No sample says anything of its own, so that the run takes no room however long it is.
  data.setUint32(at + 4, 0);
  data.setUint32(at + 8, 0x74686574);
  const began = performance.now();
  const before = process.memoryUsage().rss;
  expect(readEssence(memorySource(bytes))).toMatchObject({
    ok: false,
    trouble: { detail: expect.stringMatching(/^a run of \d+ samples in a file of \d+ bytes$/) as string },
  });
  expect(performance.now() - began).toBeLessThan(SLOWEST_MS);
  expect(process.memoryUsage().rss - before).toBeLessThan(MOST_BYTES);
});

test.each([
  ['of one size', 0x956444],
  ['each of its own, of which the table has none', 0],
])('a table of more samples than its file has bytes, %s, is refused at once', (_what, sizeOfAll) => {
  const bytes = Uint8Array.from(inputs.find((input) => input.name === 'b.mp4')!.bytes);
  const at = Buffer.from(bytes).indexOf('stsz');
  const data = new DataView(bytes.buffer);
  data.setUint32(at + 8, sizeOfAll);
  data.setUint32(at + 12, 0x17943900);
  const began = performance.now();
  expect(readEssence(memorySource(bytes))).toMatchObject({
    ok: false,
    trouble: { detail: expect.stringMatching(/samples in a file of|of its own|table/) as string },
  });
  expect(() => readSamples(memorySource(bytes))).toThrow();
  expect(performance.now() - began).toBeLessThan(SLOWEST_MS);
});

/** Numbers that are none, or beyond what is counted exactly. */
function odd(value: unknown, at = '$'): string[] {
  if (typeof value === 'number')
    return Number.isFinite(value) && Math.abs(value) <= Number.MAX_SAFE_INTEGER ? [] : [`${at} is ${value}`];
  if (value instanceof Uint8Array || typeof value !== 'object' || value === null) return [];
  return Object.entries(value).flatMap(([key, inner]) => odd(inner, `${at}.${key}`));
}

const change = fc.oneof(
  // Bytes written over, most of them early, where heads and tables lie.
  fc.record({
    is: fc.constant('bytes' as const),
    at: fc.nat(),
    early: fc.boolean(),
    with: fc.uint8Array({ minLength: 1, maxLength: 8 }),
  }),
  fc.record({
    is: fc.constant('count' as const),
    at: fc.nat(),
    value: fc.constantFrom(0, 1, 0x7fffffff, 0x80000000, 0xffffffff, 0xfffffffe),
  }),
  fc.record({ is: fc.constant('cut' as const), part: fc.double({ min: 0, max: 1, noNaN: true }) }),
  fc.record({
    is: fc.constant('twice' as const),
    from: fc.nat(),
    long: fc.integer({ min: 1, max: 4000 }),
    times: fc.integer({ min: 1, max: 40 }),
  }),
  fc.record({
    is: fc.constant('digits' as const),
    at: fc.nat(),
    text: fc.constantFrom('9999999999999999999', '-1', '1e308', '0', '0.0000001', 'NaN'),
  }),
);
type Change = typeof change extends fc.Arbitrary<infer T> ? T : never;

function changed(bytes: Uint8Array, how: Change): Uint8Array {
  if (bytes.length < 8) return bytes;
  switch (how.is) {
    case 'bytes': {
      const at = how.at % (how.early ? Math.min(4096, bytes.length) : bytes.length);
      const next = Uint8Array.from(bytes);
      next.set(how.with.subarray(0, next.length - at), at);
      return next;
    }
    case 'count': {
      const next = Uint8Array.from(bytes);
      new DataView(next.buffer).setUint32(how.at % (bytes.length - 4), how.value);
      return next;
    }
    case 'cut':
      return bytes.subarray(0, Math.floor(bytes.length * how.part));
    case 'twice': {
      const from = how.from % bytes.length;
      const part = bytes.subarray(from, from + how.long);
      return Buffer.concat([
        bytes.subarray(0, from),
        ...Array.from({ length: how.times }, () => part),
        bytes.subarray(from),
      ]);
    }
    case 'digits': {
      // A number of a text becomes another.
      const text = Buffer.from(bytes).toString('latin1');
      const numbers = [...text.slice(0, 20_000).matchAll(/\d+(\.\d+)?/g)];
      const one = numbers[how.at % Math.max(1, numbers.length)];
      return one
        ? Buffer.from(text.slice(0, one.index) + how.text + text.slice(one.index + one[0].length), 'latin1')
        : bytes;
    }
  }
}

test(`${RUNS} changed inputs end soon, and say nothing that cannot be taken`, () => {
  let slowest = 0;
  const before = process.memoryUsage().rss;
  fc.assert(
    fc.property(fc.nat(), fc.array(change, { minLength: 1, maxLength: 6 }), (which, changes) => {
      const { name, bytes, read } = inputs[which % inputs.length]!;
      const input = changes.reduce<Uint8Array>(changed, bytes);
      const began = performance.now();
      const reading = read(input);
      const took = performance.now() - began;
      slowest = Math.max(slowest, took);
      if (took > SLOWEST_MS) throw new Error(`${name} took ${took} ms`);
      const wrong = odd(reading);
      if (wrong.length > 0) throw new Error(`${name}: ${wrong.slice(0, 3).join(', ')}`);
    }),
    { numRuns: RUNS },
  );
  const grown = process.memoryUsage().rss - before;
  process.stderr.write(
    `mutated: ${RUNS} inputs, slowest ${slowest.toFixed(0)} ms, ${Math.round(grown / (1 << 20))} MB more at the end\n`,
  );
  expect(grown).toBeLessThan(MOST_BYTES);
}, 600_000);
