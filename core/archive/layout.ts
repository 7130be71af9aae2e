// How copies of an archive lie on carriers: whole on one where it fits, over a numbered set of them where it does not. Parts
// are the same for every copy, so that the sums of one know them all: a new part begins wherever any copy goes on to its
// next carrier. Pure; the lens, the plan and the work ask the same function.

export interface Holder {
  carrierId: number;
  roomBytes: number;
}

/** One copy: its carriers in order, and which parts each holds. */
export interface CopyLayout {
  carriers: { carrierId: number; parts: number[] }[];
}

export interface Layout {
  /** For each file, in the order in which they were given, the number of its part, from 0. */
  partOf: number[];
  /** Bytes of files in each part. */
  partBytes: number[];
  copies: CopyLayout[];
}

/** What lists and documents written anew take in every part, and what each file takes beside its bytes. */
export interface Overhead {
  partBytes: number;
  fileBytes: number;
}

/** Room for lists and relinked documents, in every part. */
const LISTS_BYTES = 16_000_000;
/** What an entry has around it where the whole is one file, and its line in the index. */
const ENTRY_BYTES = 4_096;

export const overheadOf = (pack: string): Overhead => ({
  partBytes: LISTS_BYTES,
  fileBytes: pack === 'folder' ? 0 : ENTRY_BYTES,
});

/** In which order files are tried: as they lie, which keeps what belongs together in one part; or so that less is wasted. */
const TRIES = [asTheyLie, largestFirst] as const;

/**
 * Lays files on sets of carriers, one set a copy; null where one of the sets does not hold them.
 * @param sizes in bytes, in the order in which they are written
 */
export function layOn(
  sizes: readonly number[],
  sets: readonly (readonly Holder[])[],
  overhead: Overhead,
): Layout | null {
  const least = sizes.reduce((sum, own) => sum + own + overhead.fileBytes, overhead.partBytes);
  const room = (set: readonly Holder[]) => set.reduce((sum, one) => sum + one.roomBytes, 0);
  // Most carriers that are asked about are too small, and that is seen at once.
  if (sets.length === 0 || sets.some((set) => set.length === 0 || room(set) < least)) return null;
  for (const inOrder of TRIES) {
    const walk = new Walk(sizes, sets, overhead);
    if (inOrder(walk)) return walk.layout();
  }
  return null;
}

/** The parts so far, and where each copy stands. */
class Walk {
  readonly partOf: number[];
  private readonly partBytes: number[] = [];
  private readonly copies: { at: number; free: number; carriers: { carrierId: number; parts: number[] }[] }[];

  constructor(
    readonly sizes: readonly number[],
    private readonly sets: readonly (readonly Holder[])[],
    private readonly overhead: Overhead,
  ) {
    this.partOf = sizes.map(() => -1);
    this.copies = sets.map(() => ({ at: -1, free: -1, carriers: [] }));
  }

  /** A new part that takes this file; false where a copy has no carrier left that would. */
  begin(file: number): boolean {
    const part = this.partBytes.length;
    const needed = this.overhead.partBytes + this.weight(file);
    for (const [i, copy] of this.copies.entries()) {
      while (copy.free < needed) {
        const next = this.sets[i]![++copy.at];
        if (!next) return false;
        copy.free = next.roomBytes;
        if (copy.free >= needed) copy.carriers.push({ carrierId: next.carrierId, parts: [] });
      }
      copy.free -= this.overhead.partBytes;
      copy.carriers.at(-1)!.parts.push(part);
    }
    this.partBytes.push(0);
    return true;
  }

  /** Puts it into the part that is open; false where a copy has no room for it there. */
  add(file: number): boolean {
    const weight = this.weight(file);
    if (this.partBytes.length === 0 || this.copies.some((copy) => copy.free < weight)) return false;
    for (const copy of this.copies) copy.free -= weight;
    this.partOf[file] = this.partBytes.length - 1;
    this.partBytes[this.partBytes.length - 1]! += this.sizes[file]!;
    return true;
  }

  layout(): Layout {
    const { partOf, partBytes } = this;
    return { partOf, partBytes, copies: this.copies.map(({ carriers }) => ({ carriers })) };
  }

  private weight(file: number): number {
    return this.sizes[file]! + this.overhead.fileBytes;
  }
}

function asTheyLie(walk: Walk): boolean {
  return walk.sizes.every((_, file) => walk.add(file) || (walk.begin(file) && walk.add(file)));
}

/** The largest that still fits goes next, so that small ones fill what large ones leave. */
function largestFirst(walk: Walk): boolean {
  let waiting = walk.sizes.map((_, file) => file).sort((a, b) => walk.sizes[b]! - walk.sizes[a]! || a - b);
  while (waiting.length > 0) {
    if (!walk.begin(waiting[0]!)) return false;
    waiting = waiting.filter((file) => !walk.add(file));
  }
  return true;
}

export interface Sets {
  sets: Holder[][];
  /** Carriers that hold no copy, alone or with the others that were left. */
  unused: Holder[];
}

/** Which of the chosen carriers make a copy each: whole ones first, then the fewest that hold one together. */
export function copySets(sizes: readonly number[], carriers: readonly Holder[], overhead: Overhead): Sets {
  const holds = (set: readonly Holder[]) => layOn(sizes, [set], overhead) !== null;
  const sets: Holder[][] = carriers.filter((one) => holds([one])).map((one) => [one]);
  let left = carriers.filter((one) => !holds([one])).sort((a, b) => b.roomBytes - a.roomBytes);
  for (let set: Holder[] = []; left.length > 0;) {
    set = [...set, left.shift()!];
    const together = [...sets, set];
    if (set.length > 1 && layOn(sizes, together, overhead) !== null) {
      // The last of them may be smaller: what was left over holds the rest as well.
      const last = [...left].reverse().find((one) => layOn(sizes, [...sets, [...set.slice(0, -1), one]], overhead));
      if (last) {
        left = [set.at(-1)!, ...left.filter((one) => one !== last)].sort((a, b) => b.roomBytes - a.roomBytes);
        set = [...set.slice(0, -1), last];
      }
      sets.push(set);
      set = [];
    } else if (left.length === 0) return { sets, unused: set };
  }
  return { sets, unused: [] };
}

/** Carriers that are offered: so many copies, in so many places, each on the carrier on which least is left over. */
export function proposeCarriers(
  sizes: readonly number[],
  carriers: readonly (Holder & { place: string })[],
  { copies, places, overhead }: { copies: number; places: number; overhead: Overhead },
): number[] {
  const left = carriers.filter((one) => one.roomBytes > 0).sort((a, b) => a.roomBytes - b.roomBytes);
  const chosen: number[] = [];
  const used = new Set<string>();
  const take = (one: (typeof left)[number]) => {
    chosen.push(one.carrierId);
    used.add(one.place.trim().toLowerCase());
    left.splice(left.indexOf(one), 1);
  };
  for (let i = 0; i < copies; i++) {
    const whole = left.filter((one) => layOn(sizes, [[one]], overhead));
    const apart = whole.filter((one) => !used.has(one.place.trim().toLowerCase()));
    const best = (used.size < places ? apart[0] : undefined) ?? whole[0];
    if (best) take(best);
    else {
      const { sets } = copySets(sizes, left, overhead);
      const [set] = sets.sort((a, b) => a.length - b.length);
      if (!set) break;
      for (const { carrierId } of set) take(left.find((one) => one.carrierId === carrierId)!);
    }
  }
  return chosen;
}
