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
const LEVELS = [0, 1, 2, 3] as const;
const sumOf = (list: readonly Candidate[]) => list.reduce((sum, one) => sum + one.bytes, 0);

/** Of one level, the least regretted first: by what it costs to have a byte again, then the older, then the larger. */
function inOrder(candidates: readonly Candidate[]): Candidate[] {
  const cost = Float64Array.from(candidates, (one) => one.costSeconds / Math.max(1, one.bytes));
  const order = Uint32Array.from(candidates, (_, i) => i);
  order.sort((i, j) => {
    const [a, b] = [candidates[i]!, candidates[j]!];
    return cost[i]! - cost[j]! || a.day - b.day || b.bytes - a.bytes || (a.key < b.key ? -1 : 1);
  });
  return Array.from(order, (i) => candidates[i]!);
}

/**
 * Takes candidates in order of regret until the goal is met; then what is not needed for it any more is left out again,
 * the most regretted first.
 */
export function reach(candidates: readonly Candidate[], { wantedBytes, highest }: Goal): Reached {
  const taken: Candidate[] = [];
  const after: Candidate[] = [];
  let bytes = 0;
  // A level is put in order only where those below it do not reach.
  for (const level of LEVELS) {
    if (level > highest) break;
    const own = candidates.filter((one) => one.level === level && one.bytes > 0);
    if (bytes >= wantedBytes && sumOf(after) >= NEXT_BYTES) break;
    for (const one of inOrder(own))
      if (bytes < wantedBytes) {
        taken.push(one);
        bytes += one.bytes;
      } else after.push(one);
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
    next: nextOf(after),
    beyondBytes: candidates.reduce((sum, one) => (one.level > highest ? sum + one.bytes : sum), 0),
  };
}

function nextOf(after: readonly Candidate[]): Reached['next'] {
  if (after.length === 0) return null;
  let [bytes, costSeconds, level] = [0, 0, after[0]!.level as Level];
  for (const one of after) {
    if (bytes >= NEXT_BYTES) break;
    bytes += one.bytes;
    costSeconds += one.costSeconds;
    level = one.level;
  }
  return { level, bytes, costSeconds };
}
