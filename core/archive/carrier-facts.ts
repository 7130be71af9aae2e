// What a carrier tells of itself beyond its size: as its kind saw it at the last look.
import type { TapeGeometry } from './tape-order.ts';

export interface CarrierFacts {
  /** Where it is just now, in words: a slot, a drive. */
  where?: string;
  /** How often it was taken into a drive. */
  passes?: number;
  /** How it is wound. */
  geometry?: TapeGeometry;
}
