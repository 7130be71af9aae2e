// How many copies of an archive the house wants, in how many places, and what is short of that.
import { z } from 'zod';
import { count } from '../wording/amounts.ts';

export interface CopiesRule {
  copies: number;
  /** Places that are apart: what burns or floods takes all of one place. */
  places: number;
}

/** One copy is none when its carrier fails. */
export const USUAL_COPIES: CopiesRule = { copies: 2, places: 1 };

export const MOST_COPIES = 8;
export const wantedCopies = z.number().int().min(1).max(MOST_COPIES);

/** In words what is short: "1 of 2 copies", "in 1 of 2 places"; null where nothing is. `places` of the good copies. */
export function copiesShort(places: readonly string[], rule: CopiesRule): string | null {
  const apart = new Set(places.map((place) => place.trim().toLowerCase())).size;
  if (places.length < rule.copies) return `${count(places.length)} of ${count(rule.copies)} copies`;
  return apart < rule.places ? `in ${count(apart)} of ${count(rule.places)} places` : null;
}
