// Where in a file the frames of its picture and sound lie: which samples a range of frames is, the bytes they take, and
// from which sample decoding must begin. Archives are cut by it. Frames are counted as they are shown, edit lists applied.
// Source: ISO/IEC 14496-12, 8.6; for sound of plain samples the formats of its own files.
import { type ByteSource, letters, piece } from './bytes.ts';
import { soundData as aiffData } from './formats/aiff.ts';
import { soundData as wavData } from './formats/wav.ts';
import type { SoundData } from './model.ts';
import { readMovie } from './mov/movie.ts';
import { type Edit, type MovTrack, type Sample } from './mov/track.ts';

export type { Sample } from './mov/track.ts';

/** What a range of shown frames takes of a file. */
export interface Cut {
  /** Samples in the order of decoding, from the key sample with which decoding must begin to the last, `to` not included. */
  from: number;
  to: number;
  /** Samples of `from` to `to` that are shown, in the order of showing; others only help to decode them. */
  shown: readonly number[] | { from: number; to: number };
  bytes: number;
  /** In the order of decoding; pieces that touch are one. */
  pieces: { at: number; length: number }[];
}

export interface TrackSamples {
  readonly id: number;
  readonly is: 'picture' | 'sound' | 'timecode' | 'other';
  readonly codec: string;
  /** Ticks a second, in which samples are timed. */
  readonly timescale: number;
  /** All samples there are, in the order of decoding. */
  readonly count: number;
  /** Frames that are shown: of sound its frames of sound where every sample is one, else its packets. */
  readonly shown: number;
  /** Throws RangeError where there is none. */
  sample(number: number): Sample;
  /** The number of the sample that is shown as frame `frame`. */
  sampleShownAt(frame: number): number;
  /** Shown frames from one to before another. Throws RangeError where they are not all there. */
  cut(from: number, to: number): Cut;
}

/** The tracks of a MOV, MP4, WAV, RF64 or AIFF. Throws EssenceTrouble where the file is none of them, or not whole. */
export function readSamples(source: ByteSource): TrackSamples[] {
  const head = letters(piece(source, 0, Math.min(12, source.size)), 0, 4);
  if (['RIFF', 'RF64', 'BW64'].includes(head)) return [new PlainSound(wavData(source))];
  if (head === 'FORM') return [new PlainSound(aiffData(source))];
  const movie = readMovie(source);
  return [...movie.tracks.values()].map((track) => new MovSamples(track, movie.timescale));
}

function checkRange(from: number, to: number, shown: number): void {
  if (!Number.isInteger(from) || !Number.isInteger(to) || from < 0 || to <= from || to > shown)
    throw new RangeError(`Frames ${from} to ${to} are not all there: it has ${shown}.`);
}

class PlainSound implements TrackSamples {
  readonly id = 1;
  readonly is = 'sound';
  readonly codec: string;
  readonly timescale: number;
  readonly count: number;

  constructor(private readonly data: SoundData) {
    this.codec = data.codec;
    this.timescale = data.sampleRate;
    this.count = Math.floor(data.bytes / data.frameBytes);
  }
  get shown(): number {
    return this.count;
  }
  sample(number: number): Sample {
    checkRange(number, number + 1, this.count);
    const { at, frameBytes } = this.data;
    const times = { decodeTime: number, showTime: number, duration: 1 };
    return { number, at: at + number * frameBytes, size: frameBytes, ...times, isKey: true };
  }
  sampleShownAt(frame: number): number {
    checkRange(frame, frame + 1, this.count);
    return frame;
  }
  cut(from: number, to: number): Cut {
    checkRange(from, to, this.count);
    const length = (to - from) * this.data.frameBytes;
    const pieces = [{ at: this.data.at + from * this.data.frameBytes, length }];
    return { from, to, shown: { from, to }, bytes: length, pieces };
  }
}

const KINDS: Record<string, TrackSamples['is']> = { vide: 'picture', soun: 'sound', tmcd: 'timecode' };

/** Places in the order of showing, from one to before another. */
interface Part {
  from: number;
  to: number;
}

export class MovSamples implements TrackSamples {
  readonly id: number;
  readonly is: TrackSamples['is'];
  readonly codec: string;
  readonly timescale: number;
  readonly count: number;
  /** Sample numbers in the order of showing; null where that is the order of decoding. */
  private order: Uint32Array | null | undefined;
  private found: Part[] | null = null;

  /** `edits`: those of the track, or others; none shows every sample. */
  constructor(
    private readonly track: MovTrack,
    private readonly movieScale: number,
    private readonly edits: readonly Edit[] = track.edits,
  ) {
    this.id = track.id;
    this.is = KINDS[track.handler] ?? 'other';
    this.codec = track.codec;
    this.timescale = track.timescale;
    this.count = track.count;
  }

  get shown(): number {
    return this.parts().reduce((sum, part) => sum + part.to - part.from, 0);
  }

  sample(number: number): Sample {
    return this.track.sample(number);
  }

  sampleShownAt(frame: number): number {
    let left = frame;
    for (const { from, to } of this.parts()) {
      if (left >= 0 && left < to - from) return this.at(from + left);
      left -= to - from;
    }
    throw new RangeError(`Frame ${frame} is not there: it has ${this.shown}.`);
  }

  /** Of all that is shown, in its order: the first that has not begun by a time, in ticks; edits not counted. */
  firstFrom(time: number): number {
    let [low, high] = [0, this.count];
    while (low < high) {
      const middle = (low + high) >>> 1;
      if (this.track.showTime(this.at(middle)) < time) low = middle + 1;
      else high = middle;
    }
    return low;
  }

  cut(from: number, to: number): Cut {
    checkRange(from, to, this.shown);
    const shown = this.showing() === null ? this.plainly(from, to) : null;
    const numbers = shown ? null : Array.from({ length: to - from }, (_, i) => this.sampleShownAt(from + i));
    const [first, last] = shown
      ? [shown.from, shown.to - 1]
      : numbers!.reduce(([low, high], n) => [Math.min(low, n), Math.max(high, n)] as [number, number], [Infinity, 0]);
    let begin = Infinity;
    // Which of them needs the earliest start is found among those that come first in decoding.
    for (const number of numbers ?? [first]) begin = Math.min(begin, this.decodingBegins(number, begin));
    const pieces = this.track.pieces(begin, last + 1);
    const bytes = pieces.reduce((sum, one) => sum + one.length, 0);
    return { from: begin, to: last + 1, shown: shown ?? numbers!, bytes, pieces };
  }

  /** Frames of one part whose order is that of decoding. */
  private plainly(from: number, to: number): Part | null {
    const first = this.sampleShownAt(from);
    const last = this.sampleShownAt(to - 1);
    return last - first === to - 1 - from ? { from: first, to: last + 1 } : null;
  }

  /**
   * The key sample before. Of an open group, what is shown before its key sample needs the group before as well
   * (ISO/IEC 14496-10, recovery points; 'leading pictures' of ISO/IEC 23008-2).
   */
  private decodingBegins(number: number, known: number): number {
    const key = this.track.keyAtMost(number);
    if (key >= known || key === 0 || key === number) return key;
    return this.track.showTime(number) < this.track.showTime(key) ? this.track.keyAtMost(key - 1) : key;
  }

  private at(place: number): number {
    return this.showing()?.[place] ?? place;
  }

  private showing(): Uint32Array | null {
    if (this.order !== undefined) return this.order;
    if (!this.track.hasShifts) return (this.order = null);
    const times = Float64Array.from({ length: this.count }, (_, n) => this.track.showTime(n));
    const order = Uint32Array.from({ length: this.count }, (_, n) => n);
    order.sort((a, b) => times[a]! - times[b]! || a - b);
    return (this.order = order);
  }

  /** What the edit list shows, in its order; all of it where there is none. */
  private parts(): Part[] {
    if (this.found) return this.found;
    const edits = this.edits.filter((edit) => edit.begins !== null);
    this.found =
      edits.length === 0 || this.count === 0
        ? [{ from: 0, to: this.count }]
        : edits.map((edit) => this.partOf(edit)).filter((part) => part.to > part.from);
    return this.found;
  }

  private partOf({ begins, duration }: Edit): Part {
    const from = begins!;
    const ticks = this.movieScale > 0 ? (duration * this.timescale) / this.movieScale : 0;
    // Lengths are told in the movie's ticks, which are coarser: what ends within one of them ends where the media ends, and
    // less than half a frame is no frame more.
    const slack = this.movieScale > 0 ? this.timescale / this.movieScale : 0;
    const end = this.at(this.count - 1);
    const long = this.track.durationOf(end);
    const isWhole = duration === 0 || from + ticks >= this.track.showTime(end) + long - slack;
    const to = isWhole ? Infinity : from + ticks;
    let first = this.firstFrom(from);
    // One that begins before and goes on is shown from there.
    if (first > 0) {
      const before = this.at(first - 1);
      if (this.track.showTime(before) + this.track.durationOf(before) > from) first--;
    }
    const last = to === Infinity ? this.count : this.firstFrom(to - Math.min(slack, long / 2));
    return { from: first, to: Math.max(first, last) };
  }
}

/** Pictures that are shown out of their order lie no further apart than this. */
const FURTHEST_APART = 256;

/** When the last sample has been shown, in ticks: later than all are decoded where they are shown out of their order. */
function endOf(track: MovTrack, ticks: number): number {
  if (!track.hasShifts) return ticks;
  let end = 0;
  for (let n = Math.max(0, track.count - FURTHEST_APART); n < track.count; n++)
    end = Math.max(end, track.showTime(n) + track.durationOf(n));
  return end;
}

/** How long a track is shown, in its ticks: edits counted, as exactly as they can be. */
export function shownTicks(track: MovTrack, movieScale: number, ticks: number): number {
  const edits = track.edits.filter((edit) => edit.begins !== null);
  if (edits.length === 0 || movieScale <= 0) return ticks;
  const end = endOf(track, ticks);
  let sum = 0;
  for (const { begins, duration } of edits) {
    const told = (duration * track.timescale) / movieScale;
    const rest = Math.max(0, end - begins!);
    // What ends where the media ends is told in ticks that are too coarse: the media knows better.
    sum += duration === 0 || told > rest || rest - told <= track.timescale / movieScale ? rest : told;
  }
  return Math.round(sum);
}
