// Films and sound encoded anew, by ffmpeg: lossless as FFV1 (RFC 9043) and FLAC (RFC 9639) or PCM in Matroska (RFC 9559), or small to be looked
// at, as H.264 and AAC in MP4. What is lossless is decoded again and compared with what its source decodes to, stream by stream; what is
// only to be looked at has as many frames as its source, so that documents mean the same by it.
import { execFile, spawn } from 'node:child_process';
import { closeSync, fstatSync } from 'node:fs';
import readline from 'node:readline';
import { z } from 'zod';
import { type Encoding, VIEWING_LINES } from '#core/archive/encoding.ts';
import type { Expectation } from '#core/model.ts';
import { openToRead } from './content/content.ts';
import { factsOf, isUnchanged } from './facts.ts';

export interface EncodeWish {
  /** Full path of the source, as the system's own programs can open it. */
  media: string;
  encoding: Encoding;
  isToEnd: () => boolean;
}

export interface Encoded {
  /** Frames of its picture; null where it has none. */
  frames: number | null;
}

const MOST_SAID = 4000;
const LISTENS_EVERY_MS = 250;
const PROBES_MS = 30_000;
const SAFE = ['-v', 'error', '-xerror', '-nostdin', '-protocol_whitelist', 'file,pipe'];

/** It cannot be made: why, as the end of a sentence. `isRoom`: there is no room left where it is written. */
export class CannotEncode extends Error {
  constructor(
    why: string,
    readonly isRoom = false,
  ) {
    super(why);
  }
}

const probed = z.object({
  streams: z.array(
    z.object({
      codec_type: z.string().optional(),
      codec_name: z.string().optional(),
      pix_fmt: z.string().optional(),
      sample_fmt: z.string().optional(),
      bits_per_raw_sample: z.string().optional(),
      channels: z.number().optional(),
      start_time: z.string().optional(),
      disposition: z.object({ attached_pic: z.number().optional() }).optional(),
      tags: z.record(z.string(), z.string()).optional(),
    }),
  ),
  format: z.object({
    duration: z.string().optional(),
    start_time: z.string().optional(),
    tags: z.record(z.string(), z.string()).optional(),
  }),
});
type Probed = z.infer<typeof probed>;
type Stream = Probed['streams'][number];

const filmsOf = ({ streams }: Probed): Stream[] =>
  streams.filter((stream) => stream.codec_type === 'video' && !stream.disposition?.attached_pic);
const soundsOf = ({ streams }: Probed): Stream[] => streams.filter((stream) => stream.codec_type === 'audio');

function probe(media: string): Promise<Probed> {
  const asked = ['-v', 'error', '-protocol_whitelist', 'file,pipe', '-show_streams', '-show_format', '-of', 'json'];
  return new Promise((resolve, reject) => {
    execFile(
      'ffprobe',
      [...asked, `file:${media}`],
      { timeout: PROBES_MS, killSignal: 'SIGKILL', maxBuffer: 16 << 20 },
      (_error, said) => {
        let result: Probed | undefined;
        try {
          result = probed.safeParse(JSON.parse(said)).data;
        } catch {
          // Nothing that could be read was said.
        }
        if (result) resolve(result);
        else reject(new CannotEncode('it cannot be read'));
      },
    );
  });
}

/** A picture of full range under the older name for that: the same numbers, said otherwise. */
const isOlderFull = ({ pix_fmt: format = '' }: Stream): boolean => format.startsWith('yuvj');
const plain = ({ pix_fmt: format = '' }: Stream): string => format.replace(/^yuvj/, 'yuv');

/** PCM that holds every number a stream of sound decodes to. */
function pcmOf({ sample_fmt: format = '', codec_name: codec = '' }: Stream): string {
  if (/^u8/.test(format)) return 'pcm_u8';
  if (/^s16/.test(format)) return 'pcm_s16le';
  if (/^dbl/.test(format)) return 'pcm_f64le';
  if (/^flt/.test(format)) return 'pcm_f32le';
  return codec === 'pcm_s24le' || codec === 'pcm_s24be' ? 'pcm_s24le' : 'pcm_s32le';
}

const FLAC_CHANNELS = 8;
/** FLAC holds whole numbers of up to 24 bits, of up to eight channels; of all else the samples as they are. */
function isFlac(stream: Stream): boolean {
  const bits = /^s16/.test(stream.sample_fmt ?? '') ? 16 : Number(stream.bits_per_raw_sample ?? 32);
  return /^s(16|32)/.test(stream.sample_fmt ?? '') && bits <= 24 && (stream.channels ?? 0) <= FLAC_CHANNELS;
}

const ALL = ['-map', '0:V?', '-map', '0:a?', '-fps_mode', 'passthrough'];
/** The same bytes from the same source, however often: no times and no chance in it. */
const EXACT = ['-fflags', '+bitexact', '-flags:v', '+bitexact', '-flags:a', '+bitexact'];

function losslessArgs(facts: Probed): string[] {
  const films = filmsOf(facts).flatMap((film, i) => [
    ...[`-c:v:${i}`, 'ffv1', '-level', '3', '-g', '1', '-slices', '16', '-slicecrc', '1'],
    ...(isOlderFull(film)
      ? [`-filter:v:${i}`, 'scale=in_range=full:out_range=full', `-pix_fmt:v:${i}`, plain(film)]
      : []),
    ...(isOlderFull(film) ? [`-color_range:v:${i}`, 'pc'] : []),
  ]);
  const sounds = soundsOf(facts).flatMap((sound, i) => [`-c:a:${i}`, isFlac(sound) ? 'flac' : pcmOf(sound)]);
  return [...ALL, '-map_metadata', '0', ...films, ...sounds, ...EXACT, '-f', 'matroska'];
}

/** What streams decode to, as one sum each; the pictures as the source has them. */
const hashArgs = (facts: Probed): string[] => [
  ...ALL,
  ...filmsOf(facts).flatMap((film, i) => [
    ...[`-c:v:${i}`, 'rawvideo', `-pix_fmt:v:${i}`, plain(film)],
    ...(isOlderFull(film) ? [`-filter:v:${i}`, 'scale=in_range=full:out_range=full'] : []),
  ]),
  ...soundsOf(facts).flatMap((sound, i) => [`-c:a:${i}`, pcmOf(sound)]),
  ...['-f', 'streamhash', '-hash', 'murmur3'],
];

function viewingArgs(facts: Probed): string[] {
  const timecode = [facts.format.tags, ...facts.streams.map((stream) => stream.tags)].flatMap(
    (tags) => tags?.timecode ?? [],
  )[0];
  return [
    ...['-map', '0:V:0?', '-map', '0:a?', '-map_metadata', '-1', '-fps_mode', 'passthrough'],
    ...[
      '-vf',
      `scale=-2:'min(${VIEWING_LINES},trunc(ih/2)*2)':flags=bilinear`,
      '-c:v',
      'libx264',
      '-preset',
      'veryfast',
    ],
    ...['-crf', '26', '-maxrate', '2000k', '-bufsize', '4000k', '-pix_fmt', 'yuv420p', '-c:a', 'aac', '-b:a', '128k'],
    ...(timecode && filmsOf(facts).length > 0 ? ['-timecode', timecode, '-write_tmcd', 'on'] : []),
    ...EXACT,
  ];
}

interface Ran {
  /** Lines said on the third stream. */
  sums: string[];
  frames: number | null;
}

interface Run {
  args: readonly string[];
  isToEnd: () => boolean;
  onSeconds?: (seconds: number) => void;
  /** Counts what is written to the fourth stream instead of keeping it. */
  onBytes?: (bytes: number) => void;
}

/** Throws CannotEncode with what it said first. */
function ffmpeg({ args, isToEnd, onSeconds, onBytes }: Run): Promise<Ran> {
  const child = spawn('ffmpeg', [...SAFE, '-progress', 'pipe:1', ...args], {
    stdio: ['ignore', 'pipe', 'pipe', 'pipe', 'pipe'],
  });
  let [said, sums, frames] = ['', '', null as number | null];
  child.stderr!.setEncoding('utf8').on('data', (text: string) => void (said = (said + text).slice(0, MOST_SAID)));
  const [, , , third, fourth] = child.stdio as unknown as (NodeJS.ReadableStream | null)[];
  third!.setEncoding('utf8').on('data', (text: string) => void (sums = (sums + text).slice(0, 1 << 16)));
  fourth!.on('data', (bytes: Buffer) => onBytes?.(bytes.length));
  readline.createInterface({ input: child.stdout! }).on('line', (line) => {
    const [, what, number] = /^(frame|out_time_us)=\s*(\d+)$/.exec(line) ?? [];
    if (what === 'frame') frames = Number(number);
    else if (what !== undefined) onSeconds?.(Number(number) / 1e6);
  });
  const listening = setInterval(() => {
    if (isToEnd()) child.kill('SIGKILL');
  }, LISTENS_EVERY_MS);
  return new Promise((resolve, reject) => {
    child.on('error', () => {
      clearInterval(listening);
      reject(new CannotEncode('ffmpeg is not there'));
    });
    child.on('close', (code) => {
      clearInterval(listening);
      if (code === 0) return resolve({ sums: sums.split('\n').filter((line) => /^\d+,/.test(line)), frames });
      const first = said
        .trim()
        .split('\n')[0]!
        .replace(/^\[[^\]]*\] */, '');
      if (/No space left on device|Disk quota exceeded/.test(said)) return reject(new CannotEncode(first, true));
      reject(new CannotEncode(first === '' ? 'it was stopped' : `it cannot be encoded (${first.slice(0, 150)})`));
    });
  });
}

const secondsOf = ({ format }: Probed): number => (Number(format.duration) > 0 ? Number(format.duration) : 0);

/**
 * Writes it to `to`, where nothing is yet. Throws CannotEncode; what was begun is the caller's to remove.
 * @param frames how many its own tables tell; null for sound
 * @param onPart how much of the work is done, from 0 to 1
 */
export async function encode({
  media,
  to,
  encoding,
  frames,
  onPart = () => undefined,
  isToEnd,
}: EncodeWish & { to: string; frames: number | null; onPart?: (part: number) => void }): Promise<Encoded> {
  const facts = await probe(media);
  const seconds = secondsOf(facts);
  const hasFilm = filmsOf(facts).length > 0;
  // What is lossless is decoded once more.
  const [share, before] = encoding === 'lossless' ? [0.7, 0.7] : [1, 1];
  const told = (of: number, from: number) => (at: number) =>
    onPart(seconds > 0 ? from + of * Math.min(1, at / seconds) : from);
  const input = ['-i', `file:${media}`];
  const made = await ffmpeg({
    args:
      encoding === 'lossless'
        ? [...input, ...losslessArgs(facts), `file:${to}`, ...hashArgs(facts), 'pipe:3']
        : [...input, ...viewingArgs(facts), '-movflags', '+faststart', '-f', hasFilm ? 'mp4' : 'ipod', `file:${to}`],
    onSeconds: told(share, 0),
    isToEnd,
  });
  if (hasFilm && frames !== null && made.frames !== frames)
    throw new CannotEncode(`${made.frames ?? 0} frames of it can be decoded, and it tells of ${frames}`);
  if (encoding === 'lossless') {
    const again = await ffmpeg({
      args: ['-i', `file:${to}`, ...hashArgs(facts), 'pipe:3'],
      onSeconds: told(1 - share, before),
      isToEnd,
    });
    if (made.sums.length === 0 || made.sums.join('\n') !== again.sums.join('\n'))
      throw new CannotEncode('encoded anew it does not decode to the same');
  }
  await refuseShifted(facts, to);
  return { frames: hasFilm ? made.frames : null };
}

/** Programs for sound write some samples before its first; less than two frames is not seen. */
const MOST_SHIFT_SECONDS = 0.06;

/** Sound lies beside the picture as it did. */
async function refuseShifted(source: Probed, to: string): Promise<void> {
  const [before, after] = [source, await probe(to)].map((facts) => {
    const [film] = filmsOf(facts);
    return soundsOf(facts).map((sound) => Number(sound.start_time ?? 0) - Number(film?.start_time ?? 0));
  });
  const isShifted = before!.some((at, i) => Math.abs(at - (after![i] ?? Infinity)) > MOST_SHIFT_SECONDS);
  if (isShifted && filmsOf(source).length > 0)
    throw new CannotEncode('its sound would lie elsewhere beside its picture');
  if (before!.length !== after!.length) throw new CannotEncode('not all of its sound can be taken along');
}

/**
 * A file held open while programs read it, by a path that leads to that very file. Throws 'not a file' or 'changed' where it is not what was
 * known of it, before or afterwards.
 */
export async function heldOpen<T>(
  place: string | Buffer,
  known: Expectation,
  use: (media: string) => Promise<T>,
): Promise<T> {
  const fd = openToRead(place);
  const refuseOther = () => {
    const stats = fstatSync(fd);
    const code = !stats.isFile() ? 'not a file' : isUnchanged(factsOf(stats), known) ? null : 'changed';
    if (code) throw Object.assign(new Error(`It is ${code}.`), { code });
  };
  try {
    refuseOther();
    const result = await use(`/proc/${process.pid}/fd/${fd}`);
    refuseOther();
    return result;
  } finally {
    closeSync(fd);
  }
}

const SAMPLES = 3;
const SAMPLE_SECONDS = 0.6;

/** About how large it will be, tried on a few short stretches of it. Throws CannotEncode. */
export async function estimateEncoded({ media, encoding, isToEnd }: EncodeWish): Promise<number> {
  const facts = await probe(media);
  const seconds = secondsOf(facts);
  if (seconds === 0) throw new CannotEncode('it does not tell how long it is');
  const isShort = seconds <= 2 * SAMPLES * SAMPLE_SECONDS;
  const stretches = isShort
    ? [{ at: 0, length: seconds }]
    : Array.from({ length: SAMPLES }, (_, i) => ({
        at: ((i + 0.5) * seconds) / SAMPLES - SAMPLE_SECONDS / 2,
        length: SAMPLE_SECONDS,
      }));
  let bytes = 0;
  for (const { at, length } of stretches)
    await ffmpeg({
      args: [
        ...(at > 0 ? ['-ss', at.toFixed(3)] : []),
        ...['-t', length.toFixed(3), '-i', `file:${media}`],
        ...(encoding === 'lossless' ? losslessArgs(facts) : [...viewingArgs(facts), '-f', 'matroska']),
        'pipe:4',
      ],
      onBytes: (more) => void (bytes += more),
      isToEnd,
    });
  return Math.max(1, Math.round((bytes * seconds) / stretches.reduce((sum, { length }) => sum + length, 0)));
}
