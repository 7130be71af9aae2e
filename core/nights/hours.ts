// The hours in which what needs nobody is done: of the house, and of one kind of work where it has its own. By the clock of the house,
// whatever summer time does to it. The moment is passed in.
import { z } from 'zod';
import { inHouse } from '../house-time.ts';
import { listed } from '../wording/amounts.ts';

export interface Span {
  fromMs: number;
  toMs: number;
}

const hour = z.number().int().min(0).max(23);
/** Days of the week, 0 is Sunday: those on which it begins. One that ends no later than it begins goes over midnight. */
export const hours = z.object({
  from: hour,
  to: hour,
  days: z
    .array(z.number().int().min(0).max(6))
    .min(1, 'Choose at least one day of the week. Nothing was saved.')
    .transform((days) => [...new Set(days)].sort((a, b) => a - b)),
});
export type Hours = z.infer<typeof hours>;

/** What happens by itself and may have hours of its own. */
export const NIGHT_WORKS = ['rules', 'aside', 'projects', 'read backs', 'backup', 'readings', 'check'] as const;
export type HourOf = (typeof NIGHT_WORKS)[number];

export const WORK_NAMES: Readonly<Record<HourOf, string>> = {
  rules: 'Rules for caches',
  aside: 'What is set aside',
  projects: 'Projects in work with their media',
  'read backs': 'Copies read back',
  backup: 'The catalogue’s own backup',
  readings: 'Volumes read again',
  check: 'Everything checked',
};

const EVERY_DAY = [0, 1, 2, 3, 4, 5, 6];
/** What a house goes by that has said nothing. */
export const USUAL_NIGHT: Hours = { from: 1, to: 5, days: EVERY_DAY };
/** What looks and changes nothing is done as soon as it is due, unless it has hours. */
const AT_ANY_TIME: readonly HourOf[] = ['readings', 'check'];

export const houseHours = z.object({
  night: hours.default(USUAL_NIGHT),
  own: z.partialRecord(z.enum(NIGHT_WORKS), hours).default({}),
});
export type HouseHours = z.infer<typeof houseHours>;
export const USUAL_HOURS: HouseHours = { night: USUAL_NIGHT, own: {} };

/** When it may be done; null: whenever it is due. */
export const hoursFor = ({ night, own }: HouseHours, work: HourOf): Hours | null =>
  own[work] ?? (AT_ANY_TIME.includes(work) ? null : night);

/** The span that begins so many days from another moment's; null where none begins on that day, or the clock skips all of it. */
function spanFrom({ from, to, days }: Hours, now: Date, inDays: number): Span | null {
  const at = inHouse(now);
  at.setDate(at.getDate() + inDays);
  if (!days.includes(at.getDay())) return null;
  // Where the clock skips that hour, the next there is.
  at.setHours(from, 0, 0, 0);
  const fromMs = at.getTime();
  const end = inHouse(now);
  end.setDate(end.getDate() + inDays + (to > from ? 0 : 1));
  end.setHours(to, 0, 0, 0);
  return end.getTime() > fromMs ? { fromMs, toMs: end.getTime() } : null;
}

/** So many days back and on there is one of every week, also where the clock skips one. */
const FAR = 15;

/** The span that is on, or the next one. */
export function spanOf(own: Hours, now: Date): Span {
  for (let days = -1; days <= FAR; days++) {
    const span = spanFrom(own, now, days);
    if (span && span.toMs > now.getTime()) return span;
  }
  throw new Error('There are no such hours.');
}

/** The last span that is over. */
export function spanBefore(own: Hours, now: Date): Span {
  for (let days = 0; days >= -FAR; days--) {
    const span = spanFrom(own, now, days);
    if (span && span.toMs <= now.getTime()) return span;
  }
  throw new Error('There are no such hours.');
}

/** When the last hours but one began: what was not done since is late by two. */
export const lateBefore = (own: Hours, now: Date): number =>
  spanBefore(own, new Date(spanBefore(own, now).fromMs)).fromMs;

export const isWithin = (own: Hours, now: Date): boolean => spanOf(own, now).fromMs <= now.getTime();

/** Whether it was done since then. What is told to have been done later than now was done by a clock that went wrong. */
export const wasSince = (lastMs: number, { sinceMs, now }: { sinceMs: number; now: number }): boolean =>
  lastMs >= sinceMs && lastMs <= now + 3_600_000;

const NAMES = ['Sunday', 'Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday'];
export const dayName = (day: number): string => NAMES[day]!;
/** As a week is written: it begins on Monday. */
export const WEEK = [1, 2, 3, 4, 5, 6, 0];

const isThese = (days: readonly number[], these: readonly number[]) =>
  days.length === these.length && these.every((day) => days.includes(day));

function daysWords(days: readonly number[]): string {
  if (days.length === 7) return 'each day';
  if (isThese(days, [1, 2, 3, 4, 5])) return 'Monday to Friday';
  return listed(WEEK.filter((day) => days.includes(day)).map(dayName));
}

const clock = (at: number): string => `${at}:00`;

/** 'each night, between 1:00 and 5:00'. */
export function hoursWords({ from, to, days }: Hours): string {
  const isNightly = days.length === 7 && (to <= from || to <= 9);
  const when = isNightly && from !== to ? 'each night' : daysWords(days);
  return from === to ? `${when}, from ${clock(from)} for a day` : `${when}, between ${clock(from)} and ${clock(to)}`;
}
