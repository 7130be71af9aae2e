// Fields of the .ZIP File Format Specification, as its readers share them: little-endian numbers, signatures, the field for what has no
// room in 32 bits, and times.

/** What each of its records begins with. */
export const ZIP = {
  LOCAL: 0x04034b50,
  CENTRAL: 0x02014b50,
  END: 0x06054b50,
  END_64: 0x06064b50,
  LOCATOR_64: 0x07064b50,
} as const;
export const ZIP64 = 0x0001;

export const view = (bytes: Uint8Array) => new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
export const u16 = (bytes: Uint8Array, at: number) => view(bytes).getUint16(at, true);
export const u32 = (bytes: Uint8Array, at: number) => view(bytes).getUint32(at, true);
export const u64 = (bytes: Uint8Array, at: number) => Number(view(bytes).getBigUint64(at, true));

/** Sizes and places that have no room in 32 bits, those alone and in this order; none where there is no such field. */
export function large64(extra: Uint8Array): number[] {
  for (let at = 0; at + 4 <= extra.length;) {
    const length = u16(extra, at + 2);
    if (u16(extra, at) === ZIP64 && at + 4 + length <= extra.length)
      return Array.from({ length: Math.floor(length / 8) }, (_, i) => u64(extra, at + 4 + 8 * i));
    at += 4 + length;
  }
  return [];
}

/** Two seconds fine, of no zone: taken as UTC. */
export function fromDos(value: number): number {
  const [day, time] = [value >>> 16, value & 0xffff];
  return Date.UTC(1980 + (day >> 9), ((day >> 5) & 15) - 1, day & 31, time >> 11, (time >> 5) & 63, (time & 31) * 2);
}
