// What a media file's own structure says of it: codec, size, rate, channels, length, start timecode, reel. Asked for
// every file that documents name; never for what lies between the headers.
import type { Rate } from '../time/rates.ts';
import { readAiff } from './formats/aiff.ts';
import { type ByteSource, EssenceTrouble } from './bytes.ts';
import { readMov } from './formats/mov.ts';
import { readMxf } from './formats/mxf.ts';
import { readStill } from './formats/stills.ts';
import { readWav } from './formats/wav.ts';

export interface PictureTrack {
  is: 'picture';
  codec: string;
  width: number;
  height: number;
  /** Null for one still. */
  rate: Rate | null;
  frames: number;
  /** Exact, of all samples; null where the structure does not tell. */
  bytes: number | null;
}

export interface SoundTrack {
  is: 'sound';
  codec: string;
  channels: number;
  sampleRate: number;
  samples: number;
  bytes: number | null;
}

export interface StartTimecode {
  /** Frames from midnight, counted at `rate` rounded up to whole frames. */
  frame: number;
  rate: Rate;
  dropFrame: boolean;
}

export interface Essence {
  format: 'mov' | 'wav' | 'aiff' | 'mxf' | 'dpx' | 'exr' | 'tiff' | 'png' | 'jpeg' | 'other';
  tracks: (PictureTrack | SoundTrack)[];
  start: StartTimecode | null;
  /** Samples from midnight, of sound that has no timecode (EBU Tech 3285, TimeReference). */
  startSample: number | null;
  reel: string | null;
  /** Length of what is played, edit lists counted, in seconds as a fraction. */
  duration: { num: number; den: number } | null;
}

export type EssenceReading =
  | { ok: true; essence: Essence }
  | { ok: false; trouble: { code: 'not_known' | 'damaged'; at: number; detail: string } };

/** Reads a file's structure. Never throws for what the file says: what is wrong is a trouble with its place. */
export function readEssence(source: ByteSource): EssenceReading {
  const damaged = (at: number, detail: string): EssenceReading => ({
    ok: false,
    trouble: { code: 'damaged', at, detail },
  });
  if (source.size < 12) return damaged(0, 'the file is too short to be media');
  const head = source.read(0, Math.min(source.size, 64));
  try {
    const read = readerFor(head);
    if (!read)
      return {
        ok: false,
        trouble: { code: 'not_known', at: 0, detail: 'the file begins like no format that is read here' },
      };
    return { ok: true, essence: read(source) };
  } catch (error) {
    if (error instanceof EssenceTrouble) return damaged(error.at, error.message);
    // A view was asked for bytes it does not have: some structure is shorter than it must be.
    if (error instanceof RangeError) return damaged(0, 'a structure in it is shorter than it must be');
    throw error;
  }
}

function readerFor(head: Uint8Array): ((source: ByteSource) => Essence) | null {
  const text = (at: number, length: number) => String.fromCharCode(...head.subarray(at, at + length));
  const hex = (length: number) => [...head.subarray(0, length)].map((b) => b.toString(16).padStart(2, '0')).join('');
  if (['RIFF', 'RF64', 'BW64'].includes(text(0, 4)) && text(8, 4) === 'WAVE') return readWav;
  if (text(0, 4) === 'FORM' && ['AIFF', 'AIFC'].includes(text(8, 4))) return readAiff;
  if (['ftyp', 'moov', 'mdat', 'wide', 'free', 'skip', 'pnot', 'styp'].includes(text(4, 4))) return readMov;
  if (hex(11).startsWith('060e2b34020501010d0102')) return readMxf;
  if (
    ['SDPX', 'XPDS'].includes(text(0, 4)) ||
    hex(4) === '762f3101' ||
    ['49492a00', '4d4d002a', '49492b00', '4d4d002b'].includes(hex(4)) ||
    hex(8) === '89504e470d0a1a0a' ||
    hex(3) === 'ffd8ff'
  )
    return readStill;
  return null;
}

/** The whole in frames of a rate: the first picture's own, or what is given for sound alone. */
export function framesIn(essence: Essence, rate: Rate): number {
  const picture = essence.tracks.find((track) => track.is === 'picture');
  if (picture?.rate && picture.rate.num * rate.den === rate.num * picture.rate.den) return picture.frames;
  if (!essence.duration) return 0;
  const { num, den } = essence.duration;
  return Number((BigInt(num) * BigInt(rate.num)) / (BigInt(den) * BigInt(rate.den)));
}
