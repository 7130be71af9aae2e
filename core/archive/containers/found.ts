// Tars and zips that others wrote, as they are met on old disks: several top folders, folders as entries of their own, long names in any
// of the ways there are, sizes of any length, entries that are compressed. Only read. Sources: POSIX.1-2017, pax; GNU tar manual, "Basic
// Tar Format"; the .ZIP File Format Specification.
import { relativePath } from '../../paths.ts';
import { MAX_ENTRIES, NoContainer, type ReadAt } from './container.ts';
import { fromDos, large64, u16, u32, u64, ZIP } from './zip-fields.ts';

export interface FoundEntry {
  /** Relative, with '/' between. */
  path: string;
  sizeBytes: number;
  modifiedMs: number;
  /** Where its bytes begin, and how many there are: others than its size where it is compressed. */
  at: number;
  storedBytes: number;
  isCompressed: boolean;
  /** False for links, devices, and what is stored in a way that nobody else reads. */
  isPlain: boolean;
}

export type FoundContainer = (readAt: ReadAt, sizeBytes: number) => Promise<FoundEntry[]>;

/** Of two entries of one name the later counts, as with every tool that unpacks them. What leads out of it is told as no plain file. */
function settled(entries: readonly FoundEntry[]): FoundEntry[] {
  const byPath = new Map<string, FoundEntry>();
  for (const entry of entries) {
    const checked = relativePath(entry.path.replace(/^\/+/, ''));
    const own = checked.ok
      ? { ...entry, path: checked.path }
      : { ...entry, path: entry.path.replaceAll('..', '__').replace(/^\/+/, '').replaceAll('\0', ''), isPlain: false };
    byPath.delete(own.path);
    if (own.path !== '') byPath.set(own.path, own);
  }
  return [...byPath.values()];
}

const utf8 = new TextDecoder();
const BLOCK = 512;
/** A name, or a pax header, is never longer in anything that was written in earnest. */
const MOST_SAID = 1 << 20;

const padded = (bytes: number) => Math.ceil(bytes / BLOCK) * BLOCK;

function fieldOf(block: Uint8Array, at: number, length: number): string {
  const field = block.subarray(at, at + length);
  const end = field.indexOf(0);
  return utf8.decode(end < 0 ? field : field.subarray(0, end));
}

/** Octal digits, or as GNU tar writes what has no room for them: base 256 behind a set bit. */
function numberOf(block: Uint8Array, at: number, length: number): number {
  if ((block[at]! & 0x80) !== 0) {
    let value = block[at]! & 0x3f;
    for (let i = 1; i < length; i++) value = value * 256 + block[at + i]!;
    return value;
  }
  const text = fieldOf(block, at, length).trim();
  return text === '' ? 0 : /^[0-7]+$/.test(text) ? parseInt(text, 8) : NaN;
}

interface Said {
  path?: string;
  sizeBytes?: number;
  modifiedMs?: number;
  /** Stored with holes of its own kind. */
  isSparse?: boolean;
}

/** Records of a pax header; what is not understood is passed over. */
function saidIn(bytes: Uint8Array): Said {
  const said: Said = {};
  for (let i = 0; i < bytes.length;) {
    const space = bytes.indexOf(32, i);
    const length = Number(utf8.decode(bytes.subarray(i, space < 0 ? i : space)));
    if (space < 0 || !Number.isSafeInteger(length) || length <= space - i || i + length > bytes.length) break;
    const [key, ...rest] = utf8.decode(bytes.subarray(space + 1, i + length - 1)).split('=');
    const value = rest.join('=');
    if (key === 'path') said.path = value;
    if (key === 'size' && Number.isSafeInteger(Number(value))) said.sizeBytes = Number(value);
    if (key === 'mtime' && Number.isFinite(Number(value))) said.modifiedMs = Number(value) * 1000;
    if (key!.startsWith('GNU.sparse')) said.isSparse = true;
    i += length;
  }
  return said;
}

/** @throws NoContainer with what is wrong, as the end of a sentence */
export const foundTar: FoundContainer = async (readAt, sizeBytes) => {
  const entries: FoundEntry[] = [];
  let said: Said = {};
  for (let at = 0; at + BLOCK <= sizeBytes;) {
    if (entries.length > MAX_ENTRIES) throw new NoContainer('it says more entries than any archive has');
    const block = await readAt(at, BLOCK);
    if (block.length < BLOCK) throw new NoContainer('it ends within a header');
    if (block.every((byte) => byte === 0)) break;
    const blank = new Uint8Array(block);
    blank.fill(32, 148, 156);
    if (numberOf(block, 148, 8) !== blank.reduce((sum, byte) => sum + byte, 0))
      throw new NoContainer(at === 0 ? 'it is no tar' : `its header at ${at} is damaged`);
    const type = String.fromCharCode(block[156]!);
    const own = numberOf(block, 124, 12);
    const from = at + BLOCK;
    if (!Number.isSafeInteger(own) || own < 0) throw new NoContainer(`its header at ${at} has no size`);
    if ('xgLK'.includes(type)) {
      if (own > MOST_SAID) throw new NoContainer(`its header at ${at} is larger than any`);
      const bytes = await readAt(from, own);
      if (bytes.length < own) throw new NoContainer('it ends within a header');
      if (type === 'x') said = { ...said, ...saidIn(bytes) };
      if (type === 'L') said = { ...said, path: fieldOf(bytes, 0, own) };
      at = from + padded(own);
      continue;
    }
    const stored = said.sizeBytes ?? own;
    const hasBytes = !'123456'.includes(type);
    const end = from + (hasBytes ? padded(stored) : 0);
    if (hasBytes && from + stored > sizeBytes) throw new NoContainer('it ends within an entry');
    const prefix = fieldOf(block, 257, 5) === 'ustar' && block[263] !== 32 ? fieldOf(block, 345, 155) : '';
    const name = fieldOf(block, 0, 100);
    const path = said.path ?? (prefix === '' ? name : `${prefix}/${name}`);
    // Folders follow from the names in them.
    if (type !== '5' && !path.endsWith('/'))
      entries.push({
        ...{ path, sizeBytes: hasBytes ? stored : 0, storedBytes: stored, at: from, isCompressed: false },
        modifiedMs: said.modifiedMs ?? (numberOf(block, 136, 12) || 0) * 1000,
        isPlain: ['0', '\0', '7'].includes(type) && !said.isSparse,
      });
    said = {};
    at = end;
  }
  return settled(entries);
};

const { END, END_64, LOCATOR_64, CENTRAL, LOCAL } = ZIP;
const END_BYTES = 22;
const MAX_COMMENT = 0xffff;
const MAX_32 = 0xffffffff;
/** Of as many entries as are taken, each with a name of usual length. */
const MOST_DIRECTORY = 1 << 30;
const STORED = 0;
const DEFLATED = 8;

/** Where the directory is: before the end, behind which there may be a comment. */
async function directoryOf(readAt: ReadAt, sizeBytes: number): Promise<{ at: number; bytes: number }> {
  const from = Math.max(0, sizeBytes - END_BYTES - MAX_COMMENT);
  const tail = await readAt(from, sizeBytes - from);
  for (let i = tail.length - END_BYTES; i >= 0; i--) {
    if (u32(tail, i) !== END || i + END_BYTES + u16(tail, i + 20) > tail.length) continue;
    const small = { bytes: u32(tail, i + 12), at: u32(tail, i + 16) };
    if (small.at !== MAX_32 && small.bytes !== MAX_32) return small;
    if (i < 20 || u32(tail, i - 20) !== LOCATOR_64) break;
    const large = await readAt(u64(tail, i - 20 + 8), 56);
    if (large.length < 56 || u32(large, 0) !== END_64) break;
    return { bytes: u64(large, 40), at: u64(large, 48) };
  }
  throw new NoContainer('it is no zip, or its directory is not whole');
}

const latin1 = new TextDecoder('latin1');
const strict = new TextDecoder('utf-8', { fatal: true });

/** Names are UTF-8 where they say so, and mostly where they do not. */
function named(bytes: Uint8Array): string {
  try {
    return strict.decode(bytes);
  } catch {
    return latin1.decode(bytes);
  }
}

/** @throws NoContainer with what is wrong, as the end of a sentence */
export const foundZip: FoundContainer = async (readAt, sizeBytes) => {
  const { at, bytes } = await directoryOf(readAt, sizeBytes);
  if (!(at + bytes <= sizeBytes)) throw new NoContainer('its directory is not where it says');
  if (bytes > MOST_DIRECTORY) throw new NoContainer('its directory is larger than any');
  const central = await readAt(at, bytes);
  if (central.length < bytes) throw new NoContainer('it ends within its directory');
  const entries: FoundEntry[] = [];
  for (let from = 0; from + 46 <= bytes;) {
    if (entries.length > MAX_ENTRIES) throw new NoContainer('it says more entries than any archive has');
    if (u32(central, from) !== CENTRAL) throw new NoContainer('its directory is damaged');
    const [nameBytes, extraBytes, commentBytes] = [28, 30, 32].map((field) => u16(central, from + field));
    const next = from + 46 + nameBytes! + extraBytes! + commentBytes!;
    if (next > bytes) throw new NoContainer('its directory is damaged');
    const path = named(central.subarray(from + 46, from + 46 + nameBytes!)).replaceAll('\\', '/');
    const large = large64(central.subarray(from + 46 + nameBytes!, from + 46 + nameBytes! + extraBytes!));
    const field = (place: number) => {
      const value = u32(central, from + place);
      return value === MAX_32 ? (large.shift() ?? value) : value;
    };
    const [own, stored, headAt] = [field(24), field(20), field(42)];
    const [flags, method] = [u16(central, from + 8), u16(central, from + 10)];
    const modifiedMs = fromDos(u32(central, from + 12));
    from = next;
    if (path.endsWith('/')) continue;
    const head = await readAt(headAt, 30);
    if (head.length < 30 || u32(head, 0) !== LOCAL) throw new NoContainer(`${path} is not where its directory says`);
    const begin = headAt + 30 + u16(head, 26) + u16(head, 28);
    if (begin + stored > sizeBytes) throw new NoContainer('it ends within an entry');
    entries.push({
      ...{ path, sizeBytes: own, storedBytes: stored, at: begin, modifiedMs, isCompressed: method === DEFLATED },
      // Locked, or packed in a way that few read.
      isPlain: (flags & 1) === 0 && (method === STORED || method === DEFLATED),
    });
  }
  return settled(entries);
};
