// What a house wants of a project in work at night: an archive of it with its media, of which each builds on the one before.
import { z } from 'zod';
import { USUAL_SCOPE, type ArchiveScope } from '../archive/selection.ts';
import { carrierId } from '../steps/ids.ts';

export const projectNight = z.object({
  carrierId,
  /** After so many days everything is written anew, and nothing before is needed for it. */
  anewDays: z.number().int().min(1).max(365).default(30),
  /** Nights older than so many days are let go, never one that a younger one needs; 0: none by itself. */
  keepDays: z.number().int().min(0).max(3650).default(0),
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

/** Night by night, the last first: which may be let go. The newest never, and none that one that stays builds on. */
export function nightsToLetGo<One extends Earlier>(
  nights: readonly One[],
  { keepDays }: ProjectNight,
  nowMs: number,
): One[] {
  if (keepDays === 0) return [];
  const [newest, ...older] = [...nights].sort((a, b) => b.archiveId - a.archiveId);
  const needed = new Set([newest?.baseId]);
  return older.filter((night) => {
    const goes = nowMs - night.sealedMs > keepDays * DAY_MS && !needed.has(night.archiveId);
    if (!goes) needed.add(night.baseId);
    return goes;
  });
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
