// Tracks of MOV and MP4 with their tables of samples. Tables stay the bytes they are until somebody asks: a million samples
// cost what their tables weigh. Source: ISO/IEC 14496-12, 8.6 to 8.8; QuickTime File Format specification (sound
// descriptions, tmcd).
import { EssenceTrouble } from '../bytes.ts';

/** One sample, in its track's ticks. */
export interface Sample {
  number: number;
  at: number;
  size: number;
  decodeTime: number;
  showTime: number;
  duration: number;
  /** Decoding can begin with it. */
  isKey: boolean;
}

export interface Edit {
  /** In the movie's timescale; 0: to the end. */
  duration: number;
  /** In the track's ticks; null shows nothing. */
  begins: number | null;
  /** Shown otherwise than as fast as it was recorded. */
  isChanged?: boolean;
}

export interface Defaults {
  duration: number;
  size: number;
  flags: number;
}

/** Two days of packets of sound, in 280 MB. */
const MOST_IN_FRAGMENTS = 1 << 23;

/** Samples of fragments, a row each, in arrays that grow. */
export class FragmentSamples {
  count = 0;
  private room = 0;
  at = new Float64Array(0);
  time = new Float64Array(0);
  size = new Uint32Array(0);
  duration = new Uint32Array(0);
  shift = new Int32Array(0);
  key = new Uint8Array(0);
  /** Where the next one begins if nothing says otherwise. */
  end = 0;

  add(at: number, size: number, { duration, shift, isKey }: { duration: number; shift: number; isKey: boolean }): void {
    if (this.count >= MOST_IN_FRAGMENTS)
      throw new EssenceTrouble(at, `more than ${MOST_IN_FRAGMENTS} samples in fragments`);
    if (this.count === this.room) this.grow();
    const n = this.count++;
    this.at[n] = at;
    this.size[n] = size;
    this.time[n] = this.end;
    this.duration[n] = duration;
    this.shift[n] = shift;
    this.key[n] = Number(isKey);
    this.end += duration;
  }

  private grow(): void {
    this.room = Math.max(256, this.room * 2);
    const into = <T extends { set(from: T): void }>(made: T, from: T): T => {
      made.set(from);
      return made;
    };
    this.at = into(new Float64Array(this.room), this.at);
    this.time = into(new Float64Array(this.room), this.time);
    this.size = into(new Uint32Array(this.room), this.size);
    this.duration = into(new Uint32Array(this.room), this.duration);
    this.shift = into(new Int32Array(this.room), this.shift);
    this.key = into(new Uint8Array(this.room), this.key);
  }
}

/** A table of the moov: so many entries from a place. */
export interface TableAt {
  data: DataView;
  begin: number;
  entries: number;
}

export interface ChunkRun {
  at: number;
  length: number;
  from: number;
  to: number;
  description: number;
}
export interface Run {
  samples: number;
  value: number;
}

/** Runs of samples that share a value, with the first sample and the first time of each. */
interface Runs {
  first: Float64Array;
  value: Float64Array;
  time: Float64Array;
}

/** The last place of a sorted list whose value is not above. */
export function lastAtMost(list: ArrayLike<number>, value: number): number {
  let [low, high] = [0, list.length];
  while (low < high) {
    const middle = (low + high) >>> 1;
    if (list[middle]! <= value) low = middle + 1;
    else high = middle;
  }
  return low - 1;
}

export class MovTrack {
  id = 0;
  handler = '';
  timescale = 0;
  codec = '';
  width = 0;
  height = 0;
  channels = 0;
  sampleRate = 0;
  /** Bytes of so many samples of plain sound, whose table of sizes says 1: 0 where sizes are what they say. */
  packet = { bytes: 0, samples: 1 };
  timecode: { timescale: number; delta: number; base: number; dropFrame: boolean; reel: string | null } | null = null;
  defaults: Defaults = { duration: 0, size: 0, flags: 0 };
  edits: Edit[] = [];
  /** Of every sample; 0 where each has its own. */
  sizeOfAll = 0;
  /** Samples that the moov itself tells. */
  told = 0;
  times: TableAt | null = null;
  shifts: TableAt | null = null;
  sizes: (TableAt & { bits: 4 | 8 | 16 | 32 }) | null = null;
  chunks: (TableAt & { isLong: boolean }) | null = null;
  perChunk: TableAt | null = null;
  keys: TableAt | null = null;
  readonly fragments = new FragmentSamples();
  private timeRuns: Runs | null = null;
  private shiftRuns: Runs | null = null;
  private firstOfChunk: Float64Array | null = null;
  /** By which sample description, counted from 1, each chunk is to be read. */
  private descriptions: Uint32Array | null = null;

  /** All samples, fragments included. */
  get count(): number {
    return this.told + this.fragments.count;
  }

  sample(number: number): Sample {
    if (!(number >= 0 && number < this.count)) throw new RangeError(`There is no sample ${number}.`);
    if (number >= this.told) return this.inFragment(number);
    const [decodeTime, duration] = this.timeOf(number);
    return {
      number,
      at: this.placeOf(number),
      size: this.bytesBetween(number, number + 1),
      decodeTime,
      showTime: decodeTime + this.shiftOf(number),
      duration,
      isKey: this.isKey(number),
    };
  }

  private inFragment(number: number): Sample {
    const { at, size, time, duration, shift, key } = this.fragments;
    const n = number - this.told;
    const isKey = key[n] === 1;
    return {
      number,
      at: at[n]!,
      size: size[n]!,
      decodeTime: time[n]!,
      showTime: time[n]! + shift[n]!,
      duration: duration[n]!,
      isKey,
    };
  }

  sizeOf(number: number): number {
    if (number < this.told) return this.bytesBetween(number, number + 1);
    return this.fragments.size[number - this.told]!;
  }

  /** When a sample is shown, edits not counted. */
  showTime(number: number): number {
    if (number < this.told) return this.timeOf(number)[0] + this.shiftOf(number);
    const n = number - this.told;
    return this.fragments.time[n]! + this.fragments.shift[n]!;
  }

  durationOf(number: number): number {
    return number < this.told ? this.timeOf(number)[1] : this.fragments.duration[number - this.told]!;
  }

  isKey(number: number): boolean {
    if (number >= this.told) return this.fragments.key[number - this.told] === 1;
    return this.keys === null || this.keyAtMost(number) === number;
  }

  /** The key sample with which decoding of a sample begins, by the order of decoding alone; 0 where none is told. */
  keyAtMost(number: number): number {
    if (number >= this.told) {
      for (let n = number - this.told; n >= 0; n--) if (this.fragments.key[n] === 1) return n + this.told;
      return this.told === 0 ? 0 : this.keyAtMost(this.told - 1);
    }
    if (this.keys === null) return number;
    const { data, begin, entries } = this.keys;
    let [low, high] = [0, entries];
    while (low < high) {
      const middle = (low + high) >>> 1;
      if (data.getUint32(begin + middle * 4) - 1 <= number) low = middle + 1;
      else high = middle;
    }
    return low === 0 ? 0 : data.getUint32(begin + (low - 1) * 4) - 1;
  }

  get hasShifts(): boolean {
    return this.shifts !== null || this.fragments.shift.some((shift, n) => n < this.fragments.count && shift !== 0);
  }

  /** Bytes of the samples from one to before another, of those that the moov tells. */
  bytesBetween(from: number, to: number): number {
    // Tables of plain sound count frames of sound and say 1, or less than one has.
    const { bytes, samples } = this.packet;
    if (this.sizeOfAll > 0 && this.sizeOfAll < bytes / samples) return Math.round(((to - from) / samples) * bytes);
    if (this.sizeOfAll > 0) return (to - from) * this.sizeOfAll;
    if (!this.sizes) return 0;
    const { data, begin, entries, bits } = this.sizes;
    let sum = 0;
    for (let n = from; n < Math.min(to, entries); n++) {
      if (bits === 32) sum += data.getUint32(begin + n * 4);
      else if (bits === 16) sum += data.getUint16(begin + n * 2);
      else if (bits === 8) sum += data.getUint8(begin + n);
      else sum += (data.getUint8(begin + (n >> 1)) >> (n % 2 === 0 ? 4 : 0)) & 15;
    }
    return sum;
  }

  /** Where in the file samples lie, from one to before another, in the order of decoding; neighbours joined. */
  pieces(from: number, to: number): { at: number; length: number }[] {
    const found: { at: number; length: number }[] = [];
    for (const { at, length } of this.chunkRuns(from, to)) {
      const last = found.at(-1);
      if (last && last.at + last.length === at) last.length += length;
      else if (length > 0) found.push({ at, length });
    }
    return found;
  }

  /** Samples from one to before another, by the chunks that they lie in. Of fragments each is a run of its own. */
  *chunkRuns(from: number, to: number): Generator<ChunkRun> {
    const first = this.chunkStarts();
    for (let n = from; n < Math.min(to, this.told);) {
      const chunk = lastAtMost(first, n);
      const end = Math.min(to, this.told, first[chunk + 1] ?? this.told);
      const description = this.descriptions![chunk] ?? 1;
      yield { at: this.placeOf(n), length: this.bytesBetween(n, end), from: n, to: end, description };
      n = end;
    }
    for (let n = Math.max(from, this.told); n < to; n++) {
      const [at, length] = [this.fragments.at[n - this.told]!, this.fragments.size[n - this.told]!];
      yield { at, length, from: n, to: n + 1, description: 1 };
    }
  }

  /** Lengths of samples, from one to before another, as runs. */
  timesIn(from: number, to: number): Run[] {
    this.timeRuns ??= runsOf(this.times);
    const { time, duration, count } = this.fragments;
    // Between fragments time may pass in which nothing is new.
    const lasts = (n: number) => (n + 1 < count && time[n + 1]! > time[n]! ? time[n + 1]! - time[n]! : duration[n]!);
    return this.runsIn(from, to, { runs: this.timeRuns, ofFragment: (n) => lasts(n) });
  }

  /** How much later than decoded samples are shown, as runs. */
  shiftsIn(from: number, to: number): Run[] {
    this.shiftRuns ??= runsOf(this.shifts, true);
    return this.runsIn(from, to, { runs: this.shiftRuns, ofFragment: (n) => this.fragments.shift[n]! });
  }

  private runsIn(
    from: number,
    to: number,
    { runs, ofFragment }: { runs: Runs; ofFragment: (n: number) => number },
  ): Run[] {
    const found: Run[] = [];
    const add = (samples: number, value: number) => {
      const last = found.at(-1);
      if (last?.value === value) last.samples += samples;
      else if (samples > 0) found.push({ samples, value });
    };
    const told = Math.min(to, this.told);
    for (let n = from; n < told;) {
      const run = lastAtMost(runs.first, n);
      const end = Math.min(told, runs.first[run + 1] ?? told);
      add(end - n, run < 0 ? 0 : runs.value[run]!);
      n = end;
    }
    for (let n = Math.max(from, this.told); n < to; n++) add(1, ofFragment(n - this.told));
    return found;
  }

  /**
   * The first sample of the packet that one lies in: itself, but for sound that is packed so many samples to a packet and
   * counted sample by sample.
   */
  packetAt(number: number): number {
    const { bytes, samples } = this.packet;
    if (number >= this.told || samples === 1 || !(this.sizeOfAll > 0 && this.sizeOfAll < bytes / samples))
      return number;
    const first = this.chunkStarts();
    const begin = first[lastAtMost(first, number)]!;
    return begin + Math.floor((number - begin) / samples) * samples;
  }

  private placeOf(number: number): number {
    if (!this.chunks) throw new EssenceTrouble(0, 'its samples have no places');
    const first = this.chunkStarts();
    const chunk = lastAtMost(first, number);
    const { data, begin, isLong } = this.chunks;
    const at = isLong ? Number(data.getBigUint64(begin + chunk * 8)) : data.getUint32(begin + chunk * 4);
    return at + this.bytesBetween(first[chunk]!, number);
  }

  /** The first sample of each chunk. */
  private chunkStarts(): Float64Array {
    if (this.firstOfChunk) return this.firstOfChunk;
    const count = this.chunks?.entries ?? 0;
    const first = new Float64Array(count);
    this.descriptions = new Uint32Array(count);
    const table = this.perChunk;
    let sample = 0;
    for (let i = 0; table && i < table.entries; i++) {
      const from = table.data.getUint32(table.begin + i * 12) - 1;
      const each = table.data.getUint32(table.begin + i * 12 + 4);
      const to = i + 1 < table.entries ? table.data.getUint32(table.begin + (i + 1) * 12) - 1 : count;
      for (let chunk = from; chunk < Math.min(to, count); chunk++) {
        first[chunk] = sample;
        this.descriptions[chunk] = table.data.getUint32(table.begin + i * 12 + 8);
        sample += each;
      }
    }
    return (this.firstOfChunk = first);
  }

  private timeOf(number: number): [time: number, duration: number] {
    this.timeRuns ??= runsOf(this.times);
    const { first, value, time } = this.timeRuns;
    const run = lastAtMost(first, number);
    return run < 0 ? [0, 0] : [time[run]! + (number - first[run]!) * value[run]!, value[run]!];
  }

  private shiftOf(number: number): number {
    if (!this.shifts) return 0;
    this.shiftRuns ??= runsOf(this.shifts, true);
    const run = lastAtMost(this.shiftRuns.first, number);
    return run < 0 ? 0 : this.shiftRuns.value[run]!;
  }
}

/** Shifts are signed also where their table's version says that they are not: programs write them so. */
function runsOf(table: TableAt | null, signed = false): Runs {
  const count = table?.entries ?? 0;
  const runs: Runs = { first: new Float64Array(count), value: new Float64Array(count), time: new Float64Array(count) };
  let [first, time] = [0, 0];
  for (let i = 0; table && i < count; i++) {
    const n = table.data.getUint32(table.begin + i * 8);
    const value = signed ? table.data.getInt32(table.begin + i * 8 + 4) : table.data.getUint32(table.begin + i * 8 + 4);
    runs.first[i] = first;
    runs.value[i] = value;
    runs.time[i] = time;
    first += n;
    time += n * value;
  }
  return runs;
}
