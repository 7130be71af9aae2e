// The tables of a part of a track's samples. Source: ISO/IEC 14496-12, 8.6 and 8.7; QuickTime File Format specification
// (stps, sdtp).
import { type Box, entries } from '../mov/boxes.ts';
import type { MovTrack, Run } from '../mov/track.ts';
import { Bytes, CannotCut } from './recipe.ts';

/** Samples in the order of decoding, `to` not included. */
export interface SampleRange {
  from: number;
  to: number;
}

export interface PlacedChunk {
  at: number;
  samples: number;
  description: number;
}

export function box(type: string, contents: Uint8Array): Uint8Array {
  return new Bytes()
    .u32(8 + contents.length)
    .letters(type)
    .add(contents)
    .bytes();
}

const table = (type: string, count: number, rows: Bytes) =>
  box(type, new Bytes().u32(0).u32(count).add(rows.bytes()).bytes());

export function timesTable(runs: readonly Run[]): Uint8Array {
  const rows = new Bytes();
  for (const { samples, value } of runs) rows.u32(samples).u32(value);
  return table('stts', runs.length, rows);
}

/** Null where everything is shown as it is decoded. */
export function shiftsTable(track: MovTrack, { from, to }: SampleRange): Uint8Array | null {
  const runs = track.shiftsIn(from, to);
  if (runs.every(({ value }) => value === 0)) return null;
  const rows = new Bytes();
  for (const { samples, value } of runs) rows.u32(samples).i32(value);
  const version = runs.some(({ value }) => value < 0) ? 1 << 24 : 0;
  return box('ctts', new Bytes().u32(version).u32(runs.length).add(rows.bytes()).bytes());
}

/** Null where decoding can begin with each. */
export function keysTable(track: MovTrack, { from, to }: SampleRange): Uint8Array | null {
  if (track.keys === null && track.fragments.count === 0) return null;
  const keys: number[] = [];
  for (let n = from; n < to; n++) if (track.isKey(n)) keys.push(n - from + 1);
  if (keys.length === to - from) return null;
  const rows = new Bytes();
  for (const key of keys) rows.u32(key);
  return table('stss', keys.length, rows);
}

export function sizesTable(track: MovTrack, { from, to }: SampleRange): Uint8Array {
  const head = new Bytes().u32(0);
  if (track.sizeOfAll > 0 && to <= track.told)
    return box(
      'stsz',
      head
        .u32(track.sizeOfAll)
        .u32(to - from)
        .bytes(),
    );
  head.u32(0).u32(to - from);
  for (let n = from; n < to; n++) head.u32(track.sizeOf(n));
  return box('stsz', head.bytes());
}

export function chunkTables(chunks: readonly PlacedChunk[], isLong: boolean): Uint8Array {
  const places = new Bytes();
  const counts = new Bytes();
  let runs = 0;
  let last: PlacedChunk | null = null;
  for (const [i, chunk] of chunks.entries()) {
    if (isLong) places.u64(chunk.at);
    else places.u32(chunk.at);
    if (last?.samples !== chunk.samples || last.description !== chunk.description) {
      counts
        .u32(i + 1)
        .u32(chunk.samples)
        .u32(chunk.description);
      runs++;
    }
    last = chunk;
  }
  const perChunk = table('stsc', runs, counts);
  return new Bytes()
    .add(perChunk)
    .add(table(isLong ? 'co64' : 'stco', chunks.length, places))
    .bytes();
}

/** Tables that are copied for the samples that stay: those of groups, of what hangs on what, of partial keys. */
export function sliced(data: DataView, own: Box, { from, to }: SampleRange): Uint8Array | null {
  switch (own.type) {
    case 'sdtp': {
      const bytes = rawOf(data, own.begin + 4 + from, Math.min(own.end, own.begin + 4 + to));
      return bytes.length === to - from ? box('sdtp', new Bytes().u32(0).add(bytes).bytes()) : null;
    }
    case 'stps': {
      const rows = new Bytes();
      let count = 0;
      for (let i = 0; i < entries(data, own, own.begin + 4, 4); i++) {
        const number = data.getUint32(own.begin + 8 + i * 4) - 1;
        if (number < from || number >= to) continue;
        rows.u32(number - from + 1);
        count++;
      }
      return count === 0 ? null : table('stps', count, rows);
    }
    case 'sbgp':
      return groups(data, own, { from, to });
    default:
      return null;
  }
}

function groups(data: DataView, own: Box, { from, to }: SampleRange): Uint8Array {
  const version = data.getUint8(own.begin);
  const headLength = version === 1 ? 12 : 8;
  const at = own.begin + headLength;
  const count = entries(data, own, at, 8);
  const rows = new Bytes();
  let [runs, first] = [0, 0];
  for (let i = 0; i < count; i++) {
    const samples = data.getUint32(at + 4 + i * 8);
    const inside = Math.min(to, first + samples) - Math.max(from, first);
    if (inside > 0) {
      rows.u32(inside).u32(data.getUint32(at + 8 + i * 8));
      runs++;
    }
    first += samples;
  }
  return box(
    'sbgp',
    new Bytes()
      .add(rawOf(data, own.begin, at))
      .u32(runs)
      .add(rows.bytes())
      .bytes(),
  );
}

export const rawOf = (data: DataView, from: number, to: number): Uint8Array =>
  new Uint8Array(data.buffer, data.byteOffset + from, Math.max(0, to - from)).slice();

/** Tables of a track that belong to its samples and are not written anew, by what becomes of them. */
export function isOfSamples(type: string): boolean {
  if (['saiz', 'saio', 'senc'].includes(type)) throw new CannotCut('it is encrypted');
  return [
    'stts',
    'ctts',
    'stss',
    'stsz',
    'stz2',
    'stsc',
    'stco',
    'co64',
    'cslg',
    'stsh',
    'padb',
    'stdp',
    'subs',
  ].includes(type);
}
