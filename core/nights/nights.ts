// Nights by the clock of the house, whatever summer time does to their length. The moment is passed in.
import { inHouse } from '../house-time.ts';

/** Hours of the clock in which what needs nobody is done. */
export const NIGHT_HOURS = { from: 1, to: 5 };
/** From then on what happens belongs to the next morning's page. */
const EVENING_HOUR = 18;

export interface Span {
  fromMs: number;
  toMs: number;
}

/** At an hour of the day that is so many days after another's. Where the clock skips that hour, the next there is. */
function atHour(now: Date, days: number, hour: number): Date {
  const at = inHouse(now);
  at.setDate(at.getDate() + days);
  at.setHours(hour, 0, 0, 0);
  return at;
}

export const isNight = (now: Date): boolean =>
  inHouse(now).getHours() >= NIGHT_HOURS.from && inHouse(now).getHours() < NIGHT_HOURS.to;

/** What a morning's page tells of: since the evening before, until now. */
export const sinceEvening = (now: Date): Span => ({
  fromMs: atHour(now, -1, EVENING_HOUR).getTime(),
  toMs: now.getTime(),
});

/** The night that is on, or the next one. */
export function tonight(now: Date): Span {
  const days = inHouse(now).getHours() < NIGHT_HOURS.to ? 0 : 1;
  return {
    fromMs: atHour(now, days, NIGHT_HOURS.from).getTime(),
    toMs: atHour(now, days, NIGHT_HOURS.to).getTime(),
  };
}

/** What needs the same volume or carrier in one night: one waits until the other has ended. By the key of each, with what both need. */
export function conflicts(
  works: readonly { key: string; name: string; needs: readonly string[]; isDue: boolean }[],
): Map<string, string[]> {
  const found = new Map<string, string[]>();
  const due = works.filter((work) => work.isDue);
  for (const one of due)
    for (const other of due) {
      if (one === other) continue;
      const shared = one.needs.filter((need) => other.needs.includes(need));
      if (shared.length > 0)
        found.set(one.key, [...(found.get(one.key) ?? []), `${other.name} needs ${shared[0]!} too`]);
    }
  return found;
}
