// From which carriers what an archive holds is read: each part of it from the copy that was chosen, or from the best there is,
// and from others where that one turns out to be damaged. Asked by the steps that restore and copy.
import { PAYLOAD } from '#core/fixity/bagit.ts';
import { grouped } from '#core/grouped.ts';
import {
  CopyDamaged,
  type CopyPart,
  copyPartsOf,
  markDamaged,
  type TrustedSums,
  trustedSums,
  withCarrier,
} from '../archives/copies.ts';
import { untilReady } from '../archives/thaw.ts';
import { CarrierAway } from '../carriers/kind.ts';
import { isSequential } from '../carriers/kinds.ts';
import type { JobContext } from '../runtime/context.ts';
import type { Db } from '../db/connect.ts';
import { reachedTogether } from '../stores/reach.ts';

export interface Wanted {
  archiveId: number;
  copyId: number;
  /** Only these parts of it; else all. */
  partIds?: readonly number[] | null;
}

/**
 * What there is of each part, by its number: of the copy that was chosen first, then those that are there, the soonest first; at the end those that
 * are known to be damaged, as every file of them is proven by itself.
 */
export async function sourcesOf(
  db: Db,
  { archiveId, copyId, partIds }: Wanted,
  pathOf?: (carrierId: number) => string | null,
): Promise<Map<number, CopyPart[]>> {
  const all = await copyPartsOf(db, archiveId, pathOf);
  const worth = ({ state, copyId: own, carrierState }: CopyPart) =>
    (state === 'good' ? 4 : 0) + (own === copyId ? 2 : 0) + (carrierState === 'reachable' ? 1 : 0);
  const parts = grouped(
    all.filter((part) => !partIds || partIds.includes(part.partId)),
    (part) => part.partId,
  );
  return new Map(
    [...parts].map(([id, own]) => [
      id,
      own
        .filter(({ state }) => state === 'good' || state === 'damaged')
        .sort((a, b) => worth(b) - worth(a) || a.waitSeconds - b.waitSeconds || a.copyPartId - b.copyPartId),
    ]),
  );
}

/** A part of it has no copy that is good. */
export const lacksGood = (sources: ReadonlyMap<number, readonly CopyPart[]>): boolean =>
  [...sources.values()].some((own) => !own.some((part) => part.state === 'good'));

/** The carriers that are read from: those that it takes, and others that the same worker reaches, should one be damaged. */
export async function carriersToRead(
  db: Db,
  { with: beside, ...wanted }: Wanted & { with: { volumeIds: readonly number[]; carrierIds: readonly number[] } },
): Promise<{ needed: number[]; all: number[] }> {
  const sources = await sourcesOf(db, wanted);
  const firsts = [...sources.values()].flatMap(([first]) => (first ? [first.carrierId] : []));
  const needed = [...new Set(firsts)];
  const all = [...needed];
  for (const id of new Set([...sources.values()].flat().map((part) => part.carrierId)))
    if (
      !all.includes(id) &&
      (await reachedTogether(db, { ...beside, carrierIds: [...new Set([...beside.carrierIds, ...all, id])] }))
    )
      all.push(id);
  return { needed, all };
}

/** A part of a copy that may be read from, and its lists once they were. */
interface Source {
  part: CopyPart;
  sums: TrustedSums | null;
  /** Its lists do not read as they were sealed: nothing of it can be told from rot. */
  isDamaged: boolean;
}

const MOST_TOLD = 100;

/** What is read from, with what was found damaged on the way written down. */
export class PartSources {
  /** Copies that turned out to be damaged, in words; not more than a receipt is read for, and the catalogue has all. */
  readonly damages: string[] = [];
  private readonly sources: Map<number, Source[]>;

  private constructor(
    private readonly context: JobContext,
    known: ReadonlyMap<number, readonly CopyPart[]>,
    private readonly needed: (at: string) => boolean,
  ) {
    this.sources = new Map(
      [...known].map(([id, parts]) => [id, parts.map((part): Source => ({ part, sums: null, isDamaged: false }))]),
    );
  }

  /**
   * Only of carriers that nobody writes to meanwhile; `isHeld` says of which that is known. `only` are the files that are
   * needed, by where they lie; others are not waited for.
   */
  static async open(
    context: JobContext,
    { only, ...wanted }: Wanted & { only?: ReadonlySet<string> | null },
    isHeld: (part: CopyPart) => boolean,
  ): Promise<PartSources> {
    const known = await sourcesOf(context.db, wanted, (id) => context.carrierPath(id));
    const needed = (at: string) => !only || !at.startsWith(`${PAYLOAD}/`) || only.has(at);
    return new PartSources(context, new Map([...known].map(([id, parts]) => [id, parts.filter(isHeld)])), needed);
  }

  /** What is read first lies on a carrier that is wound: one file after the other. */
  get isWound(): boolean {
    return [...this.sources.values()].some(([first]) => first && isSequential(first.part.place));
  }

  get partIds(): number[] {
    return [...this.sources.keys()];
  }

  /** The carriers that were read from. */
  get used(): string[] {
    const own = [...this.sources.values()].flat().filter((source) => source.sums !== null);
    return [...new Set(own.map((source) => source.part.carrier))];
  }

  /** From where a part may be read, the best first: what is there, with lists as they were sealed. Throws CarrierAway where none is there. */
  async *of(partId: number): AsyncGenerator<{ part: CopyPart; sums: TrustedSums }, void> {
    let away: CarrierAway | null = null;
    let found = false;
    for (const source of this.sources.get(partId) ?? []) {
      if (source.isDamaged) continue;
      const { part } = source;
      try {
        if (!source.sums) await untilReady(this.context, part, this.needed);
        source.sums ??= await withCarrier(part, (carrier) => trustedSums(this.context.db, carrier, part));
      } catch (error) {
        if (error instanceof CarrierAway) away ??= new CarrierAway(part.carrier);
        else if (error instanceof CopyDamaged) {
          source.isDamaged = true;
          await this.noteDamage(part, error.message);
        } else throw error;
        continue;
      }
      found = true;
      yield { part, sums: source.sums };
    }
    if (!found && away !== null) throw away;
  }

  /** Writes down that a copy is damaged, and in which of its files. */
  async noteDamage(part: CopyPart, detail: string, fileId: number | null = null): Promise<void> {
    if (this.damages.length < MOST_TOLD) this.damages.push(`${detail} on ${part.carrier}`);
    await this.context.transaction((tx) => markDamaged(tx, part, fileId === null ? [] : [fileId], this.context.now()));
  }
}
