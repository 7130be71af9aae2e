// A sequence of stills as a range of numbers, never as a list of names: a scan can have a million of them. Used by readers
// of documents, and by whoever looks which of them are there.

export interface Stills {
  /** As the document writes it, with its slash; '' beside the document. */
  folder: string;
  prefix: string;
  suffix: string;
  /** Number of the first still. */
  first: number;
  step: number;
  /** Digits that numbers are filled up to with zeros. */
  padding: number;
  /** How many; null where the document does not say: whatever is there from the first on. */
  count: number | null;
}

/** Stands for the number of a still in a target, so that the target's place can be read once for all of them. */
const NUMBER = '\uE000';

const numbered = (stills: Pick<Stills, 'padding'>, number: number): string =>
  (number < 0 ? '-' : '') + String(Math.abs(number)).padStart(stills.padding, '0');

/** Still `ord` of a sequence, as the document would write it. */
export const stillTarget = (stills: Stills, ord: number): string =>
  `${stills.folder}${stills.prefix}${numbered(stills, stills.first + ord * stills.step)}${stills.suffix}`;

/** A target that stands for all of them. */
export const patternOf = (stills: Stills): string => `${stills.folder}${stills.prefix}${NUMBER}${stills.suffix}`;

/**
 * The number of a still by its name; null where the name does not fit.
 * @param pattern the name of `patternOf`, as it was read from its target
 */
export function stillNumber(stills: Pick<Stills, 'padding'>, pattern: string, name: string): number | null {
  const at = pattern.indexOf(NUMBER);
  if (at < 0) return null;
  const [prefix, suffix] = [pattern.slice(0, at), pattern.slice(at + 1)];
  if (!name.startsWith(prefix) || !name.endsWith(suffix) || name.length <= prefix.length + suffix.length) return null;
  const digits = name.slice(prefix.length, name.length - suffix.length);
  if (!/^-?\d{1,15}$/.test(digits)) return null;
  const number = Number(digits);
  return numbered(stills, number) === digits ? number : null;
}

/** Which still of the sequence has a number, counted from 0; null where none has. */
export function stillOrd({ first, step, count }: Stills, number: number): number | null {
  const ord = (number - first) / step;
  return ord >= 0 && Number.isInteger(ord) && (count === null || ord < count) ? ord : null;
}
