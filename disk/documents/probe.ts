// Structure of formats that are not read here, as ffprobe tells it: a process for each file, so only for those. It is told
// which demuxer to use, by the file's first bytes, and may open nothing but that file: some formats are lists of others.
// Called inside the thread, which may wait.
import { execFileSync } from 'node:child_process';
import { atTheDoor } from '#core/essence/door.ts';
import type { Essence, EssenceReading, PictureTrack, SoundTrack } from '#core/essence/essence.ts';
import type { Rate } from '#core/time/rates.ts';

const TAKES_AT_MOST_MS = 15_000;

const bytesOf = (text: string) => Buffer.from(text.replaceAll(' ', ''), 'hex');
const W64 = bytesOf('72696666 2E91CF11 A5D628DB 04C10000');

/** Demuxers by how their files begin; the first that fits. */
const DEMUXERS: readonly [name: string, fits: (head: Buffer) => boolean][] = [
  ['matroska', (head) => begins(head, bytesOf('1A45DFA3'))],
  ['avi', (head) => says(head, 0, 'RIFF') && says(head, 8, 'AVI ')],
  ['webp_pipe', (head) => says(head, 0, 'RIFF') && says(head, 8, 'WEBP')],
  ['flv', (head) => says(head, 0, 'FLV\u0001')],
  ['asf', (head) => begins(head, bytesOf('3026B275 8E66CF11'))],
  ['ogg', (head) => says(head, 0, 'OggS')],
  ['flac', (head) => says(head, 0, 'fLaC')],
  ['w64', (head) => begins(head, W64)],
  ['caf', (head) => says(head, 0, 'caff')],
  ['au', (head) => says(head, 0, '.snd')],
  ['mpeg', (head) => begins(head, bytesOf('000001BA'))],
  ['mpegvideo', (head) => begins(head, bytesOf('000001B3'))],
  ['mpegts', (head) => head[0] === 0x47 && head[188] === 0x47],
  ['mpegts', (head) => head[4] === 0x47 && head[196] === 0x47],
  ['dv', (head) => begins(head, bytesOf('1F0700'))],
  // Their syncwords are alike but for the version that comes later (ETSI TS 102 366, bsid).
  ['eac3', (head) => begins(head, bytesOf('0B77')) && (head[5] ?? 0) >> 3 > 10],
  ['ac3', (head) => begins(head, bytesOf('0B77'))],
  ['aac', (head) => head[0] === 0xff && ((head[1] ?? 0) & 0xf6) === 0xf0],
  ['mp3', (head) => says(head, 0, 'ID3') || (head[0] === 0xff && ((head[1] ?? 0) & 0xe6) === 0xe2)],
  ['bmp_pipe', (head) => says(head, 0, 'BM')],
  ['mov', (head) => says(head, 4, 'ftyp')],
];

const begins = (head: Buffer, mark: Buffer): boolean => head.subarray(0, mark.length).equals(mark);
const says = (head: Buffer, at: number, text: string): boolean =>
  head.subarray(at, at + text.length).equals(Buffer.from(text, 'latin1'));

const MEDIA =
  /\.(mkv|webm|avi|flv|wmv|asf|ts|m2ts|mts|mpg|mpeg|m2v|vob|ogv|flac|mp3|ogg|opus|m4a|aac|wma|dv|heic|heif|webp|bmp|w64|caf|au|snd|ac3|eac3|ec3)$/i;

/** Endings for which a process is worth its time. */
export const worthAProbe = (name: string): boolean => MEDIA.test(name);

/** The demuxer for a file that begins like this (200 bytes, or all of it); null where it begins like none. */
export const demuxerOf = (head: Buffer): string | null => DEMUXERS.find(([, fits]) => fits(head))?.[0] ?? null;

interface Stream {
  codec_type?: string;
  codec_name?: string;
  width?: number;
  height?: number;
  avg_frame_rate?: string;
  nb_frames?: string;
  duration?: string;
  sample_rate?: string;
  channels?: number;
}

const damaged = (detail: string): EssenceReading => ({ ok: false, trouble: { code: 'damaged', at: 0, detail } });

/**
 * @param place a path of the file as this machine knows it
 * @param head its first 200 bytes, or all
 */
export function probe(place: string, head: Buffer): EssenceReading {
  const demuxer = demuxerOf(head);
  if (demuxer === null) return damaged('it begins like no media of its ending');
  let told: string;
  try {
    told = execFileSync(
      'ffprobe',
      [
        ...['-v', 'error', '-protocol_whitelist', 'file', '-format_whitelist', demuxer, '-f', demuxer],
        ...['-show_streams', '-show_format', '-of', 'json', `file:${place}`],
      ],
      {
        encoding: 'utf8',
        timeout: TAKES_AT_MOST_MS,
        killSignal: 'SIGKILL',
        maxBuffer: 16 << 20,
        stdio: ['ignore', 'pipe', 'ignore'],
      },
    );
  } catch {
    return damaged('ffprobe cannot read it');
  }
  const { streams = [], format = {} } = JSON.parse(told) as {
    streams?: Stream[];
    format?: { format_name?: string; duration?: string };
  };
  const seconds = Number(format.duration) || 0;
  const tracks = streams.flatMap((stream) => trackOf(stream, seconds) ?? []);
  if (tracks.length === 0) return damaged('there is no picture and no sound in it');
  const essence: Essence = {
    format: 'other',
    tracks,
    start: null,
    startSample: null,
    reel: null,
    duration: seconds > 0 ? { num: Math.round(seconds * 1e6), den: 1_000_000 } : null,
  };
  return { ok: true, ...atTheDoor(essence) };
}

function trackOf(stream: Stream, seconds: number): PictureTrack | SoundTrack | null {
  const own = Number(stream.duration) || seconds;
  if (stream.codec_type === 'video') {
    const rate = rateOf(stream.avg_frame_rate);
    const counted = Number(stream.nb_frames);
    return {
      is: 'picture',
      codec: stream.codec_name ?? 'picture',
      width: stream.width ?? 0,
      height: stream.height ?? 0,
      rate,
      frames: counted > 0 ? counted : rate ? Math.round((own * rate.num) / rate.den) : 1,
      bytes: null,
    };
  }
  if (stream.codec_type !== 'audio') return null;
  const sampleRate = Number(stream.sample_rate) || 0;
  return {
    is: 'sound',
    codec: stream.codec_name ?? 'sound',
    channels: stream.channels ?? 0,
    sampleRate,
    samples: Math.round(own * sampleRate),
    bytes: null,
  };
}

function rateOf(text: string | undefined): Rate | null {
  const [num, den] = (text ?? '').split('/').map(Number);
  return num && den && num > 0 && den > 0 ? { num, den } : null;
}
