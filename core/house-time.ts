// Days and hours as the house has them. One process or page serves one house: its time zone is said once, where it begins, and
// again where the house changes it. What goes into files and machines stays in UTC.
import { TZDate, tzOffset } from '@date-fns/tz';

const DAY_MS = 86_400_000;

/** The clock of the machine: what a house has that has said nothing. */
export const machineZone = (): string => Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC';

let zone = machineZone();

/** Whether there is such a time zone, by its name in the IANA time zone database. */
export function isZone(name: string): boolean {
  try {
    return /^[A-Za-z]/.test(name) && new Intl.DateTimeFormat('en', { timeZone: name }).format(0) !== '';
  } catch {
    return false;
  }
}

/** @param name as in the IANA time zone database; nothing, or what is none: the clock of the machine */
export function setHouseZone(name: string | null): void {
  zone = name !== null && isZone(name) ? name : machineZone();
}

export const houseZone = (): string => zone;

/** A moment whose hours and days are the house's. */
export const inHouse = (at: Date | number): TZDate => new TZDate(+at, zone);

const offsetMs = (ms: number): number => tzOffset(zone, new Date(ms)) * 60_000;

/** Whole days since 1 January 1970 on the calendar of the house. */
export const houseDay = (ms: number): number => Math.floor((ms + offsetMs(ms)) / DAY_MS);

/** The day of a moment in the house, as 2026-11-30. */
export const isoDay = (ms: number): string => new Date(ms + offsetMs(ms)).toISOString().slice(0, 10);

/** The hour, minute and second of a moment in the house, as 14:03:22. */
export const houseClock = (ms: number): string => new Date(ms + offsetMs(ms)).toISOString().slice(11, 19);

const WEEKDAYS = ['Sunday', 'Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday'];

/** What a clock in some zone shows: 'Sunday, 14:03'. Not by the words of the browser: the server has to say the same. */
export function clockIn(name: string, ms: number): string {
  const at = new Date(ms + tzOffset(name, new Date(ms)) * 60_000);
  return `${WEEKDAYS[at.getUTCDay()]!}, ${at.toISOString().slice(11, 16)}`;
}

/** When a day of the house begins, from 2026-11-30: at midnight, or where the clock skips that, right after. Invalid for what is no day. */
export function startOfDay(iso: string): Date {
  const [, year, month, date] = /^(\d{4})-(\d\d)-(\d\d)$/.exec(iso) ?? [];
  const utc = Date.UTC(Number(year), Number(month) - 1, Number(date));
  if (Number.isNaN(utc) || new Date(utc).toISOString().slice(0, 10) !== iso) return new Date(NaN);
  return new Date(+new TZDate(Number(year), Number(month) - 1, Number(date), zone));
}

/** When the day after the one begins that a moment is in. */
export function dayAfter(at: Date): Date {
  return startOfDay(new Date((houseDay(at.getTime()) + 1) * DAY_MS).toISOString().slice(0, 10));
}

/** How the house's clock goes beside UTC at a moment: 'UTC', 'UTC+1', 'UTC−3:30'. */
export function offsetWords(ms: number): string {
  const minutes = Math.round(offsetMs(ms) / 60_000);
  if (minutes === 0) return 'UTC';
  const [hours, rest] = [Math.floor(Math.abs(minutes) / 60), Math.abs(minutes) % 60];
  return `UTC${minutes < 0 ? '−' : '+'}${hours}${rest === 0 ? '' : `:${String(rest).padStart(2, '0')}`}`;
}
