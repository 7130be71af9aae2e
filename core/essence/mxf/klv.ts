// What an MXF file is made of: keys with lengths, partitions, and sets of header metadata. Source: SMPTE ST 377-1. Asked by
// whoever reads one and by whoever cuts one.
import type { Rate } from '../../time/rates.ts';
import { type ByteSource, EssenceTrouble, piece } from '../bytes.ts';

export interface Partition {
  at: number;
  /** Its key, which says what sort it is and whether it is closed. */
  key: string;
  closed: boolean;
  kag: number;
  previous: number;
  footer: number;
  headerBytes: number;
  indexBytes: number;
  bodyOffset: number;
  bodySid: number;
  /** Where its values lie, and where they end. */
  values: { begin: number; end: number };
  /** Where what follows the partition pack begins. */
  begin: number;
}

export interface Klv {
  key: string;
  begin: number;
  end: number;
}

export const hex = (view: DataView, at: number, length: number): string => {
  let text = '';
  for (let i = 0; i < length; i++)
    text += view
      .getUint8(at + i)
      .toString(16)
      .padStart(2, '0');
  return text;
};

/** A key, its length (BER, ST 377-1 6.3) and where its value lies. */
export function klv(view: DataView, at: number, base: number): Klv {
  const key = hex(view, at, 16);
  const first = view.getUint8(at + 16);
  if (first < 0x80) return { key, begin: at + 17, end: at + 17 + first };
  const digits = first & 0x7f;
  if (digits === 0 || digits > 8) throw new EssenceTrouble(base + at, 'a length that is no BER length');
  let length = 0;
  for (let i = 0; i < digits; i++) length = length * 256 + view.getUint8(at + 17 + i);
  if (!Number.isSafeInteger(length)) throw new EssenceTrouble(base + at, 'a length larger than any file');
  return { key, begin: at + 17 + digits, end: at + 17 + digits + length };
}

/** The same of a file, places counted from its beginning. */
export function klvAt(source: ByteSource, at: number): Klv {
  const { key, begin, end } = klv(piece(source, at, Math.min(32, source.size - at)), 0, at);
  return { key, begin: at + begin, end: at + end };
}

export const PARTITION = '060e2b34020501010d010201010';
export const FILL = '060e2b34010101020301021001000000';
export const INDEX = '060e2b34025301010d01020101100100';

export function partition(source: ByteSource, at: number): Partition {
  const view = piece(source, at, Math.min(source.size - at, 256));
  const head = klv(view, 0, at);
  if (!head.key.startsWith(PARTITION)) throw new EssenceTrouble(at, 'a partition was expected');
  const long = (offset: number) => {
    const value = view.getBigUint64(head.begin + offset);
    return value > BigInt(source.size) ? 0 : Number(value);
  };
  return {
    at,
    key: head.key,
    // The status in the key's 15th byte: 2 and 4 are closed.
    closed: ['02', '04'].includes(head.key.slice(28, 30)),
    kag: view.getUint32(head.begin + 4),
    previous: long(16),
    footer: long(24),
    headerBytes: long(32),
    indexBytes: long(40),
    bodyOffset: long(52),
    bodySid: view.getUint32(head.begin + 60),
    values: { begin: at + head.begin, end: at + head.end },
    begin: afterFill(source, at + head.end),
  };
}

export const isFill = (key: string): boolean =>
  key.startsWith('060e2b34010101') && key.slice(16) === '0301021001000000';

/** The bytes of header metadata are counted from behind the fill that may follow the partition pack. */
function afterFill(source: ByteSource, at: number): number {
  if (at + 32 > source.size) return at;
  const next = klvAt(source, at);
  return isFill(next.key) ? next.end : at;
}

/** A set: which sort, and its values by their local tags, as views of the bytes it was read from. */
export interface SetOf {
  kind: number;
  values: Map<number, DataView>;
}

const MOST_SETS = 50_000;

/** The sets of header metadata. */
export function setsIn(view: DataView, base: number): SetOf[] {
  const sets: SetOf[] = [];
  for (let at = 0; at + 17 < view.byteLength;) {
    const item = klv(view, at, base);
    if (item.end > view.byteLength) break;
    // The 14th byte and the 15th say which.
    if (item.key.startsWith('060e2b34025301010d010101010')) {
      if (sets.length > MOST_SETS) throw new EssenceTrouble(base + at, `more than ${MOST_SETS} sets`);
      sets.push({ kind: parseInt(item.key.slice(28, 30), 16), values: localTags(view, item, base) });
    }
    at = item.end;
  }
  return sets;
}

export function localTags(view: DataView, { begin, end }: Klv, base: number): Map<number, DataView> {
  const values = new Map<number, DataView>();
  for (let at = begin; at + 4 <= end;) {
    const tag = view.getUint16(at);
    const length = view.getUint16(at + 2);
    if (at + 4 + length > end) throw new EssenceTrouble(base + at, 'a value longer than its set');
    values.set(tag, new DataView(view.buffer, view.byteOffset + at + 4, length));
    at += 4 + length;
  }
  return values;
}

export const rational = (view: DataView | undefined): Rate | null => {
  if (!view || view.byteLength < 8) return null;
  const [num, den] = [view.getInt32(0), view.getInt32(4)];
  return num > 0 && den > 0 ? { num, den } : null;
};
export const whole = (view: DataView | undefined): number =>
  !view ? 0 : view.byteLength >= 8 ? Number(view.getBigInt64(0)) : view.byteLength >= 4 ? view.getUint32(0) : 0;

/** Sorts of sets, by that byte of their keys. */
export const SETS = {
  sequence: 0x0f,
  sourceClip: 0x11,
  timecode: 0x14,
  essenceData: 0x23,
  material: 0x36,
  source: 0x37,
  track: 0x3b,
} as const;
