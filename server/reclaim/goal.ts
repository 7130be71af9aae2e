// A goal on real data: the lines of one volume, and the least regretful of them that free so much.
import { type Goal, reach, type Reached } from '#core/reclaim/goal.ts';
import type { VolumeId } from '#core/model.ts';
import type { Db } from '../db/connect.ts';
import { bareLines, type Line, named, type Scope } from './lines.ts';

/** Caches that were changed within this time are at work: a goal leaves them alone. */
export const YOUNGEST_DAYS = 2;
const MOST_LINES = 500_000;

/** Of what a goal does not choose so many lines are told. */
const MOST_BESIDE = 2000;

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
  const all = await bareLines(db, { ...scope, only: [volumeId] }, { cutDay, most: MOST_LINES });
  const found = reach(all, goal);
  const keys = new Set(found.keys);
  const rest = all.filter((line) => line.level <= goal.highest && !keys.has(line.key)).slice(0, MOST_BESIDE);
  const chosen = all.filter((line) => keys.has(line.key));
  const told = await named(db, [...chosen, ...rest]);
  return { ...found, chosen: told.slice(0, chosen.length), rest: told.slice(chosen.length) };
}
