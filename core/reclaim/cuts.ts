// Which caches are old enough to go: the day before which a file must have been changed last. Whole days in UTC, so
// that the preview, taken from rollups by day, and the plan, taken from file rows, are the same to the byte.
import { dayOfUs } from '../wording/amounts.ts';

/** The ages offered, in days; 0 is everything. */
export const AGE_CHOICES = [0, 7, 14, 30, 60, 90, 180] as const;

/** Files changed on a day before this one (days since 1970) are at least `ageDays` old. */
export function cutDay(nowMs: number, ageDays: number): number {
  return Math.floor(nowMs / 86_400_000) - ageDays + (ageDays === 0 ? 1 : 0);
}

/** True where a file is older than the cut. */
export const beforeCut = (modifiedUs: number, cut: number): boolean => dayOfUs(modifiedUs) < cut;
