// A goal instead of a list: the least regretful set that frees so many bytes. Levels first, then what it costs to have a
// byte again, then age. What is chosen is a starting point that people edit.
import type { Level } from '../model.ts';
import type { Group } from './worth.ts';

/** Files that are offered together: of one folder, project, group and level. */
export interface Candidate {
  key: string;
  volumeId: number;
  group: Group;
  level: Level;
  bytes: number;
  /** Seconds until all of it is there again; 0 where that is not known. */
  costSeconds: number;
  /** Newest of its files, in days since 1970. */
  day: number;
}

export interface Goal {
  wantedBytes: number;
  /** Levels above this are not taken; 3 by choice alone. */
  highest: Level;
}

export interface Reached {
  keys: string[];
  bytes: number;
  isReached: boolean;
  byLevel: Record<Level, number>;
  costSeconds: number;
  /** What the next bytes after those would be, for the same again: null where nothing is left. */
  next: { level: Level; bytes: number; costSeconds: number } | null;
  /** Bytes that higher levels would give and are not taken. */
  beyondBytes: number;
}

const NEXT_BYTES = 10e9;

const regret = (a: Candidate, b: Candidate) =>
  a.level - b.level ||
  a.costSeconds / Math.max(1, a.bytes) - b.costSeconds / Math.max(1, b.bytes) ||
  a.day - b.day ||
  b.bytes - a.bytes ||
  (a.key < b.key ? -1 : 1);

/**
 * Takes candidates in order of regret until the goal is met; then what is not needed for it any more is left out again,
 * the most regretted first.
 */
export function reach(candidates: readonly Candidate[], { wantedBytes, highest }: Goal): Reached {
  const sorted = candidates.filter(({ level, bytes }) => level <= highest && bytes > 0).sort(regret);
  const taken: Candidate[] = [];
  let bytes = 0;
  let at = 0;
  for (; at < sorted.length && bytes < wantedBytes; at++) {
    taken.push(sorted[at]!);
    bytes += sorted[at]!.bytes;
  }
  const isReached = bytes >= wantedBytes;
  const kept: Candidate[] = [];
  // From the last back: all but the one that met the goal may be smaller than what is over.
  for (const one of taken.reverse())
    if (isReached && bytes - one.bytes >= wantedBytes) bytes -= one.bytes;
    else kept.push(one);
  kept.reverse();
  const byLevel: Record<Level, number> = { 0: 0, 1: 0, 2: 0, 3: 0 };
  let costSeconds = 0;
  for (const one of kept) {
    byLevel[one.level] += one.bytes;
    costSeconds += one.costSeconds;
  }
  return {
    keys: kept.map(({ key }) => key),
    bytes,
    isReached,
    byLevel,
    costSeconds,
    next: nextOf(sorted, at),
    beyondBytes: candidates.reduce((sum, one) => (one.level > highest ? sum + one.bytes : sum), 0),
  };
}

function nextOf(sorted: readonly Candidate[], from: number): Reached['next'] {
  if (from >= sorted.length) return null;
  let [bytes, costSeconds, level] = [0, 0, sorted[from]!.level as Level];
  for (let i = from; i < sorted.length && bytes < NEXT_BYTES; i++) {
    const one = sorted[i]!;
    bytes += one.bytes;
    costSeconds += one.costSeconds;
    level = one.level;
  }
  return { level, bytes, costSeconds };
}
