// One tar: POSIX.1-2017 pax interchange format (the pax utility, "ustar Interchange Format" and "pax Extended Header"). Plain
// files alone; folders follow from their names. What ustar has no room for (long or foreign names, 8 GiB and more) is said in a
// pax header before the entry.
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

const BLOCK = 512;
const MAX_OCTAL_SIZE = 8 ** 11 - 1;
/** A pax header of ours says a path and a size. */
const MAX_PAX_BYTES = 64 << 10;

const text = new TextEncoder();
const utf8 = new TextDecoder();
const padded = (sizeBytes: number) => Math.ceil(sizeBytes / BLOCK) * BLOCK;

export const tar: Container = {
  ending: '.tar',

  head(entry: Entry) {
    const name = text.encode(entry.path);
    const isPlain = name.length <= 100 && name.every((byte) => byte < 128) && entry.sizeBytes <= MAX_OCTAL_SIZE;
    const own = header({ ...entry, name, type: '0', sizeBytes: isPlain ? entry.sizeBytes : octalSize(entry) });
    if (isPlain) return own;
    const records = text.encode(record('path', entry.path) + record('size', String(entry.sizeBytes)));
    const before = { ...entry, name: text.encode('PaxHeader/entry'), type: 'x', sizeBytes: records.length } as const;
    return concat([header(before), records, new Uint8Array(padded(records.length) - records.length), own]);
  },

  tail: ({ sizeBytes }) => new Uint8Array(padded(sizeBytes) - sizeBytes),

  mend: () => null,

  /** Two blocks of zeros, filled up to the record of 20 blocks that tapes are read by. */
  end: (_entries, at) => new Uint8Array(Math.ceil((at + 2 * BLOCK) / (20 * BLOCK)) * (20 * BLOCK) - at),

  async entries(readAt, sizeBytes) {
    const entries: PlacedEntry[] = [];
    let said: Said = {};
    let headAt = 0;
    for (let at = 0; ;) {
      if (entries.length > MAX_ENTRIES) throw new NoContainer('it says more entries than any archive has');
      const block = await blockAt(readAt, at, BLOCK);
      if (block.every((byte) => byte === 0)) return checkedEntries(entries);
      const found = parsed(block, at);
      const from = at + BLOCK;
      if (found.type === 'x') {
        if (found.sizeBytes > MAX_PAX_BYTES) throw new NoContainer(`its header at ${at} is larger than any`);
        said = saidIn(await blockAt(readAt, from, found.sizeBytes), at);
        at = from + padded(found.sizeBytes);
        continue;
      }
      if (found.type !== '0' && found.type !== '\0') throw new NoContainer(`${found.path} in it is no plain file`);
      const entry = { ...found, ...said };
      const end = from + padded(entry.sizeBytes);
      if (end > sizeBytes) throw new NoContainer('it ends within an entry');
      const { path, modifiedMs } = entry;
      entries.push({ path, modifiedMs, sizeBytes: entry.sizeBytes, headAt, at: from, end, crc32: null });
      said = {};
      at = end;
      headAt = end;
    }
  },
};

/** ustar has eleven digits for it; beyond them the pax header alone counts. */
const octalSize = ({ sizeBytes }: Entry) => Math.min(sizeBytes, MAX_OCTAL_SIZE);

interface Head {
  name: Uint8Array;
  sizeBytes: number;
  modifiedMs: number;
  type: '0' | 'x';
}

function header({ name, sizeBytes, modifiedMs, type }: Head): Uint8Array {
  const block = new Uint8Array(BLOCK);
  const put = (at: number, value: string) => block.set(text.encode(value), at);
  block.set(name.subarray(0, 100), 0);
  put(100, '0000644\0');
  put(108, '0000000\0');
  put(116, '0000000\0');
  put(124, `${octal(sizeBytes, 11)}\0`);
  put(136, `${octal(Math.max(0, Math.floor(modifiedMs / 1000)), 11)}\0`);
  put(148, ' '.repeat(8));
  put(156, type);
  put(257, 'ustar\0');
  put(263, '00');
  put(148, `${octal(sumOf(block), 6)}\0 `);
  return block;
}

const octal = (value: number, digits: number) => value.toString(8).padStart(digits, '0').slice(-digits);
const sumOf = (block: Uint8Array) => block.reduce((sum, byte) => sum + byte, 0);

/** "LENGTH KEY=VALUE\n", where the length counts itself. */
function record(key: string, value: string): string {
  const rest = ` ${key}=${value}\n`;
  const bytes = text.encode(rest).length;
  let length = bytes + String(bytes).length;
  if (bytes + String(length).length !== length) length = bytes + String(length).length;
  return `${length}${rest}`;
}

function parsed(block: Uint8Array, at: number): { path: string; sizeBytes: number; modifiedMs: number; type: string } {
  const wrong = (what: string) => new NoContainer(`its header at ${at} ${what}`);
  const blank = new Uint8Array(block);
  blank.fill(32, 148, 156);
  if (number(block, 148, 8) !== sumOf(blank)) throw wrong('has a wrong sum');
  const sizeBytes = number(block, 124, 12);
  if (sizeBytes === null) throw wrong('has no size');
  const prefix = textAt(block, 345, 155);
  const name = textAt(block, 0, 100);
  return {
    path: prefix === '' ? name : `${prefix}/${name}`,
    sizeBytes,
    modifiedMs: (number(block, 136, 12) ?? 0) * 1000,
    type: String.fromCharCode(block[156]!),
  };
}

function textAt(block: Uint8Array, at: number, length: number): string {
  const field = block.subarray(at, at + length);
  const end = field.indexOf(0);
  return utf8.decode(end < 0 ? field : field.subarray(0, end));
}

function number(block: Uint8Array, at: number, length: number): number | null {
  const digits = textAt(block, at, length).trim();
  return /^[0-7]+$/.test(digits) ? parseInt(digits, 8) : null;
}

interface Said {
  path?: string;
  sizeBytes?: number;
}

function saidIn(bytes: Uint8Array, at: number): Said {
  const said: Said = {};
  for (let i = 0; i < bytes.length;) {
    const space = bytes.indexOf(32, i);
    const length = Number(utf8.decode(bytes.subarray(i, space < 0 ? i : space)));
    if (space < 0 || !Number.isSafeInteger(length) || length <= space - i || i + length > bytes.length)
      throw new NoContainer(`its header at ${at} has a wrong record`);
    const [key, ...value] = utf8.decode(bytes.subarray(space + 1, i + length - 1)).split('=');
    if (key === 'path') said.path = value.join('=');
    if (key === 'size') {
      said.sizeBytes = Number(value.join('='));
      if (!Number.isSafeInteger(said.sizeBytes) || said.sizeBytes < 0)
        throw new NoContainer(`its header at ${at} has a wrong size`);
    }
    i += length;
  }
  return said;
}

async function blockAt(readAt: ReadAt, at: number, length: number): Promise<Uint8Array> {
  const bytes = await readAt(at, length);
  if (bytes.length < length) throw new NoContainer('it ends without an end');
  return bytes;
}
