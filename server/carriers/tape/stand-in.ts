// A stand-in for a tape library: slots, drives and a robot, and tapes that are files of records with two partitions. It keeps
// a clock of its own, of how long a real one would have wound and loaded, and can be given the faults that they have.
import { existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { type FileHandle, open } from 'node:fs/promises';
import type { IncomingMessage, ServerResponse } from 'node:http';
import path from 'node:path';
import { BLOCK_BYTES, DATA_PARTITION, type Partition } from '#core/archive/ltfs.ts';
import { seekSeconds, type TapeGeometry } from '#core/archive/tape-order.ts';
import { bodyOf, type CommonFaults, type StandIn, startStandIn } from '../stand-in.ts';
import { type Appending, type Chip, type Inventory, MARK, pack, type TapeTrouble, unpack } from './library.ts';

export interface LibraryFaults extends CommonFaults {
  /** One bit of this block of the data partition of this tape reads back turned round. */
  flipped: { barcode: string; block: number } | null;
  /** This block cannot be read, in any drive. */
  unreadable: { barcode: string; block: number } | null;
  /** This drive reads nothing; it says that of the tape. */
  dirtyDrive: number | null;
  /** This drive does nothing any more. */
  failedDrive: number | null;
  /** Another tape with the same label is where this one was. */
  swapped: string | null;
  /** This tape was taken out. */
  taken: string | null;
}

export interface LibraryStandIn extends StandIn<LibraryFaults> {
  /** Seconds that a real library would have taken for loading, winding, reading and writing. */
  clock(): { seconds: number; loads: number; seeks: number };
}

export interface LibraryOptions {
  folder: string;
  slots: number;
  drives: number;
  /** Tapes that are put in where the folder is new. */
  barcodes: readonly string[];
  tapeBytes: number;
  port?: number;
}

const LOAD_SECONDS = 20;
/** From here on only indexes are written. */
const NEAR_END = 0.03;
const LET_GO_AFTER_MS = 90_000;

export async function startLibrary(options: LibraryOptions): Promise<LibraryStandIn> {
  const library = new Library(options);
  await library.open();
  const standIn = await startStandIn<LibraryFaults>(
    library.faults,
    (request, response) => library.answer(request, response),
    options.port,
  );
  return {
    ...standIn,
    clock: () => ({ ...library.clock }),
    stop: async () => {
      await standIn.stop();
      await library.close();
    },
  };
}

class Refusal extends Error {
  constructor(
    readonly trouble: TapeTrouble['code'],
    readonly drive: number | null = null,
  ) {
    super(trouble);
  }
}

interface State {
  barcode: string;
  slot: number | null;
  drive: number | null;
  chip: Chip;
  owner: string | null;
}

class Library {
  readonly faults: LibraryFaults = {
    ...{ away: false, awayAfter: null, slowMs: 0, full: false },
    ...{ flipped: null, unreadable: null, dirtyDrive: null, failedDrive: null, swapped: null, taken: null },
  };
  readonly clock = { seconds: 0, loads: 0, seeks: 0 };
  private readonly tapes = new Map<string, Tape>();
  /** Who needs a tape where it is, and until when it is believed. */
  private readonly users = new Map<string, Map<string, number>>();
  private readonly usedAt = new Map<string, number>();
  /** One call after the other, as one robot and one cable would have it. */
  private turn: Promise<unknown> = Promise.resolve();

  constructor(private readonly options: LibraryOptions) {}

  async open(): Promise<void> {
    const { folder, barcodes, tapeBytes } = this.options;
    mkdirSync(folder, { recursive: true });
    for (const [i, barcode] of barcodes.entries())
      if (!existsSync(path.join(folder, `${barcode}.json`))) {
        const chip = { volume: null, totalBytes: tapeBytes, remainingBytes: tapeBytes, mounts: 0, begun: 0 };
        const state: State = { barcode, slot: i + 1, drive: null, chip, owner: null };
        writeFileSync(path.join(folder, `${barcode}.json`), JSON.stringify(state));
      }
    for (const name of readdirSync(folder))
      if (name.endsWith('.json')) {
        const tape = await Tape.open(folder, JSON.parse(readFileSync(path.join(folder, name), 'utf8')) as State);
        this.tapes.set(tape.state.barcode, tape);
      }
  }

  async close(): Promise<void> {
    for (const tape of this.tapes.values()) await tape.close();
  }

  async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const body = await bodyOf(request);
    const own = this.turn.then(() => this.call(new URL(request.url!, 'http://library'), body));
    this.turn = own.catch(() => undefined);
    try {
      const answer = await own;
      response.end(Buffer.isBuffer(answer) ? answer : JSON.stringify(answer));
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      response.writeHead(409).end(JSON.stringify({ trouble: error.trouble, drive: error.drive }));
    }
  }

  private async call(url: URL, body: Buffer): Promise<object | Buffer> {
    const [, first, barcode, ...rest] = url.pathname.split('/');
    if (first === 'inventory') return this.inventory();
    const tape = this.tape(barcode ?? '');
    const said = () => JSON.parse(body.toString('utf8')) as { user: string; owner: string; not: number | null };
    if (rest.length === 1)
      switch (rest[0]) {
        case 'take':
          return { drive: this.take(tape, said()), end: tape.on(DATA_PARTITION).blocks };
        case 'let-go':
          this.users.get(tape.state.barcode)?.delete(said().user);
          return {};
        case 'reserve':
          tape.state.owner = said().owner;
          tape.save();
          return {};
      }
    const [partition, what] = rest as [Partition, string];
    const drive = this.driveOf(tape);
    // Whoever uses it still needs it.
    const users = this.users.get(tape.state.barcode);
    for (const user of users?.keys() ?? []) users!.set(user, Date.now() + LET_GO_AFTER_MS);
    switch (what) {
      case 'end':
        return { block: tape.on(partition).blocks };
      case 'after-mark':
        return { block: tape.on(partition).afterMark(Number(url.searchParams.get('from'))) };
      case 'records':
        return this.read(tape, { partition, drive, from: numberIn(url, 'from'), most: numberIn(url, 'most') });
      case 'append':
        return this.append(tape, partition, {
          ...(JSON.parse(url.searchParams.get('said')!) as Pick<Appending, 'at' | 'owner' | 'chip'>),
          body,
        });
      default:
        throw new Refusal('absent');
    }
  }

  private inventory(): Inventory {
    const { slots, drives, tapeBytes } = this.options;
    return {
      slots,
      drives: Array.from({ length: drives }, (_, drive) => ({ drive, failed: this.faults.failedDrive === drive })),
      cartridges: [...this.tapes.values()]
        .filter(({ state }) => state.barcode !== this.faults.taken)
        .map(({ state: { barcode, slot, drive, chip } }) => ({
          ...{ barcode, slot, drive },
          chip: barcode === this.faults.swapped ? { ...chip, volume: 'of another tape' } : chip,
        })),
      geometry: geometryOf(tapeBytes),
    };
  }

  private tape(barcode: string): Tape {
    const tape = this.tapes.get(barcode);
    if (!tape || this.faults.taken === barcode) throw new Refusal('absent');
    return tape;
  }

  private usersOf(barcode: string): number {
    const own = this.users.get(barcode);
    for (const [user, until] of own ?? []) if (until < Date.now()) own!.delete(user);
    return own?.size ?? 0;
  }

  /** Into a drive, where it is in none: an empty one, or the one that was used longest ago and nobody needs. */
  private take(tape: Tape, { user, not }: { user: string; not: number | null }): number {
    const { barcode } = tape.state;
    const works = (drive: number) => drive !== not && drive !== this.faults.failedDrive;
    if (tape.state.drive === null || !works(tape.state.drive)) {
      const inDrives = new Map(
        [...this.tapes.values()].flatMap((one) => (one.state.drive === null ? [] : [[one.state.drive, one]])),
      );
      const all = Array.from({ length: this.options.drives }, (_, drive) => drive).filter(works);
      if (all.length === 0) throw new Refusal('drive', not);
      const idle = all
        .filter((drive) => !inDrives.has(drive) || this.usersOf(inDrives.get(drive)!.state.barcode) === 0)
        .sort((a, b) => this.lastUse(inDrives.get(a)) - this.lastUse(inDrives.get(b)));
      if (idle.length === 0) throw new Refusal('busy');
      const [drive] = idle;
      const before = inDrives.get(drive!);
      if (before) this.unload(before);
      if (tape.state.drive !== null) this.unload(tape);
      tape.state.slot = null;
      tape.state.drive = drive!;
      tape.state.chip.mounts++;
      tape.head = { partition: DATA_PARTITION, block: 0 };
      this.clock.loads++;
      this.clock.seconds += LOAD_SECONDS;
      tape.save();
    }
    const users = this.users.get(barcode) ?? new Map<string, number>();
    this.users.set(barcode, users.set(user, Date.now() + LET_GO_AFTER_MS));
    this.usedAt.set(barcode, Date.now());
    return tape.state.drive!;
  }

  private readonly lastUse = (tape: Tape | undefined) => (tape ? (this.usedAt.get(tape.state.barcode) ?? 1) : 0);

  private unload(tape: Tape): void {
    const taken = new Set([...this.tapes.values()].map((one) => one.state.slot));
    tape.state.slot = Array.from({ length: this.options.slots }, (_, i) => i + 1).find((slot) => !taken.has(slot))!;
    tape.state.drive = null;
    this.clock.seconds += LOAD_SECONDS;
    tape.save();
  }

  private driveOf(tape: Tape): number {
    const { drive } = tape.state;
    if (drive === null) throw new Refusal('absent');
    if (drive === this.faults.failedDrive) throw new Refusal('drive', drive);
    return drive;
  }

  private async read(
    tape: Tape,
    { partition, drive, from, most }: { partition: Partition; drive: number; from: number; most: number },
  ): Promise<Buffer> {
    const { barcode } = tape.state;
    const { dirtyDrive, unreadable, flipped } = this.faults;
    if (drive === dirtyDrive) throw new Refusal('medium', drive);
    const records = await tape.on(partition).read(from, most);
    this.wind(tape, partition, {
      from,
      bytes: records.reduce((sum, one) => sum + (one === MARK ? 0 : one.length), 0),
      to: from + records.length,
    });
    for (const [i, record] of records.entries()) {
      const isAt = (one: { barcode: string; block: number } | null) =>
        one?.barcode === barcode && one.block === from + i && partition === DATA_PARTITION;
      if (isAt(unreadable)) throw new Refusal('medium', drive);
      if (isAt(flipped) && record !== MARK) record[0]! ^= 1;
    }
    return pack(records);
  }

  private async append(
    tape: Tape,
    partition: Partition,
    { at, owner, chip, body }: Pick<Appending, 'at' | 'owner' | 'chip'> & { body: Buffer },
  ): Promise<{ block: number; nearEnd: boolean }> {
    const place = tape.on(partition);
    if (tape.state.owner !== owner) throw new Refusal('reserved');
    if (partition === DATA_PARTITION ? at !== place.blocks : at > place.blocks) throw new Refusal('moved');
    const { chip: own } = tape.state;
    if (this.faults.full || (partition === DATA_PARTITION && body.length > own.remainingBytes))
      throw new Refusal('full');
    await place.write(at, unpack(body));
    this.wind(tape, partition, { from: at, bytes: body.length, to: place.blocks });
    Object.assign(own, chip);
    own.remainingBytes = own.totalBytes - tape.on(DATA_PARTITION).bytes;
    tape.save();
    return { block: place.blocks, nearEnd: own.remainingBytes < own.totalBytes * NEAR_END };
  }

  private wind(
    tape: Tape,
    partition: Partition,
    { from, bytes, to }: { from: number; bytes: number; to: number },
  ): void {
    const geometry = geometryOf(this.options.tapeBytes);
    // Over a filemark it only runs on.
    const ahead = from - tape.head.block;
    if (ahead < 0 || ahead > 2 || tape.head.partition !== partition) {
      this.clock.seeks++;
      this.clock.seconds += seekSeconds(geometry, tape.head.block, from);
    }
    this.clock.seconds += bytes / geometry.bytesASecond;
    tape.head = { partition, block: to };
  }
}

const numberIn = (url: URL, name: string) => Number(url.searchParams.get(name));

/** Eight wraps, whatever it holds. */
const geometryOf = (bytes: number): TapeGeometry => ({
  ...{ blocksAWrap: Math.max(1, Math.ceil(bytes / BLOCK_BYTES / 8)), lengthSeconds: 90, moveSeconds: 2 },
  ...{ bytesASecond: 300e6, blockBytes: BLOCK_BYTES },
});

/** A cartridge: what its label and its chip say, and its two partitions. */
class Tape {
  head: { partition: Partition; block: number } = { partition: DATA_PARTITION, block: 0 };
  private constructor(
    readonly state: State,
    private readonly folder: string,
    private readonly partitions: Record<Partition, Records>,
  ) {}

  static async open(folder: string, state: State): Promise<Tape> {
    const records = (partition: Partition) => Records.open(path.join(folder, `${state.barcode}.${partition}`));
    return new Tape(state, folder, { a: await records('a'), b: await records('b') });
  }

  on(partition: Partition): Records {
    return this.partitions[partition];
  }

  save(): void {
    writeFileSync(path.join(this.folder, `${this.state.barcode}.json`), JSON.stringify(this.state));
  }

  async close(): Promise<void> {
    await this.partitions.a.close();
    await this.partitions.b.close();
  }
}

const MARK_LENGTH = 0xff_ff_ff_ff;
const ZEROS = Buffer.alloc(BLOCK_BYTES);

/** Blocks and filemarks one after the other; what is written ends the partition. */
class Records {
  private constructor(
    private readonly file: FileHandle,
    /** Where each begins, and after the last. */
    private readonly starts: number[],
    private readonly marks: number[],
  ) {}

  static async open(place: string): Promise<Records> {
    const file = await open(place, existsSync(place) ? 'r+' : 'w+');
    const { size } = await file.stat();
    const [starts, marks]: [number[], number[]] = [[0], []];
    const head = Buffer.alloc(4);
    for (let at = 0; at + 4 <= size;) {
      await file.read(head, 0, 4, at);
      const length = head.readUInt32LE();
      at += 4 + (length === MARK_LENGTH ? 0 : length);
      // What was being written when the stand-in was stopped is not there.
      if (at > size) break;
      if (length === MARK_LENGTH) marks.push(starts.length - 1);
      starts.push(at);
    }
    return new Records(file, starts, marks);
  }

  get blocks(): number {
    return this.starts.length - 1;
  }

  get bytes(): number {
    return this.starts.at(-1)!;
  }

  afterMark(from: number): number | null {
    let [low, high] = [0, this.marks.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if (this.marks[middle]! < from) low = middle + 1;
      else high = middle;
    }
    return low === this.marks.length ? null : this.marks[low]! + 1;
  }

  async read(from: number, most: number): Promise<(Buffer | typeof MARK)[]> {
    const end = Math.min(from + most, this.blocks, (this.afterMark(from) ?? Infinity) - 1);
    if (end <= from) return [];
    const [at, length] = [this.starts[from]!, this.starts[end]! - this.starts[from]!];
    const bytes = Buffer.alloc(length);
    await this.file.read(bytes, 0, length, at);
    return unpack(bytes);
  }

  async write(at: number, records: readonly (Buffer | typeof MARK)[]): Promise<void> {
    this.starts.length = at + 1;
    while (this.marks.length > 0 && this.marks.at(-1)! >= at) this.marks.pop();
    const from = this.starts[at]!;
    await this.file.truncate(from);
    let end = from;
    for (const record of records) {
      if (record === MARK) this.marks.push(this.starts.length - 1);
      // A block of zeros stays a hole behind its length.
      const isHole = record !== MARK && record.compare(ZEROS, 0, record.length) === 0;
      const bytes = isHole ? pack([record]).subarray(0, 4) : pack([record]);
      await this.file.write(bytes, 0, bytes.length, end);
      this.starts.push((end += 4 + (record === MARK ? 0 : record.length)));
    }
    await this.file.truncate(end);
  }

  close(): Promise<void> {
    return this.file.close();
  }
}
