// Reads the moov and the fragments of a MOV or MP4 into tracks. Source: ISO/IEC 14496-12; QuickTime File Format
// specification.
import { type ByteSource, count64, EssenceTrouble, letters } from '../bytes.ts';
import { type Box, boxes, entries, topBox, view } from './boxes.ts';
import { channelsOfAac, channelsOfAc3 } from './channels.ts';
import { type Defaults, MovTrack } from './track.ts';

export interface Movie {
  timescale: number;
  tracks: Map<number, MovTrack>;
  /** Of the file: no more samples lie in its fragments. */
  bytes: number;
  /** Samples of fragments so far, of all tracks. */
  inFragments: number;
}

/** A recording of a day in fragments of a tenth of a second has this many twice. */
const MOST_AT_TOP = 4_000_000;
const DEEPEST = 12;

export function readMovie(source: ByteSource): Movie {
  const movie: Movie = { timescale: 0, tracks: new Map(), bytes: source.size, inFragments: 0 };
  let seen = false;
  let at = 0;
  for (let n = 0; at + 8 <= source.size; n++) {
    if (n > MOST_AT_TOP) throw new EssenceTrouble(at, `more than ${MOST_AT_TOP} boxes at its top`);
    const box = topBox(source, at);
    // The first one counts: a second is what an editor left behind.
    if (box.type === 'moov' && !seen) {
      seen = true;
      readMoov(view(source, box), movie);
    } else if (box.type === 'moof') readMoof(view(source, box), at, movie);
    if (box.end <= at) throw new EssenceTrouble(at, 'a box without length');
    at = box.end;
  }
  if (!seen) throw new EssenceTrouble(0, 'it has no moov: the recording was never finished, or was cut off');
  // Where all are of one size their number takes no room either, and to put them in the order of showing takes one place each.
  for (const { hasShifts, told } of movie.tracks.values())
    if (hasShifts && told > source.size)
      throw new EssenceTrouble(0, `a table of ${told} samples in a file of ${source.size} bytes`);
  return movie;
}

function readMoov(data: DataView, movie: Movie): void {
  for (const box of boxes(data)) {
    if (box.type === 'mvhd') movie.timescale = data.getUint32(box.begin + (data.getUint8(box.begin) === 1 ? 20 : 12));
    else if (box.type === 'trak') {
      const track = new MovTrack();
      readTrak(data, box, track, 0);
      movie.tracks.set(track.id, track);
    } else if (box.type === 'mvex')
      for (const inner of boxes(data, box.begin, box.end)) {
        const track = inner.type === 'trex' ? movie.tracks.get(data.getUint32(inner.begin + 4)) : undefined;
        if (track)
          track.defaults = {
            duration: data.getUint32(inner.begin + 12),
            size: data.getUint32(inner.begin + 16),
            flags: data.getUint32(inner.begin + 20),
          };
      }
  }
}

const INSIDE = new Set(['mdia', 'minf', 'stbl', 'edts']);

function readTrak(data: DataView, parent: Box, track: MovTrack, depth: number): void {
  if (depth > DEEPEST) throw new EssenceTrouble(parent.begin, 'boxes nested too deep');
  for (const box of boxes(data, parent.begin, parent.end)) {
    const { type, begin } = box;
    if (INSIDE.has(type)) readTrak(data, box, track, depth + 1);
    else if (type === 'tkhd') track.id = data.getUint32(begin + (data.getUint8(begin) === 1 ? 20 : 12));
    else if (type === 'mdhd') track.timescale = data.getUint32(begin + (data.getUint8(begin) === 1 ? 20 : 12));
    // A media handler; a data handler of the same box type says "alis" and comes after.
    else if (type === 'hdlr' && track.handler === '') track.handler = letters(data, begin + 8, 4);
    else if (type === 'stsd') readDescription(data, box, track);
    else if (type === 'elst') readEdits(data, box, track);
    else readTable(data, box, track);
  }
}

function readTable(data: DataView, box: Box, track: MovTrack): void {
  const table = (width: number) => ({ data, begin: box.begin + 8, entries: entries(data, box, box.begin + 4, width) });
  switch (box.type) {
    case 'stts':
      track.times = table(8);
      return;
    case 'ctts':
      track.shifts = table(8);
      return;
    case 'stss':
      track.keys = table(4);
      return;
    case 'stsc':
      track.perChunk = table(12);
      return;
    case 'stco':
    case 'co64':
      track.chunks = { ...table(box.type === 'co64' ? 8 : 4), isLong: box.type === 'co64' };
      return;
    case 'stsz':
    case 'stz2':
      readSizes(data, box, track);
  }
}

function readSizes(data: DataView, box: Box, track: MovTrack): void {
  const told = data.getUint32(box.begin + 4);
  track.told = data.getUint32(box.begin + 8);
  if (box.type === 'stsz' && told > 0) {
    track.sizeOfAll = told;
    return;
  }
  const bits = box.type === 'stsz' ? 32 : told & 0xff;
  if (bits !== 4 && bits !== 8 && bits !== 16 && bits !== 32)
    throw new EssenceTrouble(box.begin, `a table of sizes of ${bits} bits each`);
  const count = entries(data, box, box.begin + 8, bits / 8);
  track.sizes = { data, begin: box.begin + 12, entries: count, bits };
}

function readDescription(data: DataView, box: Box, track: MovTrack): void {
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
  } else if (track.handler === 'soun' && length >= 36) readSound(data, { at: entry, length }, track);
}

/** Bytes of one value, by codings whose description says 16 bits whatever they have. */
const BYTES: Record<string, number> = { in24: 3, in32: 4, fl32: 4, fl64: 8, ulaw: 1, alaw: 1 };

/** Sound descriptions of version 0, 1 and 2: what a sample is, and how many bytes it really has. */
function readSound(data: DataView, { at: entry, length }: { at: number; length: number }, track: MovTrack): void {
  const version = data.getUint16(entry + 16);
  const bits = data.getUint16(entry + 26);
  track.channels = data.getUint16(entry + 24);
  track.sampleRate = data.getUint32(entry + 32) >>> 16;
  if (version === 2 && length >= 72) {
    track.sampleRate = Math.round(data.getFloat64(entry + 40));
    track.channels = data.getUint32(entry + 48);
    track.packet = { bytes: data.getUint32(entry + 64), samples: Math.max(1, data.getUint32(entry + 68)) };
  } else if (version === 1 && length >= 52) {
    track.packet = { samples: Math.max(1, data.getUint32(entry + 36)), bytes: data.getUint32(entry + 44) };
  } else if (version === 0)
    track.packet = { samples: 1, bytes: track.channels * (BYTES[track.codec] ?? Math.ceil(bits / 8)) };
  // What is packed in packets of its own has sizes of its own.
  if (['mp4a', '.mp3', 'alac', 'ac-3', 'ec-3', 'Opus', 'fLaC', 'samr'].includes(track.codec) && version !== 1)
    track.packet = { bytes: 0, samples: 1 };
  const said = { mp4a: channelsOfAac, 'ac-3': channelsOfAc3, 'ec-3': channelsOfAc3 }[track.codec];
  const inside = entry + (version === 1 ? 52 : version === 2 ? 72 : 36);
  track.channels = said?.(data, inside, entry + length) ?? track.channels;
}

/** The name atom of a timecode description: the reel. */
function reelIn(data: DataView, begin: number, end: number): string | null {
  for (const box of boxes(data, begin, end))
    if (box.type === 'name' && box.end - box.begin >= 4) {
      const length = Math.min(data.getUint16(box.begin), box.end - box.begin - 4);
      const bytes = new Uint8Array(data.buffer, data.byteOffset + box.begin + 4, length);
      return new TextDecoder('utf-8').decode(bytes).split('\0')[0]!.trim() || null;
    }
  return null;
}

function readEdits(data: DataView, box: Box, track: MovTrack): void {
  const long = data.getUint8(box.begin) === 1;
  const width = long ? 20 : 12;
  const count = entries(data, box, box.begin + 4, width);
  for (let i = 0; i < count; i++) {
    const at = box.begin + 8 + i * width;
    const duration = long ? count64(data, at, at) : data.getUint32(at);
    const time = long ? Number(data.getBigInt64(at + 8)) : data.getInt32(at + 4);
    const isChanged = data.getInt32(at + width - 4) !== 0x10000;
    track.edits.push({ duration, begins: time < 0 ? null : time, ...(isChanged ? { isChanged } : {}) });
  }
}

/** A fragment: samples counted where their run is told. Source: ISO/IEC 14496-12, 8.8. */
function readMoof(data: DataView, moofAt: number, movie: Movie): void {
  let after: number | null = null;
  for (const box of boxes(data)) if (box.type === 'traf') after = readTraf(data, box, { moofAt, after, movie });
}

interface Around {
  moofAt: number;
  /** Where the samples of the track before end. */
  after: number | null;
  movie: Movie;
}

function readTraf(data: DataView, box: Box, { moofAt, after, movie }: Around): number | null {
  let track: MovTrack | undefined;
  let defaults: Defaults = { duration: 0, size: 0, flags: 0 };
  let base = after ?? moofAt;
  let at: number | null = null;
  for (const inner of boxes(data, box.begin, box.end)) {
    if (inner.type === 'tfhd') {
      const flags = data.getUint32(inner.begin) & 0xffffff;
      track = movie.tracks.get(data.getUint32(inner.begin + 4));
      defaults = { ...(track?.defaults ?? defaults) };
      let place = inner.begin + 8;
      const next = () => data.getUint32((place += 4) - 4);
      if (flags & 0x1) {
        base = count64(data, place, moofAt + place);
        place += 8;
      } else if (flags & 0x20000) base = moofAt;
      if (flags & 0x2) next();
      if (flags & 0x8) defaults.duration = next();
      if (flags & 0x10) defaults.size = next();
      if (flags & 0x20) defaults.flags = next();
    } else if (inner.type === 'tfdt' && track)
      track.fragments.end =
        data.getUint8(inner.begin) === 1 ? count64(data, inner.begin + 4, moofAt) : data.getUint32(inner.begin + 4);
    else if (inner.type === 'trun' && track)
      at = readRun(data, inner, { movie, track, defaults, base, at: at ?? base });
  }
  return at ?? after;
}

function readRun(
  data: DataView,
  box: Box,
  {
    movie,
    track,
    defaults,
    base,
    at: from,
  }: { movie: Movie; track: MovTrack; defaults: Defaults; base: number; at: number },
): number {
  const flags = data.getUint32(box.begin) & 0xffffff;
  let place = box.begin + 8;
  const next = () => data.getUint32((place += 4) - 4);
  const count = data.getUint32(box.begin + 4);
  let at = flags & 0x1 ? base + (next() | 0) : from;
  const firstFlags = flags & 0x4 ? next() : null;
  const width = [0x100, 0x200, 0x400, 0x800].reduce((sum, flag) => sum + (flags & flag ? 4 : 0), 0);
  if (width > 0 && count > (box.end - place) / width)
    throw new EssenceTrouble(box.begin, `a run of ${count} samples in the room of fewer`);
  // Where none of them says anything of its own, their number alone takes no room.
  movie.inFragments += count;
  if (movie.inFragments > movie.bytes)
    throw new EssenceTrouble(box.begin, `a run of ${count} samples in a file of ${movie.bytes} bytes`);
  for (let i = 0; i < count; i++) {
    const duration = flags & 0x100 ? next() : defaults.duration;
    const size = flags & 0x200 ? next() : defaults.size;
    const own = flags & 0x400 ? next() : i === 0 && firstFlags !== null ? firstFlags : defaults.flags;
    const shift = flags & 0x800 ? next() | 0 : 0;
    track.fragments.add(at, size, { duration, shift, isKey: (own & 0x10000) === 0 });
    at += size;
  }
  return at;
}
