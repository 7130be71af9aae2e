// MOV and MP4, whole or in fragments. Source: ISO/IEC 14496-12 (boxes, sample tables, edit lists, fragments), QuickTime
// File Format specification (tmcd tracks, reel names). Sample tables are read, samples never.
import type { Rate } from '../../time/rates.ts';
import { type ByteSource, count64, EssenceTrouble, letters, piece } from '../bytes.ts';
import type { Essence, PictureTrack, SoundTrack, StartTimecode } from '../model.ts';
import { type EssenceFormat, text } from './format.ts';

const MOST_BOXES = 20_000;
const DEEPEST = 12;

interface Box {
  type: string;
  /** Where its contents begin and end, in the file or in the view it was read from. */
  begin: number;
  end: number;
}

interface Track {
  id: number;
  handler: string;
  timescale: number;
  codec: string;
  width: number;
  height: number;
  channels: number;
  sampleRate: number;
  samples: number;
  /** In the track's timescale, all samples. */
  ticks: number;
  /** The length most samples have. */
  delta: number;
  bytes: number | null;
  firstOffset: number | null;
  /** Of what is played, in the movie's timescale; null without an edit list. */
  edited: number | null;
  timecode: { timescale: number; delta: number; base: number; dropFrame: boolean; reel: string | null } | null;
  defaults: { duration: number; size: number };
}

export function readMov(source: ByteSource): Essence {
  const tracks = new Map<number, Track>();
  const movie = { timescale: 0 };
  let seen = false;
  let at = 0;
  for (let n = 0; at + 8 <= source.size; n++) {
    if (n > MOST_BOXES) throw new EssenceTrouble(at, `more than ${MOST_BOXES} boxes at its top`);
    const box = topBox(source, at);
    if (box.type === 'moov') {
      seen = true;
      readMoov(view(source, box), movie, tracks);
    } else if (box.type === 'moof') readMoof(view(source, box), tracks);
    if (box.end <= at) throw new EssenceTrouble(at, 'a box without length');
    at = box.end;
  }
  if (!seen) throw new EssenceTrouble(0, 'it has no moov: the recording was never finished, or was cut off');
  return essenceOf(source, [...tracks.values()], movie.timescale);
}

function topBox(source: ByteSource, at: number): Box {
  const head = piece(source, at, Math.min(16, source.size - at));
  const type = letters(head, 4, 4);
  const size = head.getUint32(0);
  if (size === 0) return { type, begin: at + 8, end: source.size };
  if (size !== 1) {
    if (size < 8) throw new EssenceTrouble(at, 'a box smaller than its own head');
    // What lies beyond the end is a recording that was cut off; its moov, if it has one, came before.
    return { type, begin: at + 8, end: Math.min(at + size, Math.max(source.size, at + 8)) };
  }
  const large = count64(head, 8, at);
  if (large < 16) throw new EssenceTrouble(at, 'a box smaller than its own head');
  return { type, begin: at + 16, end: Math.min(at + large, source.size) };
}

const view = (source: ByteSource, box: Box): DataView => piece(source, box.begin, box.end - box.begin);

/** The boxes in a piece, in their order. */
function* boxes(data: DataView, begin = 0, end = data.byteLength): Generator<Box> {
  let at = begin;
  for (let n = 0; at + 8 <= end; n++) {
    if (n > MOST_BOXES) throw new EssenceTrouble(at, `more than ${MOST_BOXES} boxes in one`);
    const size = data.getUint32(at);
    const type = letters(data, at + 4, 4);
    const large = size === 1;
    const length = size === 0 ? end - at : large ? count64(data, at + 8, at) : size;
    // Old files end a list of boxes with four zero bytes.
    if (size === 0 && type === '') return;
    if (length < (large ? 16 : 8) || at + length > end)
      throw new EssenceTrouble(at, `the box "${type}" is longer than what it lies in`);
    yield { type, begin: at + (large ? 16 : 8), end: at + length };
    at += length;
  }
}

function readMoov(data: DataView, movie: { timescale: number }, tracks: Map<number, Track>): void {
  for (const box of boxes(data)) {
    if (box.type === 'mvhd') movie.timescale = data.getUint32(box.begin + (data.getUint8(box.begin) === 1 ? 20 : 12));
    else if (box.type === 'trak') {
      const track = emptyTrack();
      readTrak(data, box, track, 0);
      tracks.set(track.id, track);
    } else if (box.type === 'mvex')
      for (const inner of boxes(data, box.begin, box.end))
        if (inner.type === 'trex') {
          const track = tracks.get(data.getUint32(inner.begin + 4));
          if (track)
            track.defaults = { duration: data.getUint32(inner.begin + 12), size: data.getUint32(inner.begin + 16) };
        }
  }
}

const emptyTrack = (): Track => ({
  id: 0,
  handler: '',
  timescale: 0,
  codec: '',
  width: 0,
  height: 0,
  channels: 0,
  sampleRate: 0,
  samples: 0,
  ticks: 0,
  delta: 0,
  bytes: null,
  firstOffset: null,
  edited: null,
  timecode: null,
  defaults: { duration: 0, size: 0 },
});

const INSIDE = new Set(['mdia', 'minf', 'stbl', 'edts']);

function readTrak(data: DataView, parent: Box, track: Track, depth: number): void {
  if (depth > DEEPEST) throw new EssenceTrouble(parent.begin, 'boxes nested too deep');
  for (const box of boxes(data, parent.begin, parent.end)) {
    const { type, begin } = box;
    if (INSIDE.has(type)) readTrak(data, box, track, depth + 1);
    else if (type === 'tkhd') {
      const long = data.getUint8(begin) === 1;
      track.id = data.getUint32(begin + (long ? 20 : 12));
    } else if (type === 'mdhd') track.timescale = data.getUint32(begin + (data.getUint8(begin) === 1 ? 20 : 12));
    // A media handler; a data handler of the same box type says "alis" and comes after.
    else if (type === 'hdlr' && track.handler === '') track.handler = letters(data, begin + 8, 4);
    else if (type === 'stsd') readDescription(data, box, track);
    else if (type === 'stts') readTimes(data, box, track);
    else if (type === 'stsz') readSizes(data, box, track);
    else if (type === 'stz2') track.samples = Math.max(track.samples, data.getUint32(begin + 8));
    else if (type === 'stco' && data.getUint32(begin + 4) > 0) track.firstOffset = data.getUint32(begin + 8);
    else if (type === 'co64' && data.getUint32(begin + 4) > 0) track.firstOffset = count64(data, begin + 8, begin);
    else if (type === 'elst') readEdits(data, box, track);
  }
}

/** How many entries a table can have at most in the bytes it lies in: a count beyond that is a lie. */
function entries(data: DataView, box: Box, at: number, width: number): number {
  const told = data.getUint32(at);
  const room = Math.floor((box.end - at - 4) / width);
  if (told > room) throw new EssenceTrouble(at, `a table of ${told} entries in the room of ${room}`);
  return told;
}

function readDescription(data: DataView, box: Box, track: Track): void {
  if (data.getUint32(box.begin + 4) === 0) return;
  const entry = box.begin + 8;
  const length = Math.min(data.getUint32(entry), box.end - entry);
  track.codec = letters(data, entry + 4, 4).trim();
  if (track.codec === 'tmcd' && length >= 33) {
    track.timecode = {
      dropFrame: (data.getUint32(entry + 20) & 1) === 1,
      timescale: data.getUint32(entry + 24),
      delta: data.getUint32(entry + 28),
      base: data.getUint8(entry + 32),
      reel: reelIn(data, entry + 34, entry + length),
    };
  } else if (track.handler === 'vide' && length >= 36) {
    track.width = data.getUint16(entry + 32);
    track.height = data.getUint16(entry + 34);
  } else if (track.handler === 'soun' && length >= 36) {
    const version = data.getUint16(entry + 16);
    track.channels = data.getUint16(entry + 24);
    track.sampleRate = data.getUint32(entry + 32) >>> 16;
    if (version === 2 && length >= 64) {
      track.sampleRate = Math.round(data.getFloat64(entry + 40));
      track.channels = data.getUint32(entry + 48);
    }
    if (track.codec === 'mp4a' && version === 0)
      track.channels = channelsOf(data, entry + 36, entry + length) ?? track.channels;
  }
}

/** Channels of AAC as its own configuration has them (ISO/IEC 14496-3, 1.6.2.1); the box around it often says two. */
function channelsOf(data: DataView, begin: number, end: number): number | null {
  for (const box of boxes(data, begin, end)) {
    if (box.type !== 'esds') continue;
    // Descriptors in descriptors: the one with tag 5 holds the configuration.
    for (let at = box.begin + 4; at + 2 < box.end;) {
      const tag = data.getUint8(at++);
      let length = 0;
      for (let i = 0; i < 4 && at < box.end; i++) {
        const byte = data.getUint8(at++);
        length = length * 128 + (byte & 0x7f);
        if (byte < 0x80) break;
      }
      if (tag === 5 && length >= 2 && at + 2 <= box.end) {
        const channels = (data.getUint8(at + 1) >> 3) & 15;
        return channels >= 1 && channels <= 6 ? channels : channels === 7 ? 8 : null;
      }
      at += tag === 3 ? 3 : tag === 4 ? 13 : length;
    }
  }
  return null;
}

/** The name atom of a timecode description: the reel. */
function reelIn(data: DataView, begin: number, end: number): string | null {
  for (const box of boxes(data, begin, end))
    if (box.type === 'name' && box.end - box.begin >= 4)
      return letters(data, box.begin + 4, Math.min(data.getUint16(box.begin), box.end - box.begin - 4)) || null;
  return null;
}

function readTimes(data: DataView, box: Box, track: Track): void {
  const count = entries(data, box, box.begin + 4, 8);
  const byDelta = new Map<number, number>();
  let samples = 0;
  for (let i = 0; i < count; i++) {
    const n = data.getUint32(box.begin + 8 + i * 8);
    const delta = data.getUint32(box.begin + 12 + i * 8);
    samples += n;
    track.ticks += n * delta;
    byDelta.set(delta, (byDelta.get(delta) ?? 0) + n);
  }
  track.samples = Math.max(track.samples, samples);
  track.delta = [...byDelta].sort((a, b) => b[1] - a[1])[0]?.[0] ?? 0;
}

function readSizes(data: DataView, box: Box, track: Track): void {
  const each = data.getUint32(box.begin + 4);
  const told = data.getUint32(box.begin + 8);
  track.samples = Math.max(track.samples, told);
  if (each > 0) {
    // Of plain sound the table counts frames of sound, each of a size that the description tells.
    track.bytes = each * told;
    return;
  }
  const count = entries(data, box, box.begin + 8, 4);
  let bytes = 0;
  for (let i = 0; i < count; i++) bytes += data.getUint32(box.begin + 12 + i * 4);
  track.bytes = bytes;
}

/** The length of what is played, empty edits left out. */
function readEdits(data: DataView, box: Box, track: Track): void {
  const long = data.getUint8(box.begin) === 1;
  const width = long ? 20 : 12;
  const count = entries(data, box, box.begin + 4, width);
  let edited = 0;
  for (let i = 0; i < count; i++) {
    const at = box.begin + 8 + i * width;
    const duration = long ? count64(data, at, at) : data.getUint32(at);
    const time = long ? data.getBigInt64(at + 8) : BigInt(data.getInt32(at + 4));
    if (time !== -1n) edited += duration;
  }
  if (count > 0) track.edited = edited;
}

/** A fragment: samples counted where their run is told. Source: ISO/IEC 14496-12, 8.8. */
function readMoof(data: DataView, tracks: Map<number, Track>): void {
  for (const box of boxes(data)) {
    if (box.type !== 'traf') continue;
    let track: Track | undefined;
    let defaults = { duration: 0, size: 0 };
    for (const inner of boxes(data, box.begin, box.end)) {
      if (inner.type === 'tfhd') {
        const flags = data.getUint32(inner.begin) & 0xffffff;
        track = tracks.get(data.getUint32(inner.begin + 4));
        defaults = { ...(track?.defaults ?? defaults) };
        let at = inner.begin + 8;
        if (flags & 1) at += 8;
        if (flags & 2) at += 4;
        if (flags & 8) {
          defaults.duration = data.getUint32(at);
          at += 4;
        }
        if (flags & 16) defaults.size = data.getUint32(at);
      } else if (inner.type === 'trun' && track) readRun(data, inner, track, defaults);
    }
  }
}

function readRun(data: DataView, box: Box, track: Track, defaults: Track['defaults']): void {
  const flags = data.getUint32(box.begin) & 0xffffff;
  let at = box.begin + 8 + (flags & 1 ? 4 : 0) + (flags & 4 ? 4 : 0);
  const width = [0x100, 0x200, 0x400, 0x800].reduce((sum, flag) => sum + (flags & flag ? 4 : 0), 0);
  const count = data.getUint32(box.begin + 4);
  if (width > 0 && count > (box.end - at) / width)
    throw new EssenceTrouble(box.begin, `a run of ${count} samples in the room of fewer`);
  if (count > 10_000_000) throw new EssenceTrouble(box.begin, `a run of ${count} samples`);
  track.samples += count;
  track.bytes ??= 0;
  if (width === 0 || !(flags & 0x300)) {
    track.ticks += count * defaults.duration;
    track.bytes += count * defaults.size;
    track.delta ||= defaults.duration;
    return;
  }
  for (let i = 0; i < count; i++, at += width) {
    const duration = flags & 0x100 ? data.getUint32(at) : defaults.duration;
    track.ticks += duration;
    track.bytes += flags & 0x200 ? data.getUint32(at + (flags & 0x100 ? 4 : 0)) : defaults.size;
    track.delta ||= duration;
  }
}

function essenceOf(source: ByteSource, all: readonly Track[], movieScale: number): Essence {
  const picture = all.filter((track) => track.handler === 'vide' && track.samples > 0);
  const sound = all.filter((track) => track.handler === 'soun' && track.samples > 0);
  const code = all.find((track) => track.timecode !== null);
  const tracks: (PictureTrack | SoundTrack)[] = [
    ...picture.map((track): PictureTrack => ({
      is: 'picture',
      codec: track.codec,
      width: track.width,
      height: track.height,
      rate: rateOf(track.timescale, track.delta),
      frames: track.samples,
      bytes: track.bytes,
    })),
    ...sound.map((track): SoundTrack => ({
      is: 'sound',
      codec: track.codec,
      channels: track.channels,
      sampleRate: track.sampleRate || track.timescale,
      samples:
        track.timescale === track.sampleRate
          ? track.ticks
          : Math.round((track.ticks * (track.sampleRate || track.timescale)) / Math.max(1, track.timescale)),
      bytes: track.bytes,
    })),
  ];
  if (tracks.length === 0) throw new EssenceTrouble(0, 'it has no track of picture or sound');
  const longest = [...picture, ...sound][0]!;
  return {
    format: 'mov',
    tracks,
    start: code ? startOf(source, code) : null,
    startSample: null,
    reel: code?.timecode?.reel ?? null,
    duration:
      longest.edited !== null && longest.edited > 0 && movieScale > 0
        ? { num: longest.edited, den: movieScale }
        : longest.timescale > 0
          ? { num: longest.ticks, den: longest.timescale }
          : null,
  };
}

const gcd = (a: number, b: number): number => (b === 0 ? a : gcd(b, a % b));

function rateOf(timescale: number, delta: number): Rate | null {
  if (timescale <= 0 || delta <= 0) return null;
  const divisor = gcd(timescale, delta);
  return { num: timescale / divisor, den: delta / divisor };
}

/** The first sample of a timecode track: a frame number in 32 bits. */
function startOf(source: ByteSource, track: Track): StartTimecode | null {
  const { timecode, firstOffset } = track;
  if (!timecode || firstOffset === null || firstOffset + 4 > source.size) return null;
  const rate = rateOf(timecode.timescale, timecode.delta);
  if (!rate || timecode.base === 0) return null;
  return { frame: piece(source, firstOffset, 4).getUint32(0), rate, dropFrame: timecode.dropFrame };
}

export const movFormat: EssenceFormat = {
  id: 'mov',
  endings: ['mov', 'mp4', 'm4v', 'm4a'],
  sniff: (head) => ['ftyp', 'moov', 'mdat', 'wide', 'free', 'skip', 'pnot', 'styp'].includes(text(head, 4, 4)),
  read: readMov,
};
