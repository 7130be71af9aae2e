// What a house wants of a project in work at night: an archive of it with its media, of which each builds on the one before.
import { z } from 'zod';
import { USUAL_SCOPE, type ArchiveScope } from '../archive/selection.ts';
import { houseDay, isoDay } from '../house-time.ts';
import { carrierId } from '../steps/ids.ts';

export const projectNight = z.object({
  carrierId,
  /** After so many days everything is written anew, and nothing before is needed for it. */
  anewDays: z.number().int().min(1).max(365).default(30),
  /** Nights older than so many days are let go, never one that a younger one needs; 0: none by itself. */
  keepDays: z.number().int().min(0).max(3650).default(0),
  /** Every night of so many days stays, and of older ones the last of each week; 0: every night stays. */
  allDays: z.number().int().min(0).max(3650).default(0),
  /** Of nights older than so many days the last of each month stays; 0: none are thinned so far. */
  weeklyDays: z.number().int().min(0).max(3650).default(0),
  /** So many megabytes a second are written at most; 0: as fast as it goes. */
  mostMBps: z.number().int().min(0).max(100_000).default(0),
});
export type ProjectNight = z.infer<typeof projectNight>;

/** All media that its timelines use, whole, and the newest of its documents as they are; what can be made again stays out. */
export const NIGHT_SCOPE: ArchiveScope = { ...USUAL_SCOPE, parts: [], versions: 'newest' };

const DAY_MS = 86_400_000;

interface Nights {
  nights: number;
  bytes: number;
}
/** What a project's nights wrote: those that wrote everything anew, and those that wrote what was new alone. */
export interface Written {
  anew: Nights;
  added: Nights;
}
export const NONE_WRITTEN: Written = { anew: { nights: 0, bytes: 0 }, added: { nights: 0, bytes: 0 } };

/**
 * What nights of so many more days take at most, as far as those before tell; null where none of either sort was written yet.
 * Nights in which nothing changed write nothing and are not known of.
 */
export function bytesOfDays(
  { anew, added }: Written,
  { anewDays }: Pick<ProjectNight, 'anewDays'>,
  days: number,
): number | null {
  if (anew.nights === 0 || added.nights === 0) return null;
  return days * (added.bytes / added.nights) + (days / anewDays) * (anew.bytes / anew.nights);
}

/** Weeks begin on Monday: 1 January 1970 was a Thursday. */
const weekOf = (ms: number): number => Math.floor((houseDay(ms) + 3) / 7);
const monthOf = (ms: number): string => isoDay(ms).slice(0, 7);

/** Nights that are wanted for themselves, by their age: all, the last of each week, or the last of each month. */
function wanted(nights: readonly Night[], rule: Keeping, nowMs: number): Set<number> {
  const [weeks, months] = [new Set<number>(), new Set<string>()];
  const found = new Set<number>();
  for (const [i, { archiveId, sealedMs }] of lastFirst(nights).entries()) {
    const [week, month] = [weekOf(sealedMs), monthOf(sealedMs)];
    const isOlder = (days: number) => days > 0 && nowMs - sealedMs > days * DAY_MS;
    const isLast = isOlder(rule.weeklyDays) ? !months.has(month) : !isOlder(rule.allDays) || !weeks.has(week);
    weeks.add(week);
    months.add(month);
    if (i === 0 || (isLast && !isOlder(rule.keepDays))) found.add(archiveId);
  }
  return found;
}

/**
 * Which nights may be let go: those that are not wanted for themselves, and in which nothing lies that one that stays needs. The
 * newest never.
 * @param nights all that there are of a project, in any order
 */
export function nightsToLetGo<One extends Night>(nights: readonly One[], rule: Keeping, nowMs: number): One[] {
  const stays = wanted(nights, rule, nowMs);
  const needed = new Set<number>();
  return lastFirst(nights).filter((night) => {
    const goes = !stays.has(night.archiveId) && !needed.has(night.archiveId);
    if (!goes) for (const id of night.needs) needed.add(id);
    return goes;
  });
}

const lastFirst = <One extends Night>(nights: readonly One[]): One[] =>
  [...nights].sort((a, b) => b.archiveId - a.archiveId);

type Keeping = Pick<ProjectNight, 'keepDays' | 'allDays' | 'weeklyDays'>;
interface Night {
  archiveId: number;
  sealedMs: number;
  /** Earlier archives in which files of it lie. */
  needs: readonly number[];
}

interface Earlier {
  archiveId: number;
  baseId: number | null;
  sealedMs: number;
}

/**
 * The archive that the next night builds on; null where everything is to be written anew: there is none, or the first of its
 * chain is too old.
 * @param earlier archives of the project's nights that can give back all they hold, in any order
 */
export function baseOf<One extends Earlier>(
  earlier: readonly One[],
  { anewDays }: ProjectNight,
  nowMs: number,
): One | null {
  const byId = new Map(earlier.map((one) => [one.archiveId, one]));
  const newest = [...earlier].sort((a, b) => b.archiveId - a.archiveId)[0];
  if (!newest) return null;
  let first: One = newest;
  for (let steps = 0; first.baseId !== null && steps < earlier.length; steps++) {
    const before = byId.get(first.baseId);
    // What it builds on can not give back all it holds any more.
    if (!before) return null;
    first = before;
  }
  return nowMs - first.sealedMs < anewDays * DAY_MS ? newest : null;
}
