// Memory that begins at a page, as direct reading and writing (O_DIRECT, open(2)) ask of it. Called where bytes go around the
// system's memory, and where they are read that will.

/** Places, lengths and memory of what goes directly are whole blocks, of at most this many bytes on any disk. */
export const BLOCK = 4096;
/** How much there is in one go. */
export const STRETCH = 1 << 20;
const PAGE = 64 << 10;

const spare: Buffer[] = [];

/** A stretch of memory. Give it back: a WebAssembly memory begins at a page, none else that can be had here does, and each is dear. */
export function takeMemory(): Buffer {
  const known = spare.pop();
  if (known) return known;
  try {
    return Buffer.from(new WebAssembly.Memory({ initial: STRETCH / PAGE }).buffer);
  } catch {
    // Where there are no more addresses for one: then what it is used for goes the other way.
    return Buffer.alloc(STRETCH);
  }
}

/** For the next to use; nothing of whoever had it may still be under way. */
export const giveMemory = (...memory: Buffer[]): void => void spare.push(...memory);
