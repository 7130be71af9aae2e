// Nights by the clock of the house, whatever summer time does to their length. The moment is passed in.
import { inHouse } from '../house-time.ts';
import { listed } from '../wording/amounts.ts';
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

/** A library of drives that several carriers are taken into. */
export interface Drives {
  library: string;
  drives: number;
  carriers: readonly string[];
}

/** What needs the same volume or carrier at the same time of one night: one waits until the other has ended. By the key of each, with what both need. */
export function conflicts(works: readonly Meeting[], drives: readonly Drives[] = []): Map<string, string[]> {
  const found = new Map<string, string[]>();
  const due = works.filter((work) => work.isDue);
  const tell = ({ key }: Meeting, words: string) => found.set(key, [...(found.get(key) ?? []), words]);
  for (const one of due)
    for (const other of due) {
      if (one === other || !overlap(one, other)) continue;
      const shared = one.needs.filter((need) => other.needs.includes(need));
      if (shared.length > 0) tell(one, `${other.name} needs ${shared[0]!} too`);
    }
  // Other tapes, and not enough drives for all of them at once.
  for (const { library, drives: many, carriers } of drives) {
    const asking = due.filter((work) => work.needs.some((need) => carriers.includes(need)));
    for (const one of asking) {
      const others = asking.filter((other) => other !== one && overlap(one, other));
      const tapes = new Set([one, ...others].flatMap(({ needs }) => needs.filter((need) => carriers.includes(need))));
      const isShared = others.every((other) => other.needs.some((need) => one.needs.includes(need)));
      if (tapes.size > many && !isShared)
        tell(
          one,
          `${listed(others.map(({ name }) => name))} ${others.length === 1 ? 'needs' : 'need'} ${many === 1 ? 'the one drive' : `the ${many} drives`} of ${library} too`,
        );
    }
  }
  return found;
}

const overlap = (one: Meeting, other: Meeting): boolean =>
  one.span.fromMs < other.span.toMs && other.span.fromMs < one.span.toMs;
