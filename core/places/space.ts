// How much room a file system says it has, taken with care: some say more is free than they hold, or nothing at all.

export interface Said {
  /** Blocks in all, blocks free to users, bytes a block; as statfs(2) tells them. */
  blocks: number;
  bavail: number;
  bsize: number;
}

export interface Room {
  totalBytes: number;
  freeBytes: number;
  /** False where what was said cannot be: nobody should plan on it. */
  credible: boolean;
}

/** Room in bytes, never negative, never more free than there is. */
export function roomOf({ blocks, bavail, bsize }: Said): Room {
  const sound = [blocks, bavail, bsize].every((n) => Number.isFinite(n) && n >= 0);
  const total = sound ? blocks * bsize : 0;
  const free = sound ? bavail * bsize : 0;
  return {
    totalBytes: Number.isSafeInteger(total) ? total : 0,
    freeBytes: Number.isSafeInteger(total) ? Math.min(free, total) : 0,
    credible: sound && total > 0 && Number.isSafeInteger(total) && free <= total,
  };
}
