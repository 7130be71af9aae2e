// Structure of formats that are not read here, as ffprobe tells it: a process for each file, so only for those. Called
// inside the thread, which may wait.
import { execFileSync } from 'node:child_process';
import type { Essence, EssenceReading, PictureTrack, SoundTrack } from '#core/essence/essence.ts';
import type { Rate } from '#core/time/rates.ts';

const TAKES_AT_MOST_MS = 15_000;
const MEDIA = /\.(mkv|webm|avi|flv|wmv|ts|m2ts|mts|mpg|mpeg|ogv|flac|mp3|ogg|opus|m4a|aac|wma|dv|heic|webp)$/i;

/** Endings for which a process is worth its time. */
export const worthAProbe = (path: string): boolean => MEDIA.test(path);

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

/** @param place path of the file, whose ending was looked at */
export function probe(place: string): EssenceReading {
  let told: string;
  try {
    told = execFileSync(
      'ffprobe',
      ['-v', 'error', '-protocol_whitelist', 'file', '-show_streams', '-show_format', '-of', 'json', `file:${place}`],
      {
        encoding: 'utf8',
        timeout: TAKES_AT_MOST_MS,
        killSignal: 'SIGKILL',
        maxBuffer: 16 << 20,
        stdio: ['ignore', 'pipe', 'ignore'],
      },
    );
  } catch {
    return { ok: false, trouble: { code: 'damaged', at: 0, detail: 'ffprobe cannot read it' } };
  }
  const { streams = [], format = {} } = JSON.parse(told) as {
    streams?: Stream[];
    format?: { format_name?: string; duration?: string };
  };
  const seconds = Number(format.duration) || 0;
  const tracks = streams.flatMap((stream) => trackOf(stream, seconds) ?? []);
  if (tracks.length === 0)
    return { ok: false, trouble: { code: 'damaged', at: 0, detail: 'there is no picture and no sound in it' } };
  const essence: Essence = {
    format: 'other',
    tracks,
    start: null,
    startSample: null,
    reel: null,
    duration: seconds > 0 ? { num: Math.round(seconds * 1e6), den: 1_000_000 } : null,
  };
  return { ok: true, essence };
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
