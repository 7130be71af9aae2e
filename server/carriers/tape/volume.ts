// A tape with a file system of its own (ISO/IEC 20919) as far as archives need it: an index of what lies where, files that
// are added at the end, and indexes that are written after them. After every file an incremental index says what was added;
// a whole one is written where something gets its name, first behind the data and then in the index partition, so that one
// of both is always whole.
import { randomUUID } from 'node:crypto';
import {
  applyChange,
  BLOCK_BYTES,
  changeText,
  DATA_PARTITION,
  INDEX_PARTITION,
  indexText,
  labelText,
  NoLtfs,
  parseIndex,
  parseLabel,
  type TapeChange,
  type TapeFile,
  type TapeIndex,
  volumeLabel,
} from '#core/archive/ltfs.ts';
import { CarrierAway, PackGone } from '../kind.ts';
import { type Chip, MARK, type TapeLibrary, type TapeRecord, TapeTrouble } from './library.ts';

/** Behind the labels: a volume label, a filemark, the label of the file system, a filemark. */
const FIRST_INDEX = 4;
const MOST_RECORDS = 1 << 20;

/** What is known of a tape, in this thread, and how far its data partition was looked through for it. */
interface Known {
  index: TapeIndex;
  /** Behind the last index that was read; and the end of the partition then. */
  scanned: number;
  end: number;
}
type ChipSaid = Partial<Pick<Chip, 'begun' | 'volume'>> | undefined;
type About = Pick<TapeIndex, 'volume' | 'generation' | 'at' | 'before'> & { ms: number };
interface NewIndex {
  text: string;
  /** What the chip says from then on. */
  chip: ChipSaid;
  /** The index as it is once this one is there. */
  then: () => TapeIndex;
}

const all = new Map<string, Known>();
const KEPT = 8;

export class TapeVolume {
  constructor(
    readonly library: TapeLibrary,
    private readonly barcode: string,
    private readonly volume: string,
    private readonly byOthers = false,
  ) {}

  /** The index as it is now. */
  async index(): Promise<TapeIndex> {
    return this.inDrive(async () => (await this.known()).index);
  }

  /** Bytes of its blocks; those of a tape of ours are known, others say theirs on the label. */
  async blockBytes(): Promise<number> {
    if (!this.byOthers) return BLOCK_BYTES;
    this.block ??= this.inDrive(async () => {
      const label = await labelOf(this.library);
      // What is read by a guess would be other bytes.
      if (label?.volume !== this.volume) throw new CarrierAway(this.barcode);
      return label.blockBytes;
    });
    try {
      return await this.block;
    } catch (error) {
      this.block = null;
      throw error;
    }
  }
  private block: Promise<number> | null = null;

  /** Keeps the tape in a drive meanwhile. */
  async inDrive<T>(use: () => Promise<T>): Promise<T> {
    const release = await this.hold();
    try {
      return await use();
    } catch (error) {
      throw this.meaning(error);
    } finally {
      await release();
    }
  }

  /** Has the tape in a drive until it is released: once for all that hold it at the same time. */
  async hold(): Promise<() => Promise<void>> {
    const user = randomUUID();
    this.holders++;
    this.taken ??= this.library.take(user, null).then(({ end }) => {
      this.end = end;
      return user;
    });
    const own = this.taken;
    try {
      await own;
    } catch (error) {
      this.holders--;
      if (this.taken === own) this.taken = null;
      throw this.meaning(error);
    }
    return async () => {
      if (--this.holders > 0) return;
      this.taken = null;
      await this.library.letGo(await own).catch(() => undefined);
    };
  }
  private holders = 0;
  private taken: Promise<string> | null = null;
  /** Where the data ended when it was last heard of. */
  private end = 0;

  /** Data at the end; gives the block where it begins. */
  async add(records: readonly Uint8Array[], owner: string): Promise<number> {
    const known = await this.known();
    this.refuseOthers(known);
    for (let at = known.end; ;)
      try {
        const { block, nearEnd } = await this.library.append({ partition: DATA_PARTITION, at, records, owner });
        if (known.end === at) known.end = block;
        this.end = block;
        if (nearEnd) throw new TapeTrouble('full');
        return at;
      } catch (error) {
        if (!(error instanceof TapeTrouble) || error.code !== 'moved') throw error;
        at = this.end = await this.library.end(DATA_PARTITION);
      }
  }

  /** Says what was added or taken out: what that costs does not grow with what is there. */
  async note(change: TapeChange, owner: string, chip?: ChipSaid): Promise<void> {
    await this.append(owner, ({ index }, about) => {
      const read = {
        index: { ...about, files: new Map(change.files), empty: new Set(change.empty) },
        gone: change.gone,
      };
      return { text: changeText(about, change), chip, then: () => (applyChange(index, read), index) };
    });
  }

  /** Writes the whole index anew, with what `change` makes of it; then once more in the index partition. */
  async rewrite(change: (index: TapeIndex) => ChipSaid, owner: string): Promise<void> {
    const index = await this.append(owner, ({ index: before }, about) => {
      const next = { ...about, files: new Map(before.files), empty: new Set(before.empty) };
      const chip = change(next);
      return { text: indexText(next, about.ms), chip, then: () => next };
    });
    const again = { ...index, at: { partition: INDEX_PARTITION, block: FIRST_INDEX + 1 }, before: index.at } as const;
    const records = construct(indexText(again, Date.now()));
    await this.library.append({ partition: INDEX_PARTITION, at: FIRST_INDEX, records, owner });
  }

  /** An index behind the data; what is known changes once it is there. Made anew where something else came first. */
  private async append(owner: string, make: (known: Known, about: About) => NewIndex): Promise<TapeIndex> {
    for (;;) {
      const known = await this.known();
      this.refuseOthers(known);
      const { index, end } = known;
      const { text, chip, then } = make(known, {
        ...{ volume: this.volume, generation: index.generation + 1, before: index.at, ms: Date.now() },
        at: { partition: DATA_PARTITION, block: end + 1 },
      });
      try {
        const records = construct(text);
        const { block } = await this.library.append({ partition: DATA_PARTITION, at: end, records, owner, chip });
        const next = then();
        all.set(this.key, { index: next, scanned: block, end: block });
        this.end = block;
        return next;
      } catch (error) {
        if (!(error instanceof TapeTrouble) || error.code !== 'moved') throw error;
        this.end = await this.library.end(DATA_PARTITION);
      }
    }
  }

  /** What others wrote is read, and never written on: their files may lie where our indexes would. */
  private refuseOthers({ index }: Known): void {
    if (this.byOthers || index.byOthers)
      throw Object.assign(new Error(`${this.barcode} was written by others, and is only read.`), { code: 'EROFS' });
  }

  /** Reads what was written since. */
  private async known(): Promise<Known> {
    let known = all.get(this.key);
    // Somebody else in this thread has heard more by now.
    if (known && known.end > this.end) this.end = await this.library.end(DATA_PARTITION);
    const { end } = this;
    if (!known || known.end > end) known = await this.load();
    if (known.end !== end)
      for (let from: number | null = known.scanned; from !== null;) {
        known.scanned = from;
        const begin: number | null = await this.library.afterMark(DATA_PARTITION, from);
        if (begin === null) break;
        apply(known.index, await this.textAt(DATA_PARTITION, begin));
        from = await this.library.afterMark(DATA_PARTITION, begin);
      }
    known.end = end;
    all.delete(this.key);
    all.set(this.key, known);
    for (const oldest of all.keys()) {
      if (all.size <= KEPT) break;
      all.delete(oldest);
    }
    return known;
  }

  /** From the index partition; where what is there was broken off, everything is looked for behind the data. */
  private async load(): Promise<Known> {
    const nothing = { partition: DATA_PARTITION, block: 0 } as const;
    const empty: TapeIndex = {
      ...{ volume: this.volume, generation: 0, at: nothing, before: null, files: new Map(), empty: new Set<string>() },
    };
    try {
      const { index } = parseIndex(await this.textAt(INDEX_PARTITION, await this.lastIndex()));
      if (index.volume !== this.volume) throw new CarrierAway(this.barcode);
      if (index.before?.partition !== DATA_PARTITION) throw new NoLtfs('it says of no index behind the data');
      const scanned = (await this.library.afterMark(DATA_PARTITION, index.before.block)) ?? FIRST_INDEX;
      return { index: { ...index, at: index.before }, scanned, end: 0 };
    } catch (error) {
      if (!(error instanceof NoLtfs)) throw error;
      return { index: empty, scanned: FIRST_INDEX, end: 0 };
    }
  }

  /** Ours are always the first; others keep files and earlier ones before the last. */
  private async lastIndex(): Promise<number> {
    if (!this.byOthers) return FIRST_INDEX + 1;
    let last = FIRST_INDEX + 1;
    for (let from: number | null = FIRST_INDEX; from !== null;) {
      const begin: number | null = await this.library.afterMark(INDEX_PARTITION, from);
      if (begin === null) break;
      from = await this.library.afterMark(INDEX_PARTITION, begin);
      if (from !== null) last = begin;
    }
    return last;
  }

  private async textAt(partition: 'a' | 'b', block: number): Promise<string> {
    return Buffer.concat(await this.library.read(partition, block, MOST_RECORDS)).toString('utf8');
  }

  private get key(): string {
    return `${this.barcode} ${this.volume}`;
  }

  /** What the library says, in the words of every carrier. */
  private meaning(error: unknown): Error {
    if (!(error instanceof TapeTrouble)) return error as Error;
    if (error.code === 'reserved') return new PackGone();
    if (error.code === 'full') return Object.assign(new Error(`${this.barcode} is full.`), { code: 'ENOSPC' });
    return new CarrierAway(this.barcode);
  }
}

function apply(index: TapeIndex, text: string): void {
  const read = parseIndex(text);
  if (read.isWhole) Object.assign(index, read.index);
  else applyChange(index, read);
}

const inBlocks = (text: string): Uint8Array[] => {
  const bytes = Buffer.from(text, 'utf8');
  const blocks: Uint8Array[] = [];
  for (let at = 0; at < bytes.length; at += BLOCK_BYTES) blocks.push(bytes.subarray(at, at + BLOCK_BYTES));
  return blocks;
};

/** An index between two filemarks. */
const construct = (text: string): TapeRecord[] => [MARK, ...inBlocks(text), MARK];

/** The label of the file system, of a tape in a drive; null where it has none that can be read. */
async function labelOf(library: TapeLibrary): Promise<ReturnType<typeof parseLabel> | null> {
  const begin = await library.afterMark(DATA_PARTITION, 0);
  if (begin === null) return null;
  try {
    return parseLabel(Buffer.concat(await library.read(DATA_PARTITION, begin, MOST_RECORDS)).toString('utf8'));
  } catch (error) {
    if (error instanceof NoLtfs) return null;
    throw error;
  }
}

/** What is on a tape, by its label: nothing at all, a file system that somebody made, or something else. Nothing is written. */
export async function whatIsOn(
  library: TapeLibrary,
): Promise<{ is: 'blank' } | { is: 'something' } | { is: 'volume'; volume: string; isOwn: boolean }> {
  const user = randomUUID();
  await library.take(user, null);
  try {
    if ((await library.end(DATA_PARTITION)) === 0 && (await library.end(INDEX_PARTITION)) === 0) return { is: 'blank' };
    const label = await labelOf(library);
    return label ? { is: 'volume', volume: label.volume, isOwn: label.isOwn } : { is: 'something' };
  } finally {
    await library.letGo(user).catch(() => undefined);
  }
}

/** Writes the labels and an empty index on a tape that nothing was ever written on. */
export async function format(library: TapeLibrary, barcode: string): Promise<string> {
  const [volume, owner, user] = [randomUUID(), randomUUID(), randomUUID()];
  await library.take(user, null);
  try {
    await library.reserve(owner);
    for (const partition of [INDEX_PARTITION, DATA_PARTITION] as const) {
      const label = Buffer.from(labelText({ volume, partition, ms: Date.now() }));
      await library.append({ partition, at: 0, records: [volumeLabel(barcode), MARK, label, MARK], owner });
    }
    const own: TapeIndex = {
      ...{ volume, generation: 1, before: null, files: new Map<string, TapeFile>(), empty: new Set<string>() },
      at: { partition: DATA_PARTITION, block: FIRST_INDEX + 1 },
    };
    const data = construct(indexText(own, Date.now()));
    await library.append({ partition: DATA_PARTITION, at: FIRST_INDEX, records: data, owner });
    const first = { ...own, at: { partition: INDEX_PARTITION, block: FIRST_INDEX + 1 }, before: own.at } as const;
    const records = construct(indexText(first, Date.now()));
    await library.append({ partition: INDEX_PARTITION, at: FIRST_INDEX, records, owner, chip: { volume, begun: 0 } });
    return volume;
  } finally {
    await library.letGo(user).catch(() => undefined);
  }
}
