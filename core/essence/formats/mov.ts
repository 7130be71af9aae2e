// MOV and MP4, whole or in fragments. Source: ISO/IEC 14496-12 (boxes, sample tables, edit lists, fragments), QuickTime
// File Format specification (tmcd tracks, reel names). Sample tables are read, samples never.
import { labelsPerSecond } from '../../time/timecode.ts';
import { gcd } from '../../time/fraction.ts';
import type { Rate } from '../../time/rates.ts';
import { type ByteSource, EssenceTrouble, piece } from '../bytes.ts';
import type { Essence, PictureTrack, SoundTrack, StartTimecode } from '../model.ts';
import { readMovie } from '../mov/movie.ts';
import type { MovTrack } from '../mov/track.ts';
import { MovSamples, shownTicks } from '../samples.ts';
import { type EssenceFormat, text } from './format.ts';

/** What the lengths of samples say together. */
interface Lengths {
  ticks: number;
  /** The commonest. */
  delta: number;
  /** The last, which many programs write as they like. */
  last: number;
  least: number;
  most: number;
}

/** Different lengths that are told apart: beyond, none is the common one. */
const MOST_DELTAS = 1000;

function lengthsOf(track: MovTrack): Lengths {
  const byDelta = new Map<number, number>();
  const found = { ticks: 0, delta: 0, last: 0, least: Infinity, most: 0 };
  const add = (n: number, delta: number) => {
    if (n === 0) return;
    found.ticks += n * delta;
    found.least = Math.min(found.least, delta);
    found.most = Math.max(found.most, delta);
    found.last = delta;
    if (byDelta.size < MOST_DELTAS || byDelta.has(delta)) byDelta.set(delta, (byDelta.get(delta) ?? 0) + n);
  };
  if (track.times) {
    const { data, begin, entries } = track.times;
    for (let i = 0; i < entries; i++) add(data.getUint32(begin + i * 8), data.getUint32(begin + i * 8 + 4));
  }
  const { count, duration } = track.fragments;
  for (let n = 0; n < count; n++) add(1, duration[n]!);
  let most = 0;
  for (const [delta, n] of byDelta) if (n > most) [most, found.delta] = [n, delta];
  return found;
}

function reduced(num: number, den: number): Rate | null {
  if (num <= 0 || den <= 0) return null;
  const divisor = gcd(num, den);
  return { num: num / divisor, den: den / divisor };
}

const USUAL: Rate[] = [24, 25, 30, 48, 50, 60, 90, 100, 120].flatMap((n) => [
  ...(n % 25 === 0 || n === 90 ? [] : [{ num: n * 1000, den: 1001 }]),
  { num: n, den: 1 },
]);

/**
 * The rate of a picture. Where lengths differ by one tick, the timescale does not divide the rate: 600 ticks a second make
 * 29.97 out of twenties and a few twenty-ones; then the usual rate that the whole fits to the tick is meant, that of the
 * timecode first. Else the commonest length tells.
 */
function rateOf(track: MovTrack, lengths: Lengths, timecode: Rate | null): Rate | null {
  const { timescale, count } = track;
  const { ticks, delta, last, least, most } = lengths;
  if (timescale <= 0 || delta <= 0) return null;
  const told = reduced(timescale, delta);
  const whole = count > 1 ? ticks - last : ticks;
  const frames = count > 1 ? count - 1 : count;
  const isJitter = most - least === 1 || (count > 2 && delta * frames !== whole && most - least <= 2);
  if (!isJitter) return told;
  const fits = (rate: Rate) => Math.abs((frames * timescale * rate.den) / rate.num - whole) <= 1.5;
  return [...(timecode ? [timecode] : []), ...USUAL].find(fits) ?? told;
}

export function readMov(source: ByteSource): Essence {
  const { tracks: all, timescale: movieScale } = readMovie(source);
  const some = (handler: string) => [...all.values()].filter((track) => track.handler === handler && track.count > 0);
  const [pictures, sounds] = [some('vide'), some('soun')];
  const code = [...all.values()].find((track) => track.timecode !== null);
  const codeRate = code?.timecode ? reduced(code.timecode.timescale, code.timecode.delta) : null;
  const lengths = new Map([...pictures, ...sounds].map((track) => [track, lengthsOf(track)]));
  const ticksOf = (track: MovTrack) => shownTicks(track, movieScale, lengths.get(track)!.ticks);
  const tracks: (PictureTrack | SoundTrack)[] = [
    ...pictures.map((track): PictureTrack => ({
      is: 'picture',
      codec: track.codec,
      width: track.width,
      height: track.height,
      rate: rateOf(track, lengths.get(track)!, codeRate),
      frames: new MovSamples(track, movieScale).shown,
      bytes: bytesOf(track),
    })),
    ...sounds.map((track): SoundTrack => {
      const sampleRate = track.sampleRate || track.timescale;
      const samples = track.timescale > 0 ? Math.round((ticksOf(track) * sampleRate) / track.timescale) : 0;
      return { is: 'sound', codec: track.codec, channels: track.channels, sampleRate, samples, bytes: bytesOf(track) };
    }),
  ];
  const [longest] = [...pictures, ...sounds];
  if (!longest) throw new EssenceTrouble(0, 'it has no track of picture or sound');
  return {
    format: 'mov',
    tracks,
    start: code ? startOf(source, code, tracks) : null,
    startSample: null,
    reel: code?.timecode?.reel ?? null,
    duration: longest.timescale > 0 ? { num: ticksOf(longest), den: longest.timescale } : null,
  };
}

/** Of all samples, shown or not. */
function bytesOf(track: MovTrack): number {
  let bytes = track.bytesBetween(0, track.told);
  const { count, size } = track.fragments;
  for (let n = 0; n < count; n++) bytes += size[n]!;
  return bytes;
}

/** The first sample of a timecode track: a frame number in 32 bits, counted in the track's own base. */
function startOf(source: ByteSource, track: MovTrack, tracks: Essence['tracks']): StartTimecode | null {
  const { timecode } = track;
  if (!timecode || track.count === 0 || timecode.base === 0) return null;
  const { at } = track.sample(0);
  if (at + 4 > source.size) return null;
  const frame = piece(source, at, 4).getUint32(0);
  const own = reduced(timecode.timescale, timecode.delta);
  const picture = tracks.find((one): one is PictureTrack => one.is === 'picture')?.rate ?? null;
  const { dropFrame, base } = timecode;
  if (!picture) return own && { frame, rate: own, dropFrame };
  // Counted as the picture is, whatever the ticks of its track say; or one label for each two or more of its frames.
  const times = labelsPerSecond(picture) / base;
  if (Number.isInteger(times) && times >= 1) return { frame: frame * times, rate: picture, dropFrame };
  return own && { frame, rate: own, dropFrame };
}

export const movFormat: EssenceFormat = {
  id: 'mov',
  endings: ['mov', 'mp4', 'm4v', 'm4a'],
  sniff: (head) => ['ftyp', 'moov', 'mdat', 'wide', 'free', 'skip', 'pnot', 'styp'].includes(text(head, 4, 4)),
  read: readMov,
};
