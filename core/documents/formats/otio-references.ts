// Which reference of an OTIO document uses what of its media, by the place where it is written: whoever points a document at
// parts of files asks here, so that each reference leads to the part that holds what is shown by it.
import { hull } from '../../reach/scope.ts';
import { coverInRate, type FrameRange, type Rate } from '../../time/rates.ts';
import type { DocumentModel } from '../model.ts';
import { parseLoosely } from './json.ts';
import { isObject, Reader, Trouble } from './otio.ts';

export interface WrittenReference {
  /** From the first frame to the last that the asked timelines use by it; null where none does. */
  used: { range: FrameRange; rate: Rate } | null;
  /** The same of all timelines. */
  usedByAll: { range: FrameRange; rate: Rate } | null;
  /** All of it is used, and nobody knows how long that is. */
  isWhole: boolean;
}

/** A path through a document as one text. */
export const placeKey = (path: readonly (string | number)[]): string => path.join('\0');

/**
 * Of a document that was read before: its references by the places they are written at (see placeKey).
 * @param timelines names of those that are asked for; none: all
 */
export function referencesOf(text: string, timelines: readonly string[] = []): Map<string, WrittenReference> {
  const parsed = parseLoosely(text);
  if ('trouble' in parsed) return new Map();
  const reader = new Reader(parsed.value);
  try {
    const byNumber = usedBy(reader.read(), timelines);
    return placed(parsed.value, (object) => {
      const number = reader.numbers.get(object);
      return number === undefined ? null : (byNumber.get(number) ?? NOT_USED);
    });
  } catch (error) {
    if (error instanceof Trouble) return new Map();
    throw error;
  }
}

const NOT_USED: WrittenReference = { used: null, usedByAll: null, isWhole: false };

function usedBy(model: DocumentModel, names: readonly string[]): Map<number, WrittenReference> {
  const found = new Map<number, WrittenReference>();
  for (const timeline of model.timelines)
    for (const { media, range, rate, reference } of timeline.uses) {
      if (reference === undefined) continue;
      const known = found.get(reference) ?? { ...NOT_USED };
      found.set(reference, known);
      const isAsked = names.length === 0 || names.includes(timeline.name);
      if (range.duration === 0) {
        known.isWhole ||= isAsked;
        continue;
      }
      const own = known.usedByAll?.rate ?? model.media[media]?.available?.rate ?? rate;
      const more = coverInRate(range, rate, own);
      known.usedByAll = { range: hull(known.usedByAll?.range, more), rate: own };
      if (isAsked) known.used = { range: hull(known.used?.range, more), rate: own };
    }
  return found;
}

interface Inside {
  value: unknown;
  key: string;
  around: Inside | null;
}

/** Every object of a document that `told` knows something of, by its place. */
function placed(root: unknown, told: (object: Record<string, unknown>) => WrittenReference | null) {
  const found = new Map<string, WrittenReference>();
  const open: Inside[] = [{ value: root, key: '', around: null }];
  for (let one = open.pop(); one !== undefined; one = open.pop()) {
    const { value } = one;
    if (typeof value !== 'object' || value === null) continue;
    const own = isObject(value) ? told(value) : null;
    if (own) found.set(placeKey(pathOf(one)), own);
    for (const [key, inner] of Object.entries(value))
      if (typeof inner === 'object' && inner !== null) open.push({ value: inner, key, around: one });
  }
  return found;
}

function pathOf(one: Inside): string[] {
  const path: string[] = [];
  for (let at: Inside | null = one; at?.around; at = at.around) path.unshift(at.key);
  return path;
}
