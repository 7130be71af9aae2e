// MXF of one item (OP1a), wrapped frame by frame, cut to a range of its edit units: the content packages stay as they are, with
// all their elements in step; the header metadata gets new lengths and start timecodes in place, the index table new places.
// Source: SMPTE ST 377-1 (partitions, index tables, packages), ST 378 (OP1a), ST 379-1 (content packages).
import { isSameRate, type Rate } from '../../time/rates.ts';
import { type ByteSource, count64, LARGEST_PIECE, piece } from '../bytes.ts';
import { readMxf } from '../formats/mxf.ts';
import {
  FILL,
  hex,
  INDEX,
  isFill,
  klv,
  klvAt,
  localTags,
  type Partition,
  PARTITION,
  partition,
  rational,
  type SetOf,
  SETS,
  setsIn,
  whole,
} from '../mxf/klv.ts';
import { Bytes, CannotCut, type Frames, recipe, type Recipe, type RecipePiece } from './recipe.ts';

const MOST_PARTITIONS = 200_000;
const OP1A = '060e2b34040101010d0102010101';
const OP1A_OLD = '060e2b34040101020d0102010101';

/** `frames`: what is really kept, more than was asked for where frames depend on one another. */
export function cutMxf(source: ByteSource, wanted: Frames): Recipe & { frames: Frames } {
  const header = partition(source, 0);
  const operational = hex(piece(source, header.values.begin + 64, 16), 0, 14);
  if (operational !== OP1A && operational !== OP1A_OLD)
    throw new CannotCut('it is no MXF of a single item (OP1a), and others are not cut here');
  const partitions = partitionsOf(source, header);
  const stream = streamOf(partitions);
  const index = indexOf(source, partitions, stream);
  const range = safeRange(index, { ...wanted, isIntra: isIntra(source) });
  const [begin, end] = [index.offset(range.from), index.offset(range.to)];
  const body = stretches(stream, begin, end);
  checkUnits(source, { stream, index, range });
  const metadata = metadataOf(source, { header, partitions, index, range });
  const table = index.table(range, begin);
  const made = { source, header, metadata, body, bodyBytes: end - begin, table, sid: stream.sid };
  return { ...assembled(made), frames: range };
}

/** In their order: the footer knows the one before it, and each the one before. */
function partitionsOf(source: ByteSource, header: Partition): Partition[] {
  if (header.footer <= 0 || header.footer >= source.size) throw new CannotCut('it has no end: it may be written still');
  const found: Partition[] = [];
  for (let at = header.footer; at > 0;) {
    const one = partition(source, at);
    found.push(one);
    if (one.previous >= at || found.length > MOST_PARTITIONS) throw new CannotCut('its partitions lead in a circle');
    at = one.previous;
  }
  return [header, ...found.reverse()];
}

/** The essence of a file, in one row of bytes: which stretch of it lies where. */
interface Stream {
  stretches: { offset: number; at: number; length: number }[];
  bytes: number;
  sid: number;
}

function streamOf(partitions: readonly Partition[]): Stream {
  const first = partitions.find((one) => one.bodySid !== 0);
  if (!first) throw new CannotCut('no essence lies in it');
  const found: Stream['stretches'] = [];
  let bytes = 0;
  for (const [i, one] of partitions.entries()) {
    if (one.bodySid === 0) continue;
    const next = partitions[i + 1];
    if (one.bodySid !== first.bodySid || !next) throw new CannotCut('more than one stream lies in it');
    const at = one.begin + one.headerBytes + one.indexBytes;
    const length = next.at - at;
    if (one.bodyOffset !== bytes || length < 0) throw new CannotCut('its partitions do not say where its essence lies');
    if (length > 0) found.push({ offset: bytes, at, length });
    bytes += length;
  }
  return { stretches: found, bytes, sid: first.bodySid };
}

/** Where a part of the stream lies in the file. */
function stretches({ stretches: all }: Stream, begin: number, end: number): { at: number; length: number }[] {
  return all.flatMap(({ offset, at, length }) => {
    const from = Math.max(begin, offset);
    const to = Math.min(end, offset + length);
    return to > from ? [{ at: at + from - offset, length: to - from }] : [];
  });
}

/** What the segments of an index table say of every edit unit (ST 377-1, 11). */
interface Index {
  frames: number;
  rate: Rate;
  /** Where an edit unit begins in the stream; of the one behind the last, where it ends. */
  offset: (unit: number) => number;
  /** Null where all are alike, and each stands for itself. */
  entries: Entries | null;
  /** The same table over a range, whose first byte was `begin`. */
  table: (range: Frames, begin: number) => Uint8Array;
}

interface Segment {
  start: number;
  duration: number;
  unitBytes: number;
  rate: Rate | null;
  values: Map<number, DataView>;
}

function segmentsOf(source: ByteSource, partitions: readonly Partition[]): Segment[] {
  const found = new Map<number, Segment>();
  for (const { begin, headerBytes, indexBytes } of partitions) {
    if (indexBytes === 0) continue;
    if (indexBytes > LARGEST_PIECE) throw new CannotCut('its index table is too large');
    const view = piece(source, begin + headerBytes, indexBytes);
    for (let at = 0; at + 17 < view.byteLength;) {
      const item = klv(view, at, begin);
      if (item.end > view.byteLength) break;
      if (item.key === INDEX) {
        const values = localTags(view, item, begin);
        const start = whole(values.get(0x3f0c));
        const about = { duration: whole(values.get(0x3f0d)), unitBytes: whole(values.get(0x3f05)) };
        // Told again in the footer, more is known.
        const known = found.get(start);
        if (!known || about.duration >= known.duration)
          found.set(start, { start, ...about, rate: rational(values.get(0x3f0b)), values });
      }
      at = item.end;
    }
  }
  return [...found.values()].sort((a, b) => a.start - b.start);
}

function indexOf(source: ByteSource, partitions: readonly Partition[], stream: Stream): Index {
  const segments = segmentsOf(source, partitions);
  const [first] = segments;
  if (!first?.rate) throw new CannotCut('it has no index table');
  const { rate, unitBytes } = first;
  if (segments.some((one) => !one.rate || !isSameRate(one.rate, rate) || one.unitBytes !== unitBytes))
    throw new CannotCut('its index table changes on the way');
  if (unitBytes > 0) {
    const frames = Math.floor(stream.bytes / unitBytes);
    return {
      ...{ frames, rate, entries: null, offset: (unit) => unit * unitBytes },
      table: ({ from, to }) => segmentBytes(first, { start: 0, duration: to - from }),
    };
  }
  const entries = new Entries(segments);
  const offset = (unit: number) => (unit === entries.count ? stream.bytes : entries.offset(unit));
  return {
    ...{ frames: entries.count, rate, entries, offset },
    table: (range, begin) => entries.table(first, range, begin),
  };
}

/** Of edit units of which each has its own length. */
class Entries {
  readonly count: number;
  private readonly bytes: number;
  private readonly rows: { first: number; view: DataView }[] = [];

  constructor(segments: readonly Segment[]) {
    let count = 0;
    let bytes = 0;
    for (const { start, values } of segments) {
      const list = values.get(0x3f0a);
      if (!list || list.byteLength < 8) continue;
      const own = list.getUint32(0);
      const each = list.getUint32(4);
      if (start !== count || each < 11 || (bytes > 0 && each !== bytes) || own * each > list.byteLength - 8)
        throw new CannotCut('its index table has gaps');
      bytes = each;
      this.rows.push({ first: start, view: new DataView(list.buffer, list.byteOffset + 8, own * each) });
      count += own;
    }
    if (count === 0) throw new CannotCut('its index table has no entries');
    this.count = count;
    this.bytes = bytes;
  }

  private row(unit: number): DataView {
    let [low, high] = [0, this.rows.length - 1];
    while (low < high) {
      const middle = (low + high + 1) >>> 1;
      if (this.rows[middle]!.first <= unit) low = middle;
      else high = middle - 1;
    }
    const { first, view } = this.rows[low]!;
    return new DataView(view.buffer, view.byteOffset + (unit - first) * this.bytes, this.bytes);
  }

  offset = (unit: number): number => count64(this.row(unit), 3, 0);
  /** How far from its own place in the row the frame shown there was stored. */
  reordered = (unit: number): number => this.row(unit).getInt8(0);
  /** Decoding can begin with it, and what is shown from there on needs nothing before. */
  begins(unit: number): boolean {
    const row = this.row(unit);
    return row.getInt8(0) === 0 && row.getInt8(1) === 0 && (row.getUint8(2) & 0x80) !== 0;
  }

  table(like: Segment, { from, to }: Frames, begin: number): Uint8Array {
    const most = Math.floor((0xffff - 8) / this.bytes);
    const out = new Bytes();
    for (let at = from, n = 0; at < to; at += most, n++) {
      const own = Math.min(most, to - at);
      const list = new Bytes().u32(own).u32(this.bytes);
      for (let unit = at; unit < at + own; unit++) {
        const row = this.row(unit);
        const entry = new Uint8Array(row.buffer.slice(row.byteOffset, row.byteOffset + this.bytes));
        new DataView(entry.buffer).setBigUint64(3, BigInt(this.offset(unit) - begin));
        list.add(entry);
      }
      out.add(segmentBytes(like, { start: at - from, duration: own, list: list.bytes(), number: n }));
    }
    return out.bytes();
  }
}

interface NewSegment {
  start: number;
  duration: number;
  list?: Uint8Array;
  number?: number;
}

/** A segment as another is, over other edit units. */
function segmentBytes(like: Segment, { start, duration, list, number = 0 }: NewSegment): Uint8Array {
  const out = new Bytes();
  for (const [tag, value] of like.values) {
    const bytes = new Uint8Array(value.buffer.slice(value.byteOffset, value.byteOffset + value.byteLength));
    const view = new DataView(bytes.buffer);
    if (tag === 0x3f0c) view.setBigInt64(0, BigInt(start));
    if (tag === 0x3f0d) view.setBigInt64(0, BigInt(duration));
    // Each has a mark of its own.
    if (tag === 0x3c0a && bytes.length > 0) view.setUint8(bytes.length - 1, (bytes.at(-1)! + number) & 0xff);
    const own = tag === 0x3f0a ? (list ?? bytes) : bytes;
    out.u16(tag).u16(own.length).add(own);
  }
  return wrapped(INDEX, out.bytes());
}

/** Codings in which every frame stands for itself, whatever an index table says. */
const INTRA = new Set(['jpeg 2000', 'vc-3', 'rdd 36', 'dv']);
const isIntra = (source: ByteSource): boolean =>
  readMxf(source).tracks.every((track) => track.is === 'sound' || INTRA.has(track.codec));

/** Where frames depend on others: from one that needs none to where all that is shown was stored. */
function safeRange({ frames, entries }: Index, { from, to, isIntra }: Frames & { isIntra: boolean }): Frames {
  if (!(from >= 0 && from < to && to <= frames)) throw new CannotCut(`frames ${from} to ${to} are not all in it`);
  if (!entries || isIntra) return { from, to };
  const units = Array.from({ length: frames }, (_, unit) => unit);
  if (units.every((unit) => entries.begins(unit))) return { from, to };
  if (units.every((unit) => entries.reordered(unit) === 0))
    throw new CannotCut(
      'its frames depend on one another, and its index table does not say in which order they are shown',
    );
  let begin = from;
  while (begin > 0 && !entries.begins(begin)) begin--;
  let end = to;
  for (let unit = begin; unit < end; unit++) {
    const stored = unit + entries.reordered(unit);
    if (stored < begin || stored >= frames || !entries.begins(begin))
      throw new CannotCut('its frames depend on one another, and there is no place in it where it could begin');
    end = Math.max(end, stored + 1);
  }
  if (end - begin === frames && to - from < frames)
    throw new CannotCut('its frames depend on one another, so that all of it is needed');
  return { from: begin, to: end };
}

/** So many at either end of what is kept are gone through; of those between the index table is believed. */
const LOOKED_AT = 500;

/** Edit units begin and end where the index table says, each with the element with which the first begins. */
function checkUnits(
  source: ByteSource,
  { stream, index, range }: { stream: Stream; index: Index; range: Frames },
): void {
  const [first] = stretches(stream, 0, Math.min(32, stream.bytes));
  if (!first) throw new CannotCut('no essence lies in it');
  const { key } = klvAt(source, first.at);
  for (let unit = range.from; unit < range.to; unit++) {
    if (unit === range.from + LOOKED_AT) unit = Math.max(unit, range.to - LOOKED_AT);
    const pieces = stretches(stream, index.offset(unit), index.offset(unit + 1));
    if (pieces.length !== 1) throw new CannotCut('its index table leads to what is no edit unit');
    const { at, length } = pieces[0]!;
    let next = at;
    for (let n = 0; next < at + length; n++) {
      const item = klvAt(source, next);
      const isElement = item.key.startsWith('060e2b34') && !item.key.startsWith(PARTITION) && item.key !== INDEX;
      if (!isElement || (n === 0 && item.key !== key))
        throw new CannotCut('it is not wrapped frame by frame, or its index table does not lead to its frames');
      if (n > 0 && item.key === key && !isFill(key))
        throw new CannotCut('its index table counts otherwise than its frames');
      next = item.end;
    }
    if (next !== at + length) throw new CannotCut('its index table does not lead to its frames');
  }
}

interface Cutting {
  header: Partition;
  partitions: readonly Partition[];
  index: Index;
  range: Frames;
}

/** The header metadata with lengths and starts of the range; closed, wherever it was complete before. */
function metadataOf(source: ByteSource, { header, partitions, index, range }: Cutting): Uint8Array {
  const from = header.closed ? header : partitions.at(-1)!;
  if (from.headerBytes === 0) throw new CannotCut('its header metadata was never completed');
  const before = piece(source, from.begin, from.headerBytes);
  const bytes = new Uint8Array(before.buffer.slice(before.byteOffset, before.byteOffset + before.byteLength));
  const sets = setsIn(new DataView(bytes.buffer), from.begin);
  const byId = new Map<string, SetOf>();
  for (const set of sets) {
    const id = set.values.get(0x3c0a);
    if (id) byId.set(idOf(id), set);
  }
  // The package that stands for the file's own essence; behind it may be those of a tape it came from.
  const own = new Set(
    sets.filter(({ kind }) => kind === SETS.essenceData).map(({ values }) => idOf(values.get(0x2701))),
  );
  own.delete('');
  let [ofFile, material] = [0, 0];
  for (const set of sets) {
    const length = set.values.get(0x3002);
    if (length && length.byteLength === 8) setLength(length, set.values.get(0x3001), { index, range });
    const isOfFile = set.kind === SETS.source && own.has(idOf(set.values.get(0x4401)));
    if (set.kind !== SETS.material && !isOfFile) continue;
    if (isOfFile) ofFile++;
    else material++;
    for (const track of references(set.values.get(0x4403)))
      cutTrack(byId, { track: byId.get(track), isOfFile, index, range });
  }
  if (ofFile !== 1 || material !== 1) throw new CannotCut('it does not say which of its packages its essence is');
  return bytes;
}

/** Empty of what is not there. */
const idOf = (view: DataView | undefined): string => (view ? hex(view, 0, view.byteLength) : '');

function references(batch: DataView | undefined): string[] {
  if (!batch || batch.byteLength < 8) return [];
  const count = Math.min(batch.getUint32(0), Math.floor((batch.byteLength - 8) / 16));
  return Array.from({ length: count }, (_, i) => hex(batch, 8 + 16 * i, 16));
}

interface OfRange {
  index: Index;
  range: Frames;
}

/** Edit units of the table in units of another rate. */
function scaled(units: number, rate: Rate, { rate: table }: Index): number {
  const exact = (units * rate.num * table.den) / (rate.den * table.num);
  if (!Number.isInteger(exact)) throw new CannotCut('a track of it counts in parts of its frames');
  return exact;
}

/** Some count edit units of the picture whatever rate they name. */
function setLength(view: DataView, own: DataView | undefined, { index, range }: OfRange): void {
  const before = whole(view);
  if (before < 0) return;
  const rate = rational(own);
  const kept = range.to - range.from;
  const isInUnits = before === index.frames || rate === null;
  view.setBigInt64(0, BigInt(isInUnits ? kept : scaled(kept, rate, index)));
}

interface CutTrack extends OfRange {
  track: SetOf | undefined;
  isOfFile: boolean;
}

function cutTrack(byId: ReadonlyMap<string, SetOf>, { track, isOfFile, index, range }: CutTrack): void {
  // Tracks of events and those that stand still say nothing of length.
  if (track && track.kind !== SETS.track) return;
  if (!track) throw new CannotCut('a track of it is not there');
  const rate = rational(track.values.get(0x4b01));
  const sequence = byId.get(idOf(track.values.get(0x4803)));
  if (!rate || !sequence) throw new CannotCut('a track of it says nothing of what it shows');
  if (whole(track.values.get(0x4b02)) !== 0) throw new CannotCut('a track of it begins before what is shown');
  const components = sequence.kind === SETS.sequence ? references(sequence.values.get(0x1001)) : [];
  if (components.length > 1) throw new CannotCut('a track of it is put together of several pieces');
  const kept = scaled(range.to - range.from, rate, index);
  const first = scaled(range.from, rate, index);
  for (const set of [sequence, ...components.map((id) => byId.get(id))]) {
    if (!set) throw new CannotCut('a track of it says nothing of what it shows');
    set.values.get(0x0202)?.setBigInt64(0, BigInt(kept));
    if (set.kind === SETS.timecode) add(set.values.get(0x1501), first);
    if (set.kind !== SETS.sourceClip) continue;
    const start = set.values.get(0x1201);
    const leadsOn = /[^0]/.test(idOf(set.values.get(0x1101)));
    if (!isOfFile && whole(start) !== 0) throw new CannotCut('it shows its essence from within');
    // From where it came, it begins later by what was cut off.
    if (isOfFile && leadsOn) add(start, first);
  }
}

const add = (view: DataView | undefined, more: number): void =>
  view?.setBigInt64(0, view.getBigInt64(0) + BigInt(more));

interface Assembling {
  source: ByteSource;
  header: Partition;
  metadata: Uint8Array;
  body: { at: number; length: number }[];
  bodyBytes: number;
  table: Uint8Array;
  sid: number;
}

/** Header, body, footer with the index table, and the list of the three (random index pack). */
function assembled({ source, header, metadata, body, bodyBytes, table, sid }: Assembling): Recipe {
  const { begin, end } = header.values;
  const values = piece(source, begin, end - begin);
  const kag = header.kag > 1 ? header.kag : 1;
  const packBytes = padded(new Uint8Array(20 + values.byteLength), 0, kag).length;
  const head = packBytes + padded(metadata, packBytes, kag).length;
  const footer = head + packBytes + bodyBytes;
  const own = padded(table, packBytes, kag);
  const pack = (kind: string, facts: Record<number, number>): Uint8Array => {
    const copy = new Uint8Array(values.buffer.slice(values.byteOffset, values.byteOffset + values.byteLength));
    const view = new DataView(copy.buffer);
    const numbers = { 8: 0, 16: 0, 24: footer, 32: 0, 40: 0, 52: 0, ...facts };
    for (const at of [8, 16, 24, 32, 40, 52] as const) view.setBigUint64(at, BigInt(numbers[at]));
    view.setUint32(48, facts[48] ?? 0);
    view.setUint32(60, facts[60] ?? 0);
    // Of the same sort, closed and complete.
    return padded(wrapped(`${PARTITION.slice(0, 26)}${kind}0400`, copy), 0, kag);
  };
  const headBytes = padded(metadata, packBytes, kag);
  const pieces: RecipePiece[] = [
    { bytes: pack('02', { 32: headBytes.length }) },
    { bytes: headBytes },
    { bytes: pack('03', { 8: head, 60: sid }) },
    ...body,
    { bytes: pack('04', { 8: footer, 16: head, 40: own.length, 48: tableId(table) }) },
    { bytes: own },
    {
      bytes: randomIndex([
        [0, 0],
        [sid, head],
        [0, footer],
      ]),
    },
  ];
  return recipe(pieces);
}

/** The number of the table, which its partition names too. */
function tableId(table: Uint8Array): number {
  const view = new DataView(table.buffer, table.byteOffset, table.byteLength);
  return whole(localTags(view, klv(view, 0, 0), 0).get(0x3f06));
}

/** How many bytes say how long what follows a key is, everywhere in what is written. */
const LENGTH_BYTES = 4;

function wrapped(key: string, value: Uint8Array): Uint8Array {
  const out = new Bytes().add(Uint8Array.from(key.match(/../g)!, (pair) => parseInt(pair, 16)));
  return out
    .u32(0x80_00_00_00 + (LENGTH_BYTES - 1) * 2 ** 24 + value.length)
    .add(value)
    .bytes();
}

/** With a fill behind it, so that what follows begins on the file's grid. */
function padded(bytes: Uint8Array, before: number, kag: number): Uint8Array {
  let gap = (kag - ((before + bytes.length) % kag)) % kag;
  if (gap === 0) return bytes;
  while (gap < 20) gap += kag;
  return new Bytes()
    .add(bytes)
    .add(wrapped(FILL, new Uint8Array(gap - 20)))
    .bytes();
}

function randomIndex(partitions: readonly (readonly [sid: number, at: number])[]): Uint8Array {
  const values = new Bytes();
  for (const [sid, at] of partitions) values.u32(sid).u64(at);
  const key = '060e2b34020501010d01020101110100';
  return wrapped(key, values.u32(20 + values.length + 4).bytes());
}
