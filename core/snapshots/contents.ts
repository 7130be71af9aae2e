// What the timelines of a document take of its media, as it was at a moment, so that two moments can be compared part by part when
// the one is long gone.
import { type DocumentModel, fit, MEDIA_NAME_LETTERS } from '../documents/model.ts';

/** A part of media: which, by its place in the list; from when, and how long, in milliseconds of its own time. 0 is the whole of it. */
export type PartOf = [media: number, from: number, lasts: number];

export interface Contents {
  media: string[];
  timelines: { name: string; parts: PartOf[] }[];
}

const MOST_PARTS = 20_000;

/** Each part once a timeline, as picture and sound of a clip are one; null of a document with more than can be kept of each snapshot. */
export function contentsOf({ media, timelines }: DocumentModel): Contents | null {
  const places = new Map<number, number>();
  const names: string[] = [];
  // As the catalogue has the names that a document gives: both moments call the same media the same.
  const byKey = new Map(media.map((one) => [one.key, fit(one.name, MEDIA_NAME_LETTERS)]));
  const placeOf = (key: number): number => {
    const known = places.get(key);
    if (known !== undefined) return known;
    places.set(key, names.length);
    return names.push(byKey.get(key) ?? '') - 1;
  };
  let left = MOST_PARTS;
  const own = timelines.map(({ name, uses }) => {
    const parts = new Map<string, PartOf>();
    for (const { media: key, range, rate } of uses) {
      const part: PartOf = [placeOf(key), ...milliseconds(range.start, range.duration, rate)];
      parts.set(part.join(), part);
    }
    left -= parts.size;
    return { name, parts: [...parts.values()] };
  });
  return left < 0 ? null : { media: names, timelines: own };
}

export const milliseconds = (
  start: number,
  duration: number,
  { num, den }: { num: number; den: number },
): [number, number] => [Math.round((start * den * 1000) / num), Math.round((duration * den * 1000) / num)];

export interface Part {
  from: number;
  lasts: number;
}

/** What became of one part of media between two moments: null where it was not there yet, or is not any more. */
export interface PartChange {
  media: string;
  then: Part | null;
  now: Part | null;
}

export interface TimelineChange {
  name: string;
  is: 'new' | 'gone' | 'same' | 'changed';
  /** Parts that it has at both moments, as they are. */
  kept: number;
  changes: PartChange[];
}

/**
 * Timelines by their names, in the order of now, those that are gone last; in each its media by name. A part of other length or place in
 * the same media is told as that part, changed, in the order in which they begin.
 */
export function compared(then: Contents, now: Contents): TimelineChange[] {
  const [was, is] = [byTimeline(then), byTimeline(now)];
  return [...new Set([...is.keys(), ...was.keys()])].map((name) => {
    const [before, after] = [was.get(name), is.get(name)];
    const changes: PartChange[] = [];
    let kept = 0;
    for (const media of new Set([...(after?.keys() ?? []), ...(before?.keys() ?? [])])) {
      const found = changesOf(before?.get(media) ?? [], after?.get(media) ?? []);
      kept += found.kept;
      changes.push(...found.changes.map((change) => ({ media, ...change })));
    }
    return { name, is: !before ? 'new' : !after ? 'gone' : changes.length > 0 ? 'changed' : 'same', kept, changes };
  });
}

/** Timelines of one name go together. */
function byTimeline({ media, timelines }: Contents): Map<string, Map<string, Part[]>> {
  const found = new Map<string, Map<string, Part[]>>();
  for (const { name, parts } of timelines) {
    const own = found.get(name) ?? new Map<string, Part[]>();
    found.set(name, own);
    for (const [at, from, lasts] of parts) own.set(media[at]!, [...(own.get(media[at]!) ?? []), { from, lasts }]);
  }
  return found;
}

function changesOf(was: readonly Part[], is: readonly Part[]): { kept: number; changes: Omit<PartChange, 'media'>[] } {
  const key = ({ from, lasts }: Part) => `${from} ${lasts}`;
  const same = new Set(was.map(key));
  const both = new Set(is.map(key).filter((one) => same.has(one)));
  const rest = (side: readonly Part[]) =>
    side.filter((part) => !both.has(key(part))).sort((a, b) => a.from - b.from || a.lasts - b.lasts);
  const [gone, come] = [rest(was), rest(is)];
  const changes = Array.from({ length: Math.max(gone.length, come.length) }, (_, i) => ({
    then: gone[i] ?? null,
    now: come[i] ?? null,
  }));
  return { kept: both.size, changes };
}
