// From which carriers an archive is brought back: each part of it from the copy that was chosen, or from the best there is, and
// from others where that one turns out to be damaged.
import { grouped } from '#core/grouped.ts';
import { type CopyPart, copyPartsOf, type TrustedSums } from '../archives/copies.ts';
import { inArray } from 'drizzle-orm';
import type { Db } from '../db/connect.ts';
import { carriers } from '../db/schema/stores.ts';
import { reachedTogether } from '../stores/reach.ts';

/** A part of a copy that may be read from, and its lists once they were. */
export interface Source {
  part: CopyPart;
  sums: TrustedSums | null;
  /** Its lists do not read as they were sealed: nothing of it can be told from rot. */
  isDamaged: boolean;
}

interface Wanted {
  archiveId: number;
  copyId: number;
}

/**
 * What there is of each part, by its number: of the copy that was chosen first, then those that are there; at the end those that
 * are known to be damaged, as every file of them is proven by itself.
 */
export async function sourcesOf(
  db: Db,
  { archiveId, copyId }: Wanted,
  pathOf?: (carrierId: number) => string | null,
): Promise<Map<number, CopyPart[]>> {
  const all = await copyPartsOf(db, archiveId, pathOf);
  const there = await reachable(db, all);
  const worth = ({ state, copyId: own, carrierId }: CopyPart) =>
    (state === 'good' ? 4 : 0) + (own === copyId ? 2 : 0) + (there.has(carrierId) ? 1 : 0);
  const parts = grouped(all, (part) => part.partId);
  return new Map(
    [...parts].map(([id, own]) => [
      id,
      own
        .filter(({ state }) => state === 'good' || state === 'damaged')
        .sort((a, b) => worth(b) - worth(a) || a.copyPartId - b.copyPartId),
    ]),
  );
}

/** A part of it has no copy that is good. */
export const lacksGood = (sources: ReadonlyMap<number, readonly CopyPart[]>): boolean =>
  [...sources.values()].some((own) => !own.some((part) => part.state === 'good'));

async function reachable(db: Db, parts: readonly CopyPart[]): Promise<Set<number>> {
  const ids = [...new Set(parts.map((part) => part.carrierId))];
  if (ids.length === 0) return new Set();
  const rows = await db
    .select({ id: carriers.id, state: carriers.state })
    .from(carriers)
    .where(inArray(carriers.id, ids));
  return new Set(rows.filter((row) => row.state === 'reachable').map((row) => row.id));
}

/** The carriers that are read from: those that it takes, and others that the same worker reaches, should one be damaged. */
export async function carriersToRead(
  db: Db,
  { volumeId, ...wanted }: Wanted & { volumeId: number },
): Promise<{ needed: number[]; all: number[] }> {
  const sources = await sourcesOf(db, wanted);
  const firsts = [...sources.values()].flatMap(([first]) => (first ? [first.carrierId] : []));
  const needed = [...new Set(firsts)];
  const all = [...needed];
  for (const id of new Set([...sources.values()].flat().map((part) => part.carrierId)))
    if (!all.includes(id) && (await reachedTogether(db, { volumeIds: [volumeId], carrierIds: [...all, id] })))
      all.push(id);
  return { needed, all };
}
