// A whole archive as one file, written entry by entry: what is in front of an entry's bytes, behind them, and at the end of
// everything. Used by the carriers' packers; pure, so that work that was interrupted goes on behind its last whole entry.

export interface Entry {
  /** Inside the container, its top folder included. */
  path: string;
  sizeBytes: number;
  modifiedMs: number;
}

/** An entry and where it lies. */
export interface PlacedEntry extends Entry {
  /** Where it begins, its header included. */
  headAt: number;
  /** Where its own bytes begin. */
  at: number;
  /** The first byte behind it, padding included. */
  end: number;
  /** CRC-32 of its bytes, where the container keeps it. */
  crc32: number | null;
}

/** Reads at most `length` bytes at a place. Fewer only at the end. */
export type ReadAt = (at: number, length: number) => Promise<Uint8Array>;

export interface Container {
  /** What its name ends on, the point included. */
  readonly ending: string;
  /** What a header says, before the sum of the bytes is known. */
  head(entry: Entry, at: number): Uint8Array;
  /** What comes behind its bytes. */
  tail(entry: Entry): Uint8Array;
  /** What is written over once the sum of the bytes is known; null where nothing is. */
  mend(placed: PlacedEntry): { at: number; bytes: Uint8Array } | null;
  /** What comes behind the last entry. */
  end(entries: readonly PlacedEntry[], at: number): Uint8Array;
  /** All entries of a whole one. Throws NoContainer with what is wrong. */
  entries(readAt: ReadAt, sizeBytes: number): Promise<PlacedEntry[]>;
}

/** It is not what it should be, in words that end a sentence. */
export class NoContainer extends Error {
  override readonly name = 'NoContainer';
  readonly code = 'no_container';
}

/** As many entries as any archive of ours has; headers that say more are not believed. */
export const MAX_ENTRIES = 5_000_000;

/** Every name once, all below one top folder, and none that leads out of it. */
export function checkedEntries(entries: PlacedEntry[]): PlacedEntry[] {
  const seen = new Set<string>();
  const top = entries[0]?.path.split('/')[0];
  for (const { path } of entries) {
    if (seen.has(path)) throw new NoContainer(`${path} is in it twice`);
    seen.add(path);
    const segments = path.split('/');
    if (segments.length < 2 || segments[0] !== top || segments.some((one) => ['', '.', '..'].includes(one)))
      throw new NoContainer(`${path} does not lie in its top folder`);
  }
  return entries;
}

export const concat = (parts: readonly Uint8Array[]): Uint8Array => {
  const all = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0));
  let at = 0;
  for (const part of parts) {
    all.set(part, at);
    at += part.length;
  }
  return all;
};
