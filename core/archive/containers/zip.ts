// One zip: ISO/IEC 21320-1 as far as it goes, entries stored as they are, with the zip64 fields of the .ZIP File Format
// Specification where sizes, places or numbers need them. Media does not get smaller, so nothing is compressed.
import {
  checkedEntries,
  concat,
  type Container,
  type Entry,
  MAX_ENTRIES,
  NoContainer,
  type PlacedEntry,
  type ReadAt,
} from './container.ts';
import { fromDos, large64, u16, u32, u64, view, ZIP, ZIP64 } from './zip-fields.ts';

const { LOCAL, CENTRAL, END, END_64, LOCATOR_64 } = ZIP;
const MAX_16 = 0xffff;
const MAX_32 = 0xffffffff;
/** Names are UTF-8. */
const FLAGS = 1 << 11;
const CRC_AT = 14;
const END_BYTES = 22;
const LOCATOR_BYTES = 20;
const END_64_BYTES = 56;
/** Unix, version 4.5 of the format: zip64. */
const MADE_BY = (3 << 8) | 45;

const text = new TextEncoder();
const utf8 = new TextDecoder('utf-8', { fatal: true });

export const zip: Container = {
  ending: '.zip',

  head(entry) {
    const name = nameOf(entry);
    const isLarge = entry.sizeBytes >= MAX_32;
    const extra = isLarge ? zip64([entry.sizeBytes, entry.sizeBytes]) : new Uint8Array();
    const head = new Fields(30)
      .u32(LOCAL)
      .u16(isLarge ? 45 : 20)
      .u16(FLAGS)
      .u16(0)
      .u32(dosTime(entry.modifiedMs))
      .u32(0)
      .u32(isLarge ? MAX_32 : entry.sizeBytes)
      .u32(isLarge ? MAX_32 : entry.sizeBytes)
      .u16(name.length)
      .u16(extra.length);
    return concat([head.bytes, name, extra]);
  },

  tail: () => new Uint8Array(),

  /** The sum stands in front of the bytes, so that readers that only go forward know it. */
  mend: ({ headAt, crc32 }) => ({ at: headAt + CRC_AT, bytes: new Fields(4).u32(crc32!).bytes }),

  end(entries, at) {
    const central = concat(entries.map(centralOf));
    const isLarge = entries.length >= MAX_16 || at >= MAX_32 || central.length >= MAX_32;
    const after = at + central.length;
    const large = isLarge ? end64(entries.length, { at, after, bytes: central.length }) : new Uint8Array();
    const count = isLarge ? MAX_16 : entries.length;
    const end = new Fields(END_BYTES)
      .u32(END)
      .u16(0)
      .u16(0)
      .u16(count)
      .u16(count)
      .u32(isLarge ? MAX_32 : central.length)
      .u32(isLarge ? MAX_32 : at)
      .u16(0);
    return concat([central, large, end.bytes]);
  },

  async entries(readAt, sizeBytes) {
    const { at, bytes, count } = await whereCentral(readAt, sizeBytes);
    if (count > MAX_ENTRIES || bytes > count * (3 * MAX_16) || at + bytes > sizeBytes)
      throw new NoContainer('its directory is larger than any');
    const central = await readAt(at, bytes);
    if (central.length < bytes) throw new NoContainer('it ends within its directory');
    const entries: PlacedEntry[] = [];
    for (let from = 0; from < bytes;) {
      const { entry, next } = readCentral(central, from);
      entries.push(await placed(entry, { readAt, sizeBytes: at }));
      from = next;
    }
    if (entries.length !== count) throw new NoContainer('its directory has another length than it says');
    return checkedEntries(entries);
  },
};

function nameOf({ path }: Entry): Uint8Array {
  const name = text.encode(path);
  if (name.length > MAX_16) throw new NoContainer('a name is longer than it has room for');
  return name;
}

function centralOf(entry: PlacedEntry): Uint8Array {
  const name = nameOf(entry);
  const isLarge = entry.sizeBytes >= MAX_32;
  const isFar = entry.headAt >= MAX_32;
  const more = [...(isLarge ? [entry.sizeBytes, entry.sizeBytes] : []), ...(isFar ? [entry.headAt] : [])];
  const extra = more.length > 0 ? zip64(more) : new Uint8Array();
  const head = new Fields(46)
    .u32(CENTRAL)
    .u16(MADE_BY)
    .u16(isLarge || isFar ? 45 : 20)
    .u16(FLAGS)
    .u16(0)
    .u32(dosTime(entry.modifiedMs))
    .u32(entry.crc32!)
    .u32(isLarge ? MAX_32 : entry.sizeBytes)
    .u32(isLarge ? MAX_32 : entry.sizeBytes)
    .u16(name.length)
    .u16(extra.length)
    .u16(0)
    .u16(0)
    .u16(0)
    .u32((0o100644 << 16) >>> 0)
    .u32(isFar ? MAX_32 : entry.headAt);
  return concat([head.bytes, name, extra]);
}

const zip64 = (values: readonly number[]): Uint8Array => {
  const fields = new Fields(4 + 8 * values.length).u16(ZIP64).u16(8 * values.length);
  for (const value of values) fields.u64(value);
  return fields.bytes;
};

function end64(count: number, central: { at: number; after: number; bytes: number }): Uint8Array {
  const end = new Fields(END_64_BYTES)
    .u32(END_64)
    .u64(END_64_BYTES - 12)
    .u16(MADE_BY)
    .u16(45)
    .u32(0)
    .u32(0)
    .u64(count)
    .u64(count)
    .u64(central.bytes)
    .u64(central.at);
  const locator = new Fields(LOCATOR_BYTES).u32(LOCATOR_64).u32(0).u64(central.after).u32(1);
  return concat([end.bytes, locator.bytes]);
}

/** Where the directory is. Ours have no comment at the end. */
async function whereCentral(readAt: ReadAt, sizeBytes: number) {
  const from = Math.max(0, sizeBytes - END_BYTES - LOCATOR_BYTES);
  const last = await readAt(from, END_BYTES + LOCATOR_BYTES);
  const at = last.length - END_BYTES;
  if (at < 0 || u32(last, at) !== END) throw new NoContainer('it ends without its directory');
  const small = { at: u32(last, at + 16), bytes: u32(last, at + 12), count: u16(last, at + 10) };
  if (at < LOCATOR_BYTES || u32(last, at - LOCATOR_BYTES) !== LOCATOR_64) return small;
  const large = await readAt(u64(last, at - LOCATOR_BYTES + 8), END_64_BYTES);
  if (large.length < END_64_BYTES || u32(large, 0) !== END_64)
    throw new NoContainer('its directory is not where it says');
  return { at: u64(large, 48), bytes: u64(large, 40), count: u64(large, 32) };
}

type Listed = Entry & { headAt: number; crc32: number };

function readCentral(bytes: Uint8Array, at: number): { entry: Listed; next: number } {
  if (at + 46 > bytes.length || u32(bytes, at) !== CENTRAL) throw new NoContainer('its directory is damaged');
  const [nameBytes, extraBytes, commentBytes] = [28, 30, 32].map((field) => u16(bytes, at + field)) as number[];
  const next = at + 46 + nameBytes! + extraBytes! + commentBytes!;
  if (next > bytes.length) throw new NoContainer('its directory is damaged');
  const path = decoded(bytes.subarray(at + 46, at + 46 + nameBytes!));
  if (u16(bytes, at + 10) !== 0) throw new NoContainer(`${path} in it is compressed`);
  const large = large64(bytes.subarray(at + 46 + nameBytes!, at + 46 + nameBytes! + extraBytes!));
  const field = (from: number) => {
    const value = u32(bytes, at + from);
    if (value !== MAX_32) return value;
    const more = large.shift();
    if (more === undefined) throw new NoContainer('its directory is damaged');
    return more;
  };
  const [sizeBytes, storedBytes, headAt] = [field(24), field(20), field(42)] as const;
  if (sizeBytes !== storedBytes) throw new NoContainer(`${path} in it is compressed`);
  const modifiedMs = fromDos(u32(bytes, at + 12));
  return { entry: { path, sizeBytes, headAt, modifiedMs, crc32: u32(bytes, at + 16) }, next };
}

function decoded(name: Uint8Array): string {
  try {
    return utf8.decode(name);
  } catch {
    throw new NoContainer('a name in it is no UTF-8');
  }
}

/** Its own header says how long it is; it is no other entry's. */
async function placed(entry: Listed, { readAt, sizeBytes }: { readAt: ReadAt; sizeBytes: number }) {
  const name = nameOf(entry);
  const head = await readAt(entry.headAt, 30 + name.length);
  const isOwn = head.length === 30 + name.length && u32(head, 0) === LOCAL && u32(head, CRC_AT) === entry.crc32;
  if (!isOwn || name.some((byte, i) => head[30 + i] !== byte))
    throw new NoContainer(`${entry.path} is not where its directory says`);
  const at = entry.headAt + 30 + u16(head, 26) + u16(head, 28);
  const end = at + entry.sizeBytes;
  if (end > sizeBytes) throw new NoContainer('it ends within an entry');
  return { ...entry, at, end };
}

/** Two seconds fine, from 1980; the time of no zone, here UTC. */
function dosTime(modifiedMs: number): number {
  const date = new Date(Math.min(Math.max(modifiedMs, Date.UTC(1980, 0, 1)), Date.UTC(2107, 11, 31)));
  const day = ((date.getUTCFullYear() - 1980) << 9) | ((date.getUTCMonth() + 1) << 5) | date.getUTCDate();
  const time = (date.getUTCHours() << 11) | (date.getUTCMinutes() << 5) | (date.getUTCSeconds() >> 1);
  return ((day << 16) | time) >>> 0;
}

/** Little-endian fields, one after the other. */
class Fields {
  readonly bytes: Uint8Array;
  private at = 0;
  constructor(length: number) {
    this.bytes = new Uint8Array(length);
  }
  u16(value: number): this {
    view(this.bytes).setUint16(this.at, value, true);
    this.at += 2;
    return this;
  }
  u32(value: number): this {
    view(this.bytes).setUint32(this.at, value, true);
    this.at += 4;
    return this;
  }
  u64(value: number): this {
    view(this.bytes).setBigUint64(this.at, BigInt(value), true);
    this.at += 8;
    return this;
  }
}
