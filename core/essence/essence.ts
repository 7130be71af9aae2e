// What a media file's own structure says of it: codec, size, rate, channels, length, start timecode, reel. Asked for
// every file that documents name; never for what lies between the headers.
import type { Rate } from '../time/rates.ts';
import type { Essence } from './model.ts';
import { type ByteSource, EssenceTrouble } from './bytes.ts';
import { atTheDoor } from './door.ts';
import { essenceFormat } from './formats/registry.ts';

export type { Essence, PictureTrack, SoundTrack, StartTimecode } from './model.ts';

export type EssenceReading =
  /** `said`: what it says and nothing can take, in words. */
  | { ok: true; essence: Essence; said: string[] }
  | { ok: false; trouble: { code: 'not_known' | 'damaged'; at: number; detail: string } };

/** Structure of one file that is read at most, in all: a sparse file can announce any number of tables. */
const MOST_BYTES = 512 << 20;

function bounded(source: ByteSource): ByteSource {
  let left = MOST_BYTES;
  return {
    size: source.size,
    read(at, length) {
      left -= length;
      if (left < 0) throw new EssenceTrouble(at, `more than ${MOST_BYTES >> 20} MB of structure`);
      return source.read(at, length);
    },
  };
}

/** Reads a file's structure. Never throws for what the file says: what is wrong is a trouble with its place. */
export function readEssence(source: ByteSource): EssenceReading {
  const damaged = (at: number, detail: string): EssenceReading => ({
    ok: false,
    trouble: { code: 'damaged', at, detail },
  });
  if (source.size < 12) return damaged(0, 'the file is too short to be media');
  const head = source.read(0, Math.min(source.size, 64));
  try {
    const format = essenceFormat(head);
    if (!format)
      return {
        ok: false,
        trouble: { code: 'not_known', at: 0, detail: 'the file begins like no format that is read here' },
      };
    return { ok: true, ...atTheDoor(format.read(bounded(source))) };
  } catch (error) {
    if (error instanceof EssenceTrouble) return damaged(error.at, error.message);
    // A view was asked for bytes it does not have: some structure is shorter than it must be.
    if (error instanceof RangeError) return damaged(0, 'a structure in it is shorter than it must be');
    throw error;
  }
}

/** The whole in frames of a rate: the first picture's own, or what is given for sound alone. */
export function framesIn(essence: Essence, rate: Rate): number {
  const picture = essence.tracks.find((track) => track.is === 'picture');
  if (picture?.rate && picture.rate.num * rate.den === rate.num * picture.rate.den) return picture.frames;
  if (!essence.duration) return 0;
  const { num, den } = essence.duration;
  return Number((BigInt(num) * BigInt(rate.num)) / (BigInt(den) * BigInt(rate.den)));
}
