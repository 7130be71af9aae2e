// What a carrier tells of itself beyond its size: as its kind saw it at the last look.
import type { TapeGeometry } from './tape-order.ts';

/** Who has more folders at the top of one disk types the name of what is taken in. */
export const MOST_TOP = 200;

export interface CarrierFacts {
  /** Where it is just now, in words: a slot, a drive. */
  where?: string;
  /** How often it was taken into a drive. */
  passes?: number;
  /** Folders, tars and zips at its top that can be seen without bringing it up, by name; at most MOST_TOP. */
  top?: string[];
  /** How it is wound. */
  geometry?: TapeGeometry;
  /** What it shares drives with, by a name of that, and how many drives that has. */
  sharing?: { drivesOf: string; drives: number };
}
