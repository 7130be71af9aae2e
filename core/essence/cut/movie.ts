// Cuts MOV and MP4: new tables over copied bytes, so that exactly the frames wanted are shown, every track in step with
// them. Fragments become one movie. What decoding needs before the first frame goes along, and the edit list hides it; the
// timecode begins with the new first frame. Source: ISO/IEC 14496-12; QuickTime File Format specification (tmcd).
import {
  ceil,
  compare,
  floor,
  type Fraction,
  fraction,
  gcd,
  greater,
  lesser,
  minus,
  ONE,
  over,
  plus,
  times,
  ZERO,
} from '../../time/fraction.ts';
import { type ByteSource, piece } from '../bytes.ts';
import { type Box, boxes, topBox, view } from '../mov/boxes.ts';
import { readMovie } from '../mov/movie.ts';
import type { MovTrack, Run } from '../mov/track.ts';
import { MovSamples } from '../samples.ts';
import { Bytes, CannotCut, recipe, type Recipe, type RecipePiece } from './recipe.ts';
import {
  box,
  chunkTables,
  isOfSamples,
  keysTable,
  type PlacedChunk,
  rawOf,
  type SampleRange,
  shiftsTable,
  sizesTable,
  sliced,
  timesTable,
} from './tables.ts';

/** Shown frames of its first picture; of a movie without one, frames of sound. `to` not included. */
export interface MovieRange {
  from: number;
  to: number;
  withoutData?: boolean;
}

/** Handlers of tracks that are watched, heard, counted by or read; others are data and metadata. */
const NO_DATA = new Set(['vide', 'soun', 'tmcd', 'text', 'subt', 'sbtl', 'clcp']);

const MOST_32 = 0xffffffff;
/** What stands beside the movie at the top and is copied as it is. */
const LARGEST_BESIDE = 16 << 20;

/** A stretch of the movie's time in which a track shows its own from `media` on, in its ticks. */
interface Segment {
  start: Fraction;
  end: Fraction;
  media: Fraction;
}

/** What stays of a track. */
interface Part {
  track: MovTrack;
  samples: SampleRange;
  /** In the movie's seconds from the cut's first frame. */
  segments: Segment[];
  /** The track's time at which its first sample that stays is decoded. */
  base: number;
  /** Samples at its beginning that only help to decode, and how long each is told to last, whatever it was. */
  lead: { samples: number; ticks: number };
  /** Of a timecode: its samples are written anew. */
  labels: { frame: number; ticks: number }[] | null;
  chunks: PlacedChunk[];
}

/** Throws CannotCut where it stays whole, EssenceTrouble where it is damaged. */
export function cutMovie(source: ByteSource, range: MovieRange): Recipe {
  const movie = readMovie(source);
  const tracks = [...movie.tracks.values()].filter((track) => !range.withoutData || NO_DATA.has(track.handler));
  tracks.forEach(refuse);
  const window = windowOf(tracks, movie.timescale, range);
  const parts = tracks.flatMap((track) => partOf(track, { source, movieScale: movie.timescale, window }) ?? []);
  const scale = commonScale([movie.timescale, ...parts.map((part) => part.track.timescale)]);
  const before = ftypOf(source);
  const moov = moovOf(source);
  const data = dataOf(parts);
  const beside = besides(source);
  const headLength = (length: number) => before.length + length + 16;
  // How long the tables are depends on how far into the file places lie, not on where.
  const kept = new Set(parts.map((part) => part.track.id));
  let made = moovOfParts(moov, parts, { scale, kept, at: 0, isLong: false });
  const isLong = headLength(made.length) + data.sizeBytes > MOST_32;
  if (isLong) made = moovOfParts(moov, parts, { scale, kept, at: 0, isLong });
  const at = headLength(made.length);
  made = moovOfParts(moov, parts, { scale, kept, at, isLong });
  const head = new Bytes()
    .add(before)
    .add(made)
    .u32(1)
    .letters('mdat')
    .u64(16 + data.sizeBytes);
  return recipe([{ bytes: head.bytes() }, ...data.pieces, { bytes: beside }]);
}

function refuse(track: MovTrack): void {
  if (track.codec === 'encv' || track.codec === 'enca') throw new CannotCut('it is encrypted');
  if (track.edits.some((edit) => edit.begins !== null && edit.isChanged))
    throw new CannotCut('its edit list changes how fast it is shown');
  if (track.timescale <= 0 && track.count > 0) throw new CannotCut('a track of it tells no timescale');
}

/** When a track shows what, in the movie's seconds. */
function segmentsOf(track: MovTrack, movieScale: number): Segment[] {
  if (track.count === 0) return [];
  const all = new MovSamples(track, movieScale, []);
  const [first, last] = [all.sampleShownAt(0), all.sampleShownAt(track.count - 1)];
  const ends = track.showTime(last) + track.durationOf(last);
  const seconds = (ticks: number) => fraction(ticks, track.timescale);
  if (track.edits.length === 0) {
    const begins = Math.min(0, track.showTime(first));
    return [{ start: ZERO, end: seconds(ends - begins), media: fraction(begins) }];
  }
  const found: Segment[] = [];
  // The end of the media is told in the movie's ticks, which are coarser.
  const slack = movieScale > 0 ? fraction(1, movieScale) : ZERO;
  let at = ZERO;
  for (const { begins, duration } of track.edits) {
    const told = movieScale > 0 ? fraction(duration, movieScale) : ZERO;
    const rest = begins === null ? ZERO : seconds(Math.max(0, ends - begins));
    const isRest = begins !== null && (duration === 0 || compare(told, minus(rest, slack)) >= 0);
    const end = plus(at, isRest ? rest : told);
    if (begins !== null && compare(at, end) < 0) found.push({ start: at, end, media: fraction(begins) });
    at = end;
  }
  return found;
}

interface Window {
  start: Fraction;
  end: Fraction;
}

/** The stretch of the movie's time that the wanted frames take. */
function windowOf(tracks: readonly MovTrack[], movieScale: number, range: MovieRange): Window {
  const lead =
    tracks.find((track) => track.handler === 'vide' && track.count > 0) ??
    tracks.find((track) => track.handler === 'soun' && track.count > 0);
  if (!lead) throw new CannotCut('it has neither picture nor sound');
  if (lead.edits.filter((edit) => edit.begins !== null).length > 1)
    throw new CannotCut('its edit list shows several pieces');
  const all = new MovSamples(lead, movieScale);
  if (lead.handler === 'soun') return soundWindow(lead, movieScale, range);
  if (range.from < 0 || range.to <= range.from || range.to > all.shown)
    throw new CannotCut(`frames ${range.from} to ${range.to} are not all in it`);
  const [segment] = segmentsOf(lead, movieScale);
  if (!segment) throw new CannotCut('its edit list shows nothing');
  const [first, last] = [all.sampleShownAt(range.from), all.sampleShownAt(range.to - 1)];
  const seconds = (ticks: number) => {
    const own = over(minus(fraction(ticks), segment.media), fraction(lead.timescale));
    return plus(segment.start, own);
  };
  const start = greater(segment.start, seconds(lead.showTime(first)));
  const end = seconds(lead.showTime(last) + lead.durationOf(last));
  return { start, end: range.to === all.shown ? lesser(end, segment.end) : end };
}

function soundWindow(lead: MovTrack, movieScale: number, { from, to }: MovieRange): Window {
  const [segment] = segmentsOf(lead, movieScale);
  const rate = lead.sampleRate || lead.timescale;
  const at = (sample: number) => plus(segment!.start, fraction(sample, rate));
  if (!segment || from < 0 || to <= from || compare(at(to), plus(segment.end, fraction(1, lead.timescale))) > 0)
    throw new CannotCut(`samples ${from} to ${to} are not all in it`);
  return { start: at(from), end: lesser(at(to), segment.end) };
}

interface Around {
  source: ByteSource;
  movieScale: number;
  window: Window;
}

/** Pictures that a decoder may hold back at the most (ISO/IEC 14496-10, A.3.1: max_dec_frame_buffering). */
const HELD_BACK = 16;

/** Packets before the first that is heard which a decoder needs to have its sound whole. */
const PREROLL: Record<string, number> = { Opus: 8, '.mp3': 12, mp4a: 2, 'ac-3': 2, 'ec-3': 2 };

/** Some programs write a timecode's one sample as if it lasted no time: it counts as long as anything is shown. */
function shownBy(track: MovTrack, movieScale: number, window: Window): Segment[] {
  const all = segmentsOf(track, movieScale);
  if (!track.timecode) return all;
  const last = all.pop() ?? { start: ZERO, end: ZERO, media: ZERO };
  return [...all, { ...last, end: greater(last.end, window.end) }];
}

function partOf(track: MovTrack, { source, movieScale, window }: Around): Part | null {
  // What tells how others are to be sent is not true of a part.
  if (track.count === 0 || track.handler === 'hint') return null;
  const segments = shownBy(track, movieScale, window).flatMap((segment): Segment[] => {
    const start = greater(segment.start, window.start);
    const end = lesser(segment.end, window.end);
    if (compare(start, end) >= 0) return [];
    const media = plus(segment.media, times(minus(start, segment.start), fraction(track.timescale)));
    return [{ start: minus(start, window.start), end: minus(end, window.start), media }];
  });
  if (segments.length === 0) return null;
  if (track.timecode) return timecodePart(track, segments, source);
  const all = new MovSamples(track, movieScale, []);
  let samples: SampleRange | null = null;
  for (const segment of segments) {
    const ticks = times(minus(segment.end, segment.start), fraction(track.timescale));
    const first = Math.max(0, all.firstFrom(floor(segment.media) + 1) - 1);
    const end = Math.max(first + 1, all.firstFrom(ceil(plus(segment.media, ticks))));
    const { from, to } = all.cut(first, end);
    samples = samples ? { from: Math.min(samples.from, from), to: Math.max(samples.to, to) } : { from, to };
  }
  const whole = fromPackets(track, samples!);
  // Decoders hold frames back to bring them into order, and some lose the last of very few.
  if (track.hasShifts) whole.to = Math.min(track.count, Math.max(whole.to, whole.from + HELD_BACK));
  const earliest = segments.reduce((least, { media }) => Math.min(least, floor(media)), Infinity);
  // An edit begins with the first sample or after it: where samples are shown before they are decoded, one group earlier.
  while (whole.from > 0 && track.sample(whole.from).decodeTime > earliest) whole.from = track.keyAtMost(whole.from - 1);
  const first = track.handler === 'soun' ? samples!.from : whole.from;
  // What a recorder noted as the length of packets that are not heard would be taken for sound to leave out.
  const lead = { samples: first - whole.from, ticks: track.durationOf(first) };
  const base = track.sample(first).decodeTime - lead.samples * lead.ticks;
  if (base > earliest) throw new CannotCut('its first frames are shown before they are decoded');
  return { track, samples: whole, segments, base, lead, labels: null, chunks: [] };
}

const NO_LEAD = { samples: 0, ticks: 0 };

/** How long its samples last, as runs. */
function timesOf({ track, samples, lead }: Part): Run[] {
  const runs = track.timesIn(samples.from + lead.samples, samples.to);
  return lead.samples === 0 ? runs : [{ samples: lead.samples, value: lead.ticks }, ...runs];
}

/** Whole packets, with those that decoding needs before. */
function fromPackets(track: MovTrack, { from, to }: SampleRange): SampleRange {
  const isSound = track.handler === 'soun';
  const begin = track.packetAt(Math.max(0, isSound ? from - (PREROLL[track.codec] ?? 0) : from));
  const last = track.packetAt(to - 1);
  return { from: begin, to: last === to - 1 && track.packetAt(to) === to ? to : endOfPacket(track, to) };
}

function endOfPacket(track: MovTrack, to: number): number {
  let end = to;
  while (end < track.told && track.packetAt(end) !== end) end++;
  return end;
}

/** A label at the new first frame; others, where it jumps, as they are. */
function timecodePart(track: MovTrack, segments: readonly Segment[], source: ByteSource): Part {
  const labels: { frame: number; ticks: number }[] = [];
  const { delta, timescale } = track.timecode!;
  // Its own ticks and those of its labels are told apart, and usually the same.
  const perTick = over(fraction(timescale), times(fraction(Math.max(1, delta)), fraction(track.timescale)));
  for (const { start, end, media } of segments) {
    const stop = plus(media, times(minus(end, start), fraction(track.timescale)));
    for (let n = 0; n < track.count; n++) {
      const { at, size, decodeTime, duration } = track.sample(n);
      const from = greater(media, fraction(decodeTime));
      const to = n === track.count - 1 ? stop : lesser(stop, fraction(decodeTime + duration));
      if (compare(from, to) >= 0 || size < 4) continue;
      const passed = times(minus(from, fraction(decodeTime)), perTick);
      const frame = piece(source, at, 4).getUint32(0) + floor(passed);
      labels.push({ frame, ticks: Math.max(1, floor(minus(to, from))) });
    }
  }
  if (labels.length === 0) throw new CannotCut('its timecode does not reach there');
  const length = labels.reduce((sum, label) => sum + label.ticks, 0);
  const shown = [{ ...segments[0]!, media: ZERO, end: plus(segments[0]!.start, fraction(length, track.timescale)) }];
  return {
    track,
    samples: { from: 0, to: labels.length },
    segments: shown,
    base: 0,
    lead: NO_LEAD,
    labels,
    chunks: [],
  };
}

/** Ticks a second that tell every track's own exactly, where 31 bits hold them; else those of the finest. */
function commonScale(scales: readonly number[]): number {
  let common = 1;
  for (const scale of scales.filter((one) => one > 0)) {
    const next = (common / gcd(common, scale)) * scale;
    if (next > 0x7fffffff) return Math.max(...scales);
    common = next;
  }
  return common;
}

/** Places everything that stays, in the order it had; a timecode's few bytes first. */
function dataOf(parts: readonly Part[]): Recipe {
  const pieces: RecipePiece[] = [];
  let at = 0;
  for (const part of parts) {
    if (!part.labels) continue;
    const bytes = new Bytes();
    for (const label of part.labels) bytes.u32(label.frame);
    part.chunks = [{ at, samples: part.labels.length, description: 1 }];
    pieces.push({ bytes: bytes.bytes() });
    at += bytes.length;
  }
  const runs = parts.flatMap((part) =>
    part.labels ? [] : [...part.track.chunkRuns(part.samples.from, part.samples.to)].map((run) => ({ part, run })),
  );
  const inOrder = [...runs].sort((a, b) => a.run.at - b.run.at);
  const places = new Map<object, number>();
  for (const { run } of inOrder) {
    places.set(run, at);
    pieces.push({ at: run.at, length: run.length });
    at += run.length;
  }
  for (const { part, run } of runs) {
    const place = places.get(run)!;
    const last = part.chunks.at(-1);
    // Samples of fragments that still touch are one chunk.
    const touches = last && run.from >= part.track.told && ends.get(last) === place && last.samples < 4096;
    if (touches) last.samples += run.to - run.from;
    else part.chunks.push({ at: place, samples: run.to - run.from, description: run.description });
    ends.set(part.chunks.at(-1)!, place + run.length);
  }
  return recipe(pieces);
}
const ends = new WeakMap<PlacedChunk, number>();

function* atTop(source: ByteSource): Generator<{ own: Box; at: number }> {
  for (let at = 0; at + 8 <= source.size;) {
    const own = topBox(source, at);
    yield { own, at };
    at = own.end;
  }
}

function ftypOf(source: ByteSource): Uint8Array {
  for (const { own } of atTop(source))
    if (own.type === 'ftyp' && own.end - own.begin <= LARGEST_BESIDE) {
      const contents = view(source, own);
      return box('ftyp', rawOf(contents, 0, contents.byteLength));
    }
  return new Uint8Array(0);
}

function moovOf(source: ByteSource): DataView {
  for (const { own } of atTop(source)) if (own.type === 'moov') return view(source, own);
  throw new CannotCut('it has no moov');
}

/** What else stands at the top and is no part of the movie's own machinery. */
function besides(source: ByteSource): Uint8Array {
  const out = new Bytes();
  for (const { own, at } of atTop(source))
    if ((own.type === 'uuid' || own.type === 'meta' || own.type === 'udta') && own.end - at <= LARGEST_BESIDE) {
      const whole = piece(source, at, own.end - at);
      out.add(rawOf(whole, 0, whole.byteLength));
    }
  return out.bytes();
}

interface Making {
  scale: number;
  /** Numbers of the tracks that stay. */
  kept: ReadonlySet<number>;
  /** Where the samples begin. */
  at: number;
  isLong: boolean;
}

/** How long a part is, in ticks of the movie. */
const lastOf = (part: Part, scale: number): number => ticksAt(part.segments.at(-1)!.end, scale);
/** The nearest tick. */
const ticksAt = (seconds: Fraction, scale: number): number =>
  floor(plus(times(seconds, fraction(scale)), over(ONE, fraction(2))));

function moovOfParts(moov: DataView, parts: readonly Part[], making: Making): Uint8Array {
  const out = new Bytes();
  const length = Math.max(...parts.map((part) => lastOf(part, making.scale)));
  for (const own of boxes(moov)) {
    if (own.type === 'mvhd') out.add(movieHead(moov, own, { scale: making.scale, length }));
    else if (own.type === 'trak') {
      const id = idOf(moov, own);
      const part = parts.find((one) => one.track.id === id);
      if (part) out.add(box('trak', trak(moov, own, { part, making })));
    } else if (own.type !== 'mvex' && own.type !== 'free') out.add(box(own.type, rawOf(moov, own.begin, own.end)));
  }
  return box('moov', out.bytes());
}

function idOf(moov: DataView, parent: Box): number {
  for (const own of boxes(moov, parent.begin, parent.end))
    if (own.type === 'tkhd') return moov.getUint32(own.begin + (moov.getUint8(own.begin) === 1 ? 20 : 12));
  return -1;
}

function movieHead(moov: DataView, own: Box, { scale, length }: { scale: number; length: number }): Uint8Array {
  const isLong = moov.getUint8(own.begin) === 1;
  const rest = rawOf(moov, own.begin + (isLong ? 32 : 20), own.end);
  // Preview, poster, selection and current time point into the whole.
  if (rest.length >= 76) rest.fill(0, 52, 76);
  const head = new Bytes();
  times32(head, moov, { own, isLong: isLong || length > MOST_32 });
  head.u32(scale);
  if (isLong || length > MOST_32) head.u64(length);
  else head.u32(length);
  return box('mvhd', head.add(rest).bytes());
}

/** Version, flags, and the times of making and changing, in 32 or 64 bits. */
function times32(out: Bytes, data: DataView, { own, isLong }: { own: Box; isLong: boolean }): void {
  const was = data.getUint8(own.begin) === 1;
  out.u32((Number(isLong) << 24) | (data.getUint32(own.begin) & 0xffffff));
  for (const i of [0, 1]) {
    const value = was ? Number(data.getBigUint64(own.begin + 4 + i * 8)) : data.getUint32(own.begin + 4 + i * 4);
    if (isLong) out.u64(value);
    else out.u32(value);
  }
}

interface Track {
  part: Part;
  making: Making;
}

function trak(moov: DataView, parent: Box, { part, making }: Track): Uint8Array {
  const out = new Bytes();
  const { scale } = making;
  let hasEdits = false;
  const edits = () => {
    if (hasEdits) return;
    hasEdits = true;
    out.add(box('edts', editList(part, scale)));
  };
  for (const own of boxes(moov, parent.begin, parent.end)) {
    switch (own.type) {
      case 'tkhd': {
        const length = lastOf(part, scale);
        const was = moov.getUint8(own.begin) === 1;
        const isLong = was || length > MOST_32;
        const head = new Bytes();
        times32(head, moov, { own, isLong });
        head.add(rawOf(moov, own.begin + (was ? 20 : 12), own.begin + (was ? 28 : 20)));
        if (isLong) head.u64(length);
        else head.u32(length);
        out.add(box('tkhd', head.add(rawOf(moov, own.begin + (was ? 36 : 24), own.end)).bytes()));
        edits();
        break;
      }
      case 'edts':
      case 'free':
        break;
      case 'tref':
        out.add(references(moov, own, making.kept));
        break;
      case 'mdia':
      case 'minf':
        out.add(box(own.type, trak(moov, own, { part, making })));
        break;
      case 'mdhd':
        out.add(mediaHead(moov, own, part));
        break;
      case 'stbl':
        out.add(box('stbl', tables(moov, own, { part, making })));
        break;
      case 'dinf':
        outside(moov, own);
        out.add(box(own.type, rawOf(moov, own.begin, own.end)));
        break;
      default:
        out.add(box(own.type, rawOf(moov, own.begin, own.end)));
    }
  }
  return out.bytes();
}

function mediaHead(moov: DataView, own: Box, part: Part): Uint8Array {
  const was = moov.getUint8(own.begin) === 1;
  const ticks = part.labels
    ? part.labels.reduce((sum, label) => sum + label.ticks, 0)
    : timesOf(part).reduce((sum, run) => sum + run.samples * run.value, 0);
  const isLong = was || ticks > MOST_32;
  const head = new Bytes();
  times32(head, moov, { own, isLong });
  head.u32(part.track.timescale);
  if (isLong) head.u64(ticks);
  else head.u32(ticks);
  return box('mdhd', head.add(rawOf(moov, own.begin + (was ? 32 : 20), own.end)).bytes());
}

/** Which other tracks a track goes with, as far as they stay. */
function references(moov: DataView, parent: Box, kept: ReadonlySet<number>): Uint8Array {
  const out = new Bytes();
  for (const own of boxes(moov, parent.begin, parent.end)) {
    const ids = new Bytes();
    for (let at = own.begin; at + 4 <= own.end; at += 4) if (kept.has(moov.getUint32(at))) ids.u32(moov.getUint32(at));
    if (ids.length > 0) out.add(box(own.type, ids.bytes()));
  }
  return out.length > 0 ? box('tref', out.bytes()) : new Uint8Array(0);
}

/** Samples that lie in another file are not here to be cut. */
function outside(moov: DataView, parent: Box): void {
  for (const own of boxes(moov, parent.begin, parent.end)) {
    if (own.type !== 'dref') continue;
    for (const entry of boxes(moov, own.begin + 8, own.end))
      if ((moov.getUint32(entry.begin) & 1) === 0) throw new CannotCut('its samples lie in another file');
  }
}

function tables(moov: DataView, parent: Box, { part, making }: Track): Uint8Array {
  const out = new Bytes();
  const { track, samples, labels } = part;
  const placed = part.chunks.map((chunk) => ({ ...chunk, at: chunk.at + making.at }));
  for (const own of boxes(moov, parent.begin, parent.end)) {
    if (own.type === 'stsd') {
      out.add(box('stsd', rawOf(moov, own.begin, own.end)));
      if (labels) {
        const rows = new Bytes();
        for (const label of labels) rows.u32(1).u32(label.ticks);
        out.add(box('stts', new Bytes().u32(0).u32(labels.length).add(rows.bytes()).bytes()));
        out.add(box('stsz', new Bytes().u32(0).u32(4).u32(labels.length).bytes()));
      } else
        for (const table of [
          timesTable(timesOf(part)),
          shiftsTable(track, samples),
          keysTable(track, samples),
          sizesTable(track, samples),
        ])
          if (table) out.add(table);
      out.add(chunkTables(placed, making.isLong));
    } else if (own.type === 'sgpd' && !labels) out.add(box('sgpd', rawOf(moov, own.begin, own.end)));
    else if (!isOfSamples(own.type) && !labels) {
      const table = sliced(moov, own, samples);
      if (table) out.add(table);
    }
  }
  return out.bytes();
}

function editList(part: Part, scale: number): Uint8Array {
  const rows: { duration: number; media: number }[] = [];
  let at = 0;
  for (const { start, end, media } of part.segments) {
    const [from, to] = [ticksAt(start, scale), ticksAt(end, scale)];
    if (from > at) rows.push({ duration: from - at, media: -1 });
    rows.push({ duration: Math.max(1, to - Math.max(at, from)), media: floor(media) - part.base });
    at = to;
  }
  const isLong = rows.some(({ duration, media }) => duration > MOST_32 || media > 0x7fffffff);
  const out = new Bytes().u32(Number(isLong) << 24).u32(rows.length);
  for (const { duration, media } of rows)
    if (isLong) out.u64(duration).i64(media).u32(0x10000);
    else out.u32(duration).i32(media).u32(0x10000);
  return box('elst', out.bytes());
}
