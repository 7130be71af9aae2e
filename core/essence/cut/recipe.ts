// A file made of another without encoding it anew: new heads and tables around bytes that stay as they are. What a recipe
// makes is known to the byte before anything is written. Whoever writes it reads the pieces in their order.
import type { ByteSource } from '../bytes.ts';
import { lastAtMost } from '../mov/track.ts';

/** Bytes of the recipe itself, or a stretch of the file it is made of. */
export type RecipePiece = { bytes: Uint8Array } | { at: number; length: number };

/** Shown frames of its first picture, or frames of sound where it has none. `to` not included. */
export interface Frames {
  from: number;
  to: number;
}

export interface Recipe {
  pieces: RecipePiece[];
  sizeBytes: number;
}

/** Why a file cannot be cut and stays whole, as the end of a sentence: "it stays whole: …". */
export class CannotCut extends Error {
  readonly code = 'cannot_cut';
}

export const lengthOf = (piece: RecipePiece): number => ('bytes' in piece ? piece.bytes.length : piece.length);

/** Neighbouring stretches joined, nothing empty. */
export function recipe(pieces: Iterable<RecipePiece>): Recipe {
  const joined: RecipePiece[] = [];
  let sizeBytes = 0;
  for (const piece of pieces) {
    const length = lengthOf(piece);
    if (length === 0) continue;
    sizeBytes += length;
    const last = joined.at(-1);
    if (last && 'at' in last && 'at' in piece && last.at + last.length === piece.at) last.length += length;
    else joined.push('at' in piece ? { ...piece } : piece);
  }
  return { pieces: joined, sizeBytes };
}

/** What a recipe makes, as if it lay there already. */
export function made(source: ByteSource, { pieces, sizeBytes }: Recipe): ByteSource {
  const starts: number[] = [];
  let size = 0;
  for (const piece of pieces) {
    starts.push(size);
    size += lengthOf(piece);
  }
  return {
    size: sizeBytes,
    read(at, length) {
      const out = new Uint8Array(Math.max(0, Math.min(length, sizeBytes - at)));
      let filled = 0;
      for (let i = Math.max(0, lastAtMost(starts, at)); filled < out.length; i++) {
        const piece = pieces[i]!;
        const from = at + filled - starts[i]!;
        const take = Math.min(out.length - filled, lengthOf(piece) - from);
        const bytes = 'bytes' in piece ? piece.bytes.subarray(from, from + take) : source.read(piece.at + from, take);
        if (bytes.length < take) return out.subarray(0, filled);
        out.set(bytes, filled);
        filled += take;
      }
      return out;
    },
  };
}

/** Bytes one after another, in numbers of either order. */
export class Bytes {
  private readonly parts: Uint8Array[] = [];
  length = 0;

  constructor(private readonly little = false) {}

  add(bytes: Uint8Array): this {
    this.parts.push(bytes);
    this.length += bytes.length;
    return this;
  }
  letters(text: string): this {
    return this.add(Uint8Array.from(text, (letter) => letter.charCodeAt(0)));
  }
  u16(value: number): this {
    return this.number(2, (view) => view.setUint16(0, value, this.little));
  }
  u32(value: number): this {
    return this.number(4, (view) => view.setUint32(0, value, this.little));
  }
  i32(value: number): this {
    return this.number(4, (view) => view.setInt32(0, value, this.little));
  }
  u64(value: number): this {
    return this.number(8, (view) => view.setBigUint64(0, BigInt(value), this.little));
  }
  i64(value: number): this {
    return this.number(8, (view) => view.setBigInt64(0, BigInt(value), this.little));
  }
  private number(width: number, write: (view: DataView) => void): this {
    const bytes = new Uint8Array(width);
    write(new DataView(bytes.buffer));
    return this.add(bytes);
  }
  bytes(): Uint8Array {
    const out = new Uint8Array(this.length);
    let at = 0;
    for (const part of this.parts) {
      out.set(part, at);
      at += part.length;
    }
    return out;
  }
}
