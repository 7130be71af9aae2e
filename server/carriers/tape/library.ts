// A tape library as the carrier sees it: cartridges in slots and drives, a robot between them, and drives that read and write
// records. What a library says of itself comes in its own words; nothing here knows what an archive is.
import type { Partition } from '#core/archive/ltfs.ts';
import type { TapeGeometry } from '#core/archive/tape-order.ts';
import { CarrierAway } from '../kind.ts';

/** What the chip in a cartridge says: it can be read without winding the tape. */
export interface Chip {
  /** The volume that was written on it; null for one that was never written. */
  volume: string | null;
  totalBytes: number;
  remainingBytes: number;
  /** How often it was taken into a drive. */
  mounts: number;
  /** Packs on it that have no name yet, as whoever wrote it last said. */
  begun: number;
}

export interface Cartridge {
  barcode: string;
  /** Where it is: a slot or a drive, by its number. */
  slot: number | null;
  drive: number | null;
  chip: Chip;
}

export interface Inventory {
  slots: number;
  drives: { drive: number; failed: boolean }[];
  cartridges: Cartridge[];
  geometry: TapeGeometry;
}

export const MARK = 'mark';
/** A block of bytes, or a filemark. */
export type TapeRecord = Uint8Array | typeof MARK;

/** What a library answers where it does not do what it was asked. */
export class TapeTrouble extends Error {
  constructor(
    /** `medium`: this block cannot be read in this drive; `drive`: the drive failed; `moved`: there is more on it by now. */
    readonly code: 'medium' | 'drive' | 'moved' | 'reserved' | 'full' | 'busy' | 'absent' | 'blank',
    readonly drive: number | null = null,
  ) {
    super(`The library says: ${code}.`);
  }
}

export interface Appending {
  partition: Partition;
  /** Only if this is where the partition ends; in the index partition, from there on. */
  at: number;
  records: readonly TapeRecord[];
  /** Who has reserved the tape. */
  owner: string;
  /** What the chip says from then on. */
  chip?: Partial<Pick<Chip, 'begun' | 'volume'>>;
}

/** Where a library is driven from. What fails in the way there says nothing of a tape: CarrierAway. */
export class TapeLibrary {
  constructor(
    private readonly address: string,
    private readonly barcode: string,
  ) {}

  inventory(): Promise<Inventory> {
    return this.json('GET', '/inventory');
  }

  /** Has it in a drive, and keeps it there until it is let go; waits for a drive. `not`: in another than this. Says where its data ends. */
  async take(user: string, not: number | null): Promise<{ drive: number; end: number }> {
    const end = Date.now() + WAIT_FOR_DRIVE_MS;
    for (;;)
      try {
        return await this.json('POST', `/tapes/${this.barcode}/take`, { user, not });
      } catch (error) {
        if (!(error instanceof TapeTrouble) || error.code !== 'busy') throw error;
        if (Date.now() > end) throw new CarrierAway(`${this.barcode}, for which no drive became free,`);
        await new Promise((resolve) => setTimeout(resolve, 100));
      }
  }

  letGo(user: string): Promise<void> {
    return this.json('POST', `/tapes/${this.barcode}/let-go`, { user });
  }

  /** Nobody else writes on it from here on, until another reserves it. */
  reserve(owner: string): Promise<void> {
    return this.json('POST', `/tapes/${this.barcode}/reserve`, { owner });
  }

  /** The number of the block behind the last. */
  async end(partition: Partition): Promise<number> {
    return (await this.json<{ block: number }>('GET', `/tapes/${this.barcode}/${partition}/end`)).block;
  }

  /** The block behind the next filemark; null where there is none. */
  async afterMark(partition: Partition, from: number): Promise<number | null> {
    return (
      await this.json<{ block: number | null }>('GET', `/tapes/${this.barcode}/${partition}/after-mark?from=${from}`)
    ).block;
  }

  /** Records from a block on, up to a filemark. */
  async read(partition: Partition, from: number, most: number): Promise<Buffer[]> {
    const url = `/tapes/${this.barcode}/${partition}/records?from=${from}&most=${most}`;
    return unpack(await this.bytes('GET', url)).filter((record) => record !== MARK) as Buffer[];
  }

  /** All of it or nothing. Gives the block behind the last, and whether there is room for little more than indexes. */
  async append({ partition, at, records, owner, chip }: Appending): Promise<{ block: number; nearEnd: boolean }> {
    const said = encodeURIComponent(JSON.stringify({ at, owner, chip }));
    const answer = await this.bytes('POST', `/tapes/${this.barcode}/${partition}/append?said=${said}`, pack(records));
    return JSON.parse(answer.toString('utf8')) as { block: number; nearEnd: boolean };
  }

  private async json<T>(method: string, path: string, body?: object): Promise<T> {
    const answer = await this.bytes(method, path, body && Buffer.from(JSON.stringify(body)));
    return JSON.parse(answer.toString('utf8')) as T;
  }

  private async bytes(method: string, path: string, body?: Uint8Array): Promise<Buffer> {
    let response: Response;
    let content: Buffer;
    try {
      const signal = AbortSignal.timeout(ANSWER_MS);
      response = await fetch(this.address + path, { method, body: body as BodyInit | undefined, signal });
      content = Buffer.from(await response.arrayBuffer());
    } catch {
      throw new CarrierAway(`${this.barcode} in the library at ${this.address}`);
    }
    if (response.ok) return content;
    const said = readTrouble(content);
    throw said
      ? new TapeTrouble(said.code, said.drive)
      : new CarrierAway(`${this.barcode} in the library at ${this.address}`);
  }
}

const ANSWER_MS = 120_000;
const WAIT_FOR_DRIVE_MS = 120_000;

function readTrouble(content: Buffer): { code: TapeTrouble['code']; drive: number | null } | null {
  try {
    const said = JSON.parse(content.toString('utf8')) as { trouble?: TapeTrouble['code']; drive?: number };
    return said.trouble ? { code: said.trouble, drive: said.drive ?? null } : null;
  } catch {
    return null;
  }
}

const MARK_LENGTH = 0xff_ff_ff_ff;

/** Each with its length before it; a filemark is a length that no block has. */
export function pack(records: readonly TapeRecord[]): Buffer {
  const parts: Uint8Array[] = [];
  for (const record of records) {
    const head = Buffer.alloc(4);
    head.writeUInt32LE(record === MARK ? MARK_LENGTH : record.length);
    parts.push(head);
    if (record !== MARK) parts.push(record);
  }
  return Buffer.concat(parts);
}

export function unpack(bytes: Buffer): (Buffer | typeof MARK)[] {
  const records: (Buffer | typeof MARK)[] = [];
  for (let at = 0; at + 4 <= bytes.length;) {
    const length = bytes.readUInt32LE(at);
    at += 4;
    if (length === MARK_LENGTH) records.push(MARK);
    else records.push(bytes.subarray(at, (at += length)));
  }
  return records;
}
