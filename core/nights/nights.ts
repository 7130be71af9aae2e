// Nights by the clock of the house, whatever summer time does to their length. The moment is passed in.
import { inHouse } from '../house-time.ts';
import type { Span } from './hours.ts';

/** From then on what happens belongs to the next morning's page. */
const EVENING_HOUR = 18;

/** At an hour of the day that is so many days after another's. Where the clock skips that hour, the next there is. */
function atHour(now: Date, days: number, hour: number): Date {
  const at = inHouse(now);
  at.setDate(at.getDate() + days);
  at.setHours(hour, 0, 0, 0);
  return at;
}

/** What a morning's page tells of: since the evening before, until now. */
export const sinceEvening = (now: Date): Span => ({
  fromMs: atHour(now, -1, EVENING_HOUR).getTime(),
  toMs: now.getTime(),
});

/** The noon that a night comes after. */
export const noonBefore = (ms: number): number => {
  const at = inHouse(ms);
  return atHour(new Date(ms), at.getHours() < 12 ? -1 : 0, 12).getTime();
};

interface Meeting {
  key: string;
  name: string;
  needs: readonly string[];
  isDue: boolean;
  /** The hours that it has. */
  span: Span;
}

/** What needs the same volume or carrier at the same time of one night: one waits until the other has ended. By the key of each, with what both need. */
export function conflicts(works: readonly Meeting[]): Map<string, string[]> {
  const found = new Map<string, string[]>();
  const due = works.filter((work) => work.isDue);
  for (const one of due)
    for (const other of due) {
      if (one === other || one.span.fromMs >= other.span.toMs || other.span.fromMs >= one.span.toMs) continue;
      const shared = one.needs.filter((need) => other.needs.includes(need));
      if (shared.length > 0)
        found.set(one.key, [...(found.get(one.key) ?? []), `${other.name} needs ${shared[0]!} too`]);
    }
  return found;
}
