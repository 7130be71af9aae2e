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

/** In words what is short: "1 of 2 copies", "in 1 of 2 places"; null where nothing is. `copies`: the places of each good one. */
export function copiesShort(copies: readonly (readonly string[])[], rule: CopiesRule): string | null {
  if (copies.length < rule.copies) return `${count(copies.length)} of ${count(rule.copies)} copies`;
  const apart = copiesApart(copies);
  return apart < rule.places ? `in ${count(apart)} of ${count(rule.places)} places` : null;
}

/** How many of them share no place: a copy over two places is lost with either. */
function copiesApart(copies: readonly (readonly string[])[]): number {
  const [first, ...rest] = copies;
  if (!first) return 0;
  const own = new Set(first.map(placeKey));
  const apart = rest.filter((places) => !places.some((place) => own.has(placeKey(place))));
  // Either it counts, with those that are apart from it, or it does not.
  return Math.max(1 + copiesApart(apart), apart.length === rest.length ? 0 : copiesApart(rest));
}

/** The good copy that is here soonest: what is in reach before what somebody has to fetch. */
export function soonest<Copy extends { state: string; isThere: boolean; waitSeconds: number }>(
  copies: readonly Copy[],
): Copy | null {
  const good = copies.filter((copy) => copy.state === 'good');
  const [first] = good.sort((a, b) => Number(b.isThere) - Number(a.isThere) || a.waitSeconds - b.waitSeconds);
  return first ?? null;
}

const placeKey = (place: string): string => place.trim().toLowerCase();

/** Since when all of these that are good are proven: null where one never was; undefined where none is good. */
export function provenMs(copies: readonly { state: string; readBackMs: number | null }[]): number | null | undefined {
  const good = copies.filter((copy) => copy.state === 'good');
  if (good.length === 0) return undefined;
  return good.some((copy) => copy.readBackMs === null) ? null : Math.min(...good.map((copy) => copy.readBackMs!));
}
