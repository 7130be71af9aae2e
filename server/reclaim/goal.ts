// A goal on real data: the lines of one volume, and the least regretful of them that free so much.
import { type Goal, reach, type Reached } from '#core/reclaim/goal.ts';
import type { VolumeId } from '#core/model.ts';
import type { Db } from '../db/connect.ts';
import { type Line, lines, type Scope } from './lines.ts';

/** Caches that were changed within this time are at work: a goal leaves them alone. */
export const YOUNGEST_DAYS = 2;
const MOST_LINES = 500_000;

export interface Found extends Reached {
  chosen: Line[];
  /** What else could go at these levels, the largest first. */
  rest: Line[];
}

export async function goalOn(
  db: Db,
  scope: Scope,
  { volumeId, cutDay, ...goal }: Goal & { volumeId: VolumeId; cutDay: number },
): Promise<Found> {
  const all = await lines(db, { ...scope, only: [volumeId] }, { cutDay, most: MOST_LINES });
  const found = reach(all, goal);
  const keys = new Set(found.keys);
  return {
    ...found,
    chosen: all.filter((line) => keys.has(line.key)),
    rest: all.filter((line) => !keys.has(line.key) && line.level <= goal.highest),
  };
}
