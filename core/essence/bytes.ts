// A way to read bytes of a file, a piece at a time: the header of a 40 GB file costs a few reads. Parsers stand on it;
// disk/ gives the real one, tests give one over memory.

export interface ByteSource {
  readonly size: number;
  /** Bytes from `at`; fewer than asked only at the end of the file. */
  read(at: number, length: number): Uint8Array;
}

/** What a file's structure says wrongly, and where (a byte offset). */
export class EssenceTrouble extends Error {
  constructor(
    readonly at: number,
    detail: string,
  ) {
    super(detail);
  }
}

/** Largest piece ever asked for at once: a table of samples of a very long recording, not a gigabyte. */
export const LARGEST_PIECE = 96 << 20;

/** Exactly `length` bytes from `at`, or a trouble. */
export function piece(source: ByteSource, at: number, length: number): DataView {
  if (!Number.isSafeInteger(at) || !Number.isSafeInteger(length) || at < 0 || length < 0)
    throw new EssenceTrouble(at, 'a length or a place that cannot be');
  if (length > LARGEST_PIECE) throw new EssenceTrouble(at, `a piece of ${length} bytes, more than any header has`);
  if (at + length > source.size) throw new EssenceTrouble(at, 'the file ends before what it announces');
  const bytes = source.read(at, length);
  if (bytes.byteLength < length) throw new EssenceTrouble(at, 'the file ends before what it announces');
  return new DataView(bytes.buffer, bytes.byteOffset, length);
}

/** Letters of a four-letter code, or of any fixed field; what is not printable is left out. */
export function letters(view: DataView, at: number, length: number): string {
  let text = '';
  for (let i = 0; i < length; i++) {
    const code = view.getUint8(at + i);
    if (code === 0) break;
    if (code >= 0x20 && code < 0x7f) text += String.fromCharCode(code);
  }
  return text;
}

/** A 64-bit count as a number; a trouble where it is larger than any file. */
export function count64(view: DataView, at: number, where: number): number {
  const value = view.getBigUint64(at);
  if (value > BigInt(Number.MAX_SAFE_INTEGER)) throw new EssenceTrouble(where, 'a 64-bit number larger than any file');
  return Number(value);
}

/** Bytes that are in memory already. */
export const memorySource = (bytes: Uint8Array): ByteSource => ({
  size: bytes.byteLength,
  read: (at, length) => bytes.subarray(at, Math.min(bytes.byteLength, at + length)),
});
