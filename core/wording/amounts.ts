// Amounts in words: sizes, ages, rates, durations, counts. The one place where a number becomes a text.

import { houseClock, houseZone, offsetWords } from '../house-time.ts';

// Made once: making one takes a hundred times as long as using it, and a page tells hundreds of figures and days.
const WHOLE = new Intl.NumberFormat('en-GB');
const daysIn = new Map<string, Intl.DateTimeFormat>();

function days(timeZone: string): Intl.DateTimeFormat {
  const known = daysIn.get(timeZone);
  if (known) return known;
  const made = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric', timeZone });
  daysIn.set(timeZone, made);
  return made;
}

const SIZE_UNITS = ['B', 'kB', 'MB', 'GB', 'TB', 'PB', 'EB'] as const;

/** Decimal sizes with three significant digits: 1 TB = 10^12 bytes. */
export function size(bytes: number): string {
  const sign = bytes < 0 ? '−' : '';
  let value = Math.abs(bytes);
  let unit = 0;
  // 999.5 of a unit would print as 1000: it is 1.00 of the next.
  while (value >= (unit === 0 ? 1000 : 999.5) && unit < SIZE_UNITS.length - 1) {
    value /= 1000;
    unit++;
  }
  const digits = unit === 0 ? 0 : value < 9.995 ? 2 : value < 99.95 ? 1 : 0;
  return `${sign}${value.toFixed(digits)} ${SIZE_UNITS[unit]}`;
}

/** Whole numbers with thin grouping: 133,617. */
export const count = (n: number): string => WHOLE.format(Math.round(n));

/** '1 file', '3 files', 'no files'. */
export function counted(n: number, one: string, many = `${one}s`): string {
  return n === 0 ? `no ${many}` : `${count(n)} ${n === 1 ? one : many}`;
}

const DAY_MS = 86_400_000;

/** How long ago, in words: 'just now', '12 minutes ago', '41 days ago'. Both in ms since 1970. */
export function ago(thenMs: number, nowMs: number): string {
  const ms = nowMs - thenMs;
  if (ms < -60_000) return 'in the future';
  if (ms < 60_000) return 'just now';
  return `${span(ms)} ago`;
}

/** A span in its largest fitting unit: '12 minutes', '5 hours', '41 days', '2 years'. */
export function span(ms: number): string {
  const minutes = Math.floor(ms / 60_000);
  if (minutes < 60) return counted(Math.max(minutes, 1), 'minute');
  if (minutes < 48 * 60) return counted(Math.floor(minutes / 60), 'hour');
  const days = Math.floor(ms / DAY_MS);
  if (days < 730) return counted(days, 'day');
  return counted(Math.floor(days / 365), 'year');
}

/** Time left or taken: '9 s', '14 min', '2 h 10 min', '3 d 4 h'. */
export function duration(seconds: number): string {
  const s = Math.max(0, Math.ceil(seconds));
  if (s < 90) return `${s} s`;
  const minutes = Math.round(s / 60);
  if (minutes < 60) return `${minutes} min`;
  const hours = Math.floor(minutes / 60);
  if (hours < 48) return minutes % 60 === 0 ? `${hours} h` : `${hours} h ${minutes % 60} min`;
  return `${Math.floor(hours / 24)} d ${hours % 24} h`;
}

/** A moment of media in its own time, from milliseconds: "10:00:02.040". */
export function mediaTime(ms: number): string {
  const [sign, whole] = [ms < 0 ? '-' : '', Math.abs(Math.round(ms))];
  const two = (n: number) => String(Math.floor(n)).padStart(2, '0');
  const [hours, minutes, seconds] = [whole / 3_600_000, (whole / 60_000) % 60, (whole / 1000) % 60];
  return `${sign}${two(hours)}:${two(minutes)}:${two(seconds)}.${String(whole % 1000).padStart(3, '0')}`;
}

/** Bytes a second. */
export const rate = (bytesPerSecond: number): string => `${size(bytesPerSecond)}/s`;

/** A day of the house as '25 Nov 2026'. */
export const day = (ms: number): string => days(houseZone()).format(ms);

const CALENDAR = days('UTC');

/** A day by its number, in whole days since 1970, as '25 Nov 2026'. */
export const calendarDay = (number: number): string => CALENDAR.format(number * DAY_MS);

/** The exact time by the house's clock, for the pointer resting on an age: '25 Nov 2026, 14:03:22 UTC+1'. */
export const exactTime = (ms: number): string => `${day(ms)}, ${houseClock(ms)} ${offsetWords(ms)}`;

/** The time of the day by the house's clock: '14:03'. */
export const timeOfDay = (ms: number): string => houseClock(ms).slice(0, 5);

/** Whole days since 1970 in UTC of a modified time in microseconds: the age key of every rollup. */
export const dayOfUs = (us: number): number => Math.floor(us / 86_400_000_000);

/** How full something is, in whole per cent, never rounded up: 99 % full has room, 100 % has none. */
export function percentFull(usedBytes: number, capacityBytes: number): number {
  return capacityBytes > 0 ? Math.floor((usedBytes / capacityBytes) * 100) : 0;
}

/** Small numbers in words for sentences: 'two', 'twelve', then digits. */
export function inWords(n: number): string {
  const words = [
    'no',
    'one',
    'two',
    'three',
    'four',
    'five',
    'six',
    'seven',
    'eight',
    'nine',
    'ten',
    'eleven',
    'twelve',
  ];
  return words[n] ?? count(n);
}

export const capital = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);

/** 'a', 'a and b', 'a, b and c'. */
export function listed(parts: readonly string[]): string {
  if (parts.length <= 1) return parts[0] ?? '';
  return `${parts.slice(0, -1).join(', ')} and ${parts.at(-1)}`;
}
