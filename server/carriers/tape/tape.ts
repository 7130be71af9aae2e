// A carrier that is a tape in a library. It is taken into a drive when something of it is needed, and written once: what is
// thrown away is no longer in its index, and its room is gone. Whoever writes has reserved the tape with its lease; another
// lease takes that away. What one drive cannot read is read in another before it counts as unreadable.
import { randomUUID } from 'node:crypto';
import { Readable, Writable } from 'node:stream';
import { z } from 'zod';
import type { ReadAt } from '#core/archive/containers/container.ts';
import { MOST_TOP } from '#core/archive/carrier-facts.ts';
import {
  BLOCK_BYTES,
  DATA_PARTITION,
  type Extent,
  NoLtfs,
  type Partition,
  type TapeFile,
  type TapeIndex,
} from '#core/archive/ltfs.ts';
import { codeOf } from '#disk/facts.ts';
import { PRIVATE_FOLDER } from '#disk/identity.ts';
import { parsePrivateName, privateName } from '#disk/private-names.ts';
import { Refused } from '../../runtime/refused.ts';
import { type Carrier, CarrierAway, carrierKind, type Entry, type FileToWrite, type Pack, PackGone } from '../kind.ts';
import { type Cartridge, TapeLibrary, TapeTrouble } from './library.ts';
import { format, TapeVolume, whatIsOn } from './volume.ts';

const settings = z.object({
  library: z.url({ protocol: /^https?$/, error: 'the address has to begin with http:// or https://' }).max(1000),
  barcode: z.string().regex(/^[A-Z0-9]{6,8}$/, 'a barcode has six to eight letters and digits'),
  /** What was on it when it was registered: whose it is, and what lies at its top. */
  found: z.object({ byOthers: z.boolean(), top: z.array(z.string()) }).optional(),
});
type Settings = z.infer<typeof settings>;

const libraryOf = ({ library, barcode }: Settings) => new TapeLibrary(library.replace(/\/$/, ''), barcode);

async function cartridge(own: Settings): Promise<Cartridge | null> {
  const { cartridges } = await libraryOf(own).inventory();
  return cartridges.find(({ barcode }) => barcode === own.barcode) ?? null;
}

const LOAD_SECONDS = 60;

export const tape = carrierKind<Settings>({
  kind: 'tape',
  name: 'tape',
  settings,
  fields: [
    { name: 'library', label: 'Address of the library' },
    {
      name: 'barcode',
      label: 'Barcode of the tape',
      hint: 'As it stands on its label. A tape that others wrote is only read.',
    },
  ],
  module: import.meta.url,
  growing: false,
  sequential: true,
  describe: ({ library, barcode, found }) =>
    `${barcode} in the library at ${library}${found?.byOthers ? ', which others wrote and which is only read' : ''}`,
  at: (own) => own,
  folders: () => [],
  fetching: () => ({ seconds: 0, mountSeconds: LOAD_SECONDS, costPerGb: 0 }),
  async look(own) {
    try {
      const { cartridges, geometry, drives } = await libraryOf(own).inventory();
      const found = cartridges.find(({ barcode }) => barcode === own.barcode);
      if (!found) return { state: 'unreachable', code: 'not in the library' };
      const { volume, totalBytes, remainingBytes, mounts } = found.chip;
      const sharing = { drivesOf: own.library, drives: drives.filter(({ failed }) => !failed).length };
      const where = found.drive === null ? `slot ${found.slot}` : `drive ${found.drive + 1}`;
      return {
        ...{ state: 'reachable', identity: volume, totalBytes, writable: true },
        ...{
          freeBytes: own.found?.byOthers ? 0 : roomIn(remainingBytes, totalBytes),
          facts: { where, passes: mounts, geometry, sharing, top: own.found?.top },
        },
      };
    } catch (error) {
      return { state: 'unreachable', code: codeOf(error) };
    }
  },
  async register(own) {
    try {
      const found = await cartridge(own);
      if (!found)
        throw new Refused(
          `There is no tape ${own.barcode} in the library at ${own.library}. Nothing was registered. Put it in, or look at its label.`,
        );
      return await registered(own, found.chip.volume);
    } catch (error) {
      if (error instanceof Refused) throw error;
      if (error instanceof NoLtfs)
        throw new Refused(
          `What is on ${own.barcode} cannot be read: ${error.message}. Nothing was written on it, and nothing was registered.`,
        );
      throw new Refused(`The library at ${own.library} does not answer. Nothing was registered. Check its address.`);
    }
  },
  async open(own, identity) {
    if (identity === null || (await cartridge(own))?.chip.volume !== identity) throw new CarrierAway(own.barcode);
    return new TapeCarrier(own, identity);
  },
});
export default tape;

/** An empty tape is made ready; what is on any other is looked at, and stays as it is. */
async function registered({ library: address, barcode }: Settings, volume: string | null) {
  const own = { library: address, barcode };
  const library = libraryOf(own);
  const on = await whatIsOn(library);
  if (on.is === 'blank') return { settings: own, identity: await format(library, barcode) };
  if (on.is === 'something')
    throw new Refused(
      `${barcode} holds something that is no file system of the open standard (LTFS). Nothing was written on it, and nothing was registered. Put in an empty tape, or read this one with what wrote it.`,
    );
  if (on.volume !== volume)
    throw new Refused(
      `The label on ${barcode} and its chip do not say the same volume, so it cannot be known again. Nothing was written on it, and nothing was registered.`,
    );
  const { files, byOthers = !on.isOwn } = await new TapeVolume(library, barcode, volume, !on.isOwn).index();
  const top = new Set<string>();
  for (const path of files.keys())
    if (path.includes('/') && !path.startsWith('.') && top.size < MOST_TOP) top.add(path.slice(0, path.indexOf('/')));
  return { settings: { ...own, found: { byOthers, top: [...top].sort() } }, identity: volume };
}

/** The last of a tape is for its indexes. */
const roomIn = (remaining: number, total: number) => Math.max(0, Math.floor(remaining - total * 0.03));

class TapeCarrier implements Carrier {
  private readonly library: TapeLibrary;
  private readonly volume: TapeVolume;
  constructor(
    private readonly own: Settings,
    identity: string,
  ) {
    this.library = libraryOf(own);
    this.volume = new TapeVolume(this.library, own.barcode, identity, own.found?.byOthers);
  }

  async begin(pack: Pack): Promise<void> {
    const folder = folderOf(pack);
    await this.volume.inDrive(async () => {
      await this.library.reserve(pack.lease);
      const index = await this.volume.index();
      const begun = new Set(packsIn(index)).add(folder).size;
      await this.volume.note({ files: new Map(), empty: [folder], gone: [] }, pack.lease, { begun });
    });
  }

  async takeOver(pack: Pack): Promise<boolean> {
    // A tape on which nothing is begun stays in its slot.
    if ((await this.chip()).begun === 0) return false;
    return this.volume.inDrive(async () => {
      const index = await this.volume.index();
      const own = folderOf(pack);
      const others = packsIn(index).filter((folder) => folder !== own && isOfWork(folder, pack));
      if (others.length === 0 && !packsIn(index).includes(own)) return false;
      await this.library.reserve(pack.lease);
      if (others.length > 0)
        await this.volume.rewrite((next) => {
          for (const other of others) rename(next, other, own);
          next.empty.add(own);
          return { begun: packsIn(next).length };
        }, pack.lease);
      return true;
    });
  }

  async write(pack: Pack, at: string, file: FileToWrite): Promise<Writable> {
    const release = await this.volume.hold();
    const isThere = await this.volume
      .index()
      .then((index) => hasPack(index, folderOf(pack)))
      .catch(async (error: unknown) => {
        await release();
        throw error;
      });
    if (!isThere) {
      await release();
      throw new PackGone();
    }
    return new TapeWriter(this.volume, { owner: pack.lease, release }, (written) =>
      this.add(pack, at, { ...written, modifiedMs: file.modifiedMs }),
    );
  }

  append(): Promise<Writable> {
    throw new Error('Nothing is appended to a file on a tape.');
  }

  renew(): Promise<void> {
    throw new Error('Nothing is renewed on a tape.');
  }

  async remove(pack: Pack, at: string): Promise<void> {
    const path = `${folderOf(pack)}/${at}`;
    await this.volume.inDrive(async () => {
      if ((await this.volume.index()).files.has(path))
        await this.volume.note({ files: new Map(), empty: [folderOf(pack)], gone: [path] }, pack.lease);
    });
  }

  async place(pack: Pack): Promise<void> {
    const own = folderOf(pack);
    await this.volume.inDrive(async () => {
      const index = await this.volume.index();
      if (hasFolder(index, pack.folder))
        throw Object.assign(new Error(`${pack.folder} is there already.`), { code: 'EEXIST' });
      if (!hasPack(index, own)) throw new PackGone();
      await this.volume.rewrite((next) => {
        rename(next, own, pack.folder);
        return { begun: packsIn(next).length };
      }, pack.lease);
    });
  }

  async discard(pack: Pack): Promise<void> {
    const own = folderOf(pack);
    await this.volume.inDrive(async () => {
      if (!hasPack(await this.volume.index(), own)) return;
      await this.library.reserve(pack.lease);
      await this.volume.rewrite((next) => {
        for (const path of next.files.keys()) if (path.startsWith(`${own}/`)) next.files.delete(path);
        next.empty.delete(own);
        return { begun: packsIn(next).length };
      }, pack.lease);
    });
  }

  async read(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<Readable> {
    const file = await this.file(of, at);
    return Readable.from(this.bytes(file, range ?? { at: 0, length: Infinity }), { objectMode: false });
  }

  async pieces<T>(of: Pack | string, at: string, _isFresh: boolean, use: (readAt: ReadAt) => Promise<T>): Promise<T> {
    const file = await this.file(of, at);
    return use(async (from, length) => {
      const chunks: Buffer[] = [];
      for await (const chunk of this.bytes(file, { at: from, length })) chunks.push(chunk);
      return Buffer.concat(chunks);
    });
  }

  async look(of: Pack | string, at: string): Promise<{ sizeBytes: number; mark: string } | null> {
    const file = (await this.volume.index()).files.get(pathOf(of, at));
    return file ? { sizeBytes: file.sizeBytes, mark: `${file.uid} ${file.extents[0]?.startBlock ?? ''}` } : null;
  }

  async *list(of: Pack | string): AsyncIterable<Entry> {
    const prefix = `${typeof of === 'string' ? of : folderOf(of)}/`;
    const { files, odd = [] } = await this.volume.index();
    for (const [path, { sizeBytes, modifiedMs }] of [...files])
      if (path.startsWith(prefix)) yield { at: path.slice(prefix.length), sizeBytes, modifiedMs };
    for (const path of [...odd]) if (path.startsWith(prefix)) yield { at: path.slice(prefix.length), sizeBytes: null };
  }

  async has(folder: string): Promise<boolean> {
    return hasFolder(await this.volume.index(), folder);
  }

  async unfinished(site: string): Promise<Omit<Pack, 'folder'>[]> {
    if ((await this.chip()).begun === 0) return [];
    return packsIn(await this.volume.index()).flatMap((folder) => {
      const name = parsePrivateName(folder.slice(PRIVATE_FOLDER.length + 1))!;
      return name.site === site ? [{ site, job: name.job, lease: name.lease, item: name.item }] : [];
    });
  }

  async freeBytes(): Promise<number> {
    const { remainingBytes, totalBytes } = await this.chip();
    return this.own.found?.byOthers ? 0 : roomIn(remainingBytes, totalBytes);
  }

  async positions(of: Pack | string, ats: readonly string[]): Promise<(number | null)[]> {
    const { files } = await this.volume.index();
    return ats.map((at) => {
      const first = files.get(pathOf(of, at))?.extents[0];
      return first && first.partition === undefined ? first.startBlock : null;
    });
  }

  async close(): Promise<void> {}

  private async chip() {
    const found = await cartridge(this.own);
    if (!found) throw new CarrierAway(this.own.barcode);
    return found.chip;
  }

  private async file(of: Pack | string, at: string): Promise<TapeFile> {
    const path = pathOf(of, at);
    const file = (await this.volume.index()).files.get(path);
    if (!file) throw Object.assign(new Error(`${path} is not on ${this.own.barcode}.`), { code: 'ENOENT' });
    return file;
  }

  private async add(pack: Pack, at: string, file: Omit<TapeFile, 'uid'>): Promise<void> {
    await this.volume.inDrive(async () => {
      const { generation } = await this.volume.index();
      // As there is one index a file, its generation is a number that no file before had.
      const files = new Map([[`${folderOf(pack)}/${at}`, { ...file, uid: generation + 1 }]]);
      await this.volume.note({ files, empty: [], gone: [] }, pack.lease);
    });
  }

  /** The tape stays in the drive while they come. */
  private async *bytes(file: TapeFile, range: { at: number; length: number }): AsyncGenerator<Buffer> {
    const user = randomUUID();
    const end = Math.min(range.at + range.length, file.sizeBytes);
    try {
      let drive = await this.take(user, null);
      for (const piece of piecesOf(file.extents, {
        begin: range.at,
        end,
        blockBytes: await this.volume.blockBytes(),
      })) {
        if (piece.is === 'hole') {
          yield Buffer.alloc(piece.bytes);
          continue;
        }
        const read = await this.records(piece, { user, drive });
        drive = read.drive;
        yield Buffer.concat(read.records).subarray(piece.skip, piece.skip + piece.bytes);
      }
    } finally {
      await this.library.letGo(user).catch(() => undefined);
    }
  }

  /** What cannot be read in one drive is tried in another; only what none reads is lost. */
  private async records(
    { partition, from, blocks }: Blocks,
    { user, drive: first }: { user: string; drive: number },
  ): Promise<{ records: Buffer[]; drive: number }> {
    let isUnreadable = false;
    for (let drive = first; ; drive = await this.take(user, drive))
      try {
        return { records: await this.library.read(partition, from, blocks), drive };
      } catch (error) {
        if (!(error instanceof TapeTrouble)) throw error;
        if (error.code !== 'medium' && error.code !== 'drive') throw new CarrierAway(this.own.barcode);
        const { drives } = await this.library.inventory();
        const isAlone = drives.length === 1;
        if (error.code === 'medium' && (isUnreadable || isAlone))
          throw Object.assign(new Error(`Block ${from} of ${this.own.barcode} cannot be read.`), { code: 'EIO' });
        // Where no other drive works, nobody can say whose fault it is.
        if (!drives.some((one) => one.drive !== drive && !one.failed)) throw new CarrierAway(this.own.barcode);
        if (error.code === 'medium') isUnreadable = true;
      }
  }

  private async take(user: string, not: number | null): Promise<number> {
    try {
      return (await this.library.take(user, not)).drive;
    } catch (error) {
      throw error instanceof TapeTrouble ? new CarrierAway(this.own.barcode) : error;
    }
  }
}

const folderOf = ({ site, job, lease, item }: Omit<Pack, 'folder'>): string =>
  `${PRIVATE_FOLDER}/${privateName({ use: 'archive', site, job, lease, item })}`;

const pathOf = (of: Pack | string, at: string): string =>
  `${typeof of === 'string' ? of : folderOf(of)}${at === '' ? '' : `/${at}`}`;

/** The private folders of packs that have no name yet. */
function packsIn({ files, empty }: TapeIndex): string[] {
  const found = new Set<string>();
  for (const path of [...empty, ...files.keys()]) {
    if (!path.startsWith(`${PRIVATE_FOLDER}/`)) continue;
    const name = path.split('/')[1]!;
    if (parsePrivateName(name)?.use === 'archive') found.add(`${PRIVATE_FOLDER}/${name}`);
  }
  return [...found];
}

/** What was begun is remembered as a folder: asked before every file, it is not looked for among all of them. */
function hasPack(index: TapeIndex, folder: string): boolean {
  if (!index.empty.has(folder) && hasFolder(index, folder)) index.empty.add(folder);
  return index.empty.has(folder);
}

function isOfWork(folder: string, pack: Pack): boolean {
  const name = parsePrivateName(folder.slice(PRIVATE_FOLDER.length + 1))!;
  return name.site === pack.site && name.job === pack.job && name.item === pack.item;
}

const hasFolder = ({ files, empty }: TapeIndex, folder: string): boolean => {
  if (empty.has(folder)) return true;
  for (const path of files.keys()) if (path.startsWith(`${folder}/`)) return true;
  return false;
};

/** In the order in which they were written. */
function rename(index: TapeIndex, from: string, to: string): void {
  index.files = new Map(
    [...index.files].map(([path, file]) => [path.startsWith(`${from}/`) ? to + path.slice(from.length) : path, file]),
  );
  index.empty.delete(from);
}

interface Blocks {
  is: 'blocks';
  partition: Partition;
  from: number;
  blocks: number;
  /** Bytes before it in its first block, and its own. */
  skip: number;
  bytes: number;
}
type Piece = Blocks | { is: 'hole'; bytes: number };

const BYTES_AT_ONCE = 8 * BLOCK_BYTES;

interface Stretch {
  begin: number;
  end: number;
  blockBytes: number;
}

/** The blocks that hold a stretch of a file, some at a time. What lies in no extent was never written, and is zeros. */
function* piecesOf(extents: readonly Extent[], { begin, end, blockBytes }: Stretch): Generator<Piece> {
  let at = begin;
  for (const extent of extents) {
    yield* holeOf(at, Math.min(end, extent.fileOffset));
    at = Math.max(at, Math.min(end, extent.fileOffset));
    const to = Math.min(end, extent.fileOffset + extent.bytes);
    while (at < to) {
      const within = at - extent.fileOffset + extent.byteOffset;
      const skip = within % blockBytes;
      const bytes = Math.min(to - at, Math.max(1, Math.floor(BYTES_AT_ONCE / blockBytes)) * blockBytes - skip);
      yield {
        ...{ is: 'blocks', partition: extent.partition ?? DATA_PARTITION },
        ...{ from: extent.startBlock + Math.floor(within / blockBytes), skip, bytes },
        blocks: Math.ceil((skip + bytes) / blockBytes),
      };
      at += bytes;
    }
  }
  yield* holeOf(at, end);
}

function* holeOf(from: number, to: number): Generator<Piece> {
  for (let at = from; at < to; at += BYTES_AT_ONCE) yield { is: 'hole', bytes: Math.min(to - at, BYTES_AT_ONCE) };
}

/** Blocks at the end of the tape as they come; the file is there once its index is. */
class TapeWriter extends Writable {
  private chunks: Buffer[] = [];
  private waiting = 0;
  /** What is sent while more comes. */
  private sending: Promise<void> = Promise.resolve();
  private sizeBytes = 0;
  private readonly extents: Extent[] = [];

  constructor(
    private readonly volume: TapeVolume,
    private readonly own: { owner: string; release: () => Promise<void> },
    private readonly note: (file: Pick<TapeFile, 'sizeBytes' | 'extents'>) => Promise<void>,
  ) {
    super({ highWaterMark: 4 << 20 });
  }

  override _write(chunk: Buffer, _encoding: BufferEncoding, done: (error?: Error | null) => void): void {
    // Its memory is used again once this is called back.
    this.chunks.push(Buffer.from(chunk));
    this.waiting += chunk.length;
    if (this.waiting < BYTES_AT_ONCE) return done();
    this.sending.then(() => {
      this.sending = this.send(false);
      this.sending.catch(() => undefined);
      done();
    }, done);
  }

  override _final(done: (error?: Error | null) => void): void {
    this.sending
      .then(() => this.send(true))
      .then(() => this.note({ sizeBytes: this.sizeBytes, extents: this.extents }))
      .then(() => done(), done);
  }

  override _destroy(error: Error | null, done: (error?: Error | null) => void): void {
    const end = () => done(error);
    const release = () => void this.own.release().then(end, end);
    this.sending.then(release, release);
  }

  /** Whole blocks, and what is left over only at the end. */
  private async send(isEnd: boolean): Promise<void> {
    const bytes = Buffer.concat(this.chunks);
    const length = isEnd ? bytes.length : bytes.length - (bytes.length % BLOCK_BYTES);
    this.chunks = [bytes.subarray(length)];
    this.waiting = bytes.length - length;
    if (length === 0) return;
    const records: Uint8Array[] = [];
    for (let at = 0; at < length; at += BLOCK_BYTES)
      records.push(bytes.subarray(at, Math.min(at + BLOCK_BYTES, length)));
    const startBlock = await this.volume.inDrive(() => this.volume.add(records, this.own.owner));
    const last = this.extents.at(-1);
    if (last && last.startBlock + last.bytes / BLOCK_BYTES === startBlock) last.bytes += length;
    else this.extents.push({ fileOffset: this.sizeBytes, startBlock, byteOffset: 0, bytes: length });
    this.sizeBytes += length;
  }
}
