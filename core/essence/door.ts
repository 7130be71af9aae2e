// What a file says of itself is checked before it goes on: what no column and no arithmetic takes counts as not told, with
// a sentence. A file may say anything.
import type { Rate } from '../time/rates.ts';
import type { Essence, PictureTrack, SoundTrack } from './model.ts';

const MOST_INT = 2 ** 31 - 1;
/** Frames and samples: a thousand years of sound. */
const MOST_COUNT = 2e15;
/** Frames of sound a second: above that of any converter. */
const MOST_SAMPLE_RATE = 100_000_000;

export function atTheDoor(essence: Essence): { essence: Essence; said: string[] } {
  const said: string[] = [];
  const within = (what: string, value: number, most: number, least = 0): boolean => {
    if (Number.isFinite(value) && value >= least && value <= most) return true;
    if (said.length < 10) said.push(`it says ${what} of ${value}, which counts as not told`);
    return false;
  };
  const whole = (what: string, value: number, most: number) => (within(what, value, most) ? Math.round(value) : 0);
  const rate = (what: string, value: Rate | null): Rate | null =>
    value && within(what, value.num, MOST_INT, 1) && within(what, value.den, MOST_INT, 1) ? value : null;
  const bytes = (value: number | null) =>
    value !== null && within('sizes', value, Number.MAX_SAFE_INTEGER) ? value : null;
  const track = (one: PictureTrack | SoundTrack): PictureTrack | SoundTrack =>
    one.is === 'picture'
      ? {
          ...one,
          width: whole('a width', one.width, MOST_INT),
          height: whole('a height', one.height, MOST_INT),
          rate: rate('a frame rate', one.rate),
          frames: whole('a length', one.frames, MOST_COUNT),
          bytes: bytes(one.bytes),
        }
      : {
          ...one,
          channels: whole('a number of channels', one.channels, 65_535),
          sampleRate: whole('a sampling rate', one.sampleRate, MOST_SAMPLE_RATE),
          samples: whole('a length', one.samples, MOST_COUNT),
          bytes: bytes(one.bytes),
        };
  const { start, startSample, duration } = essence;
  const startRate = start && rate('a rate of its timecode', start.rate);
  return {
    essence: {
      ...essence,
      tracks: essence.tracks.map(track),
      start: start && startRate && within('a start', start.frame, MOST_COUNT) ? { ...start, rate: startRate } : null,
      startSample: startSample !== null && within('a start', startSample, MOST_COUNT) ? startSample : null,
      duration:
        duration &&
        within('a length', duration.num, Number.MAX_SAFE_INTEGER) &&
        within('a length', duration.den, Number.MAX_SAFE_INTEGER, 1)
          ? { num: Math.round(duration.num), den: Math.round(duration.den) }
          : null,
    },
    said,
  };
}
