// A carrier on which every archive is one file. While it is written, an index beside it says what is whole in it: one line an
// entry, flushed after the entry, so that work that was interrupted goes on behind the last whole one. Entries are written
// one at a time. Once it has its name, the file itself says what is in it.
import { finished } from 'node:stream/promises';
import { type Readable, Writable } from 'node:stream';
import { crc32 } from 'node:zlib';
import { type Container, NoContainer, type PlacedEntry, type ReadAt } from '#core/archive/containers/container.ts';
import type { Carrier, Entry, FileToWrite, Pack } from './kind.ts';

const INDEX = 'index';
const WHOLE = 'whole';

interface Line extends PlacedEntry {
  /** Where its line begins in the index, and ends. */
  lineAt: number;
  lineEnd: number;
}

/** What is whole in a pack, in the order in which it was written. Lines are only added: what was cut off is read anew. */
interface Written {
  lines: Line[];
  byPath: Map<string, Line>;
  /** Of the index, as far as its lines are whole. */
  sizeBytes: number;
}

const nothing = (): Written => ({ lines: [], byPath: new Map(), sizeBytes: 0 });

/** What is known of a pack, and the last who asked: a thread has several questions at once, and lines are added once. */
interface Known {
  now: Written;
  turn: Promise<unknown>;
}

/** By carrier and pack: threads open a carrier for every file, and lists are long. The oldest go. */
const writing = new Map<string, Known>();
const placed = new Map<string, { mark: string; entries: Map<string, PlacedEntry> }>();
const KEPT = 4;

function keep<T>(cache: Map<string, T>, key: string, value: T): T {
  cache.delete(key);
  cache.set(key, value);
  for (const oldest of cache.keys()) {
    if (cache.size <= KEPT) break;
    cache.delete(oldest);
  }
  return value;
}

export class PackedCarrier implements Carrier {
  /** @param id of the carrier, for what is remembered of it */
  constructor(
    private readonly carrier: Carrier,
    private readonly container: Container,
    private readonly id: string,
  ) {}

  begin(pack: Pack): Promise<void> {
    return this.carrier.begin(pack);
  }

  /** Everything that was whole is read once more under a new inode: an earlier lease may still have the old one open. */
  async takeOver(pack: Pack, check: () => void = () => undefined): Promise<boolean> {
    if (!(await this.carrier.takeOver(pack, check))) return false;
    // Killed between the two halves of giving it its name, it has both.
    const [own, other] = [await this.carrier.look(pack, WHOLE), await this.carrier.look(this.name(pack.folder), '')];
    if (own && own.mark === other?.mark) {
      await this.carrier.discard(pack);
      return false;
    }
    const { lines, sizeBytes: indexBytes } = await this.written(pack);
    // Killed while it was thrown away, or before anything of it was whole: begun anew.
    if (!own || lines.length === 0) {
      await this.carrier.discard(pack);
      return false;
    }
    await this.carrier.renew(pack, WHOLE, lines.at(-1)!.end);
    await this.carrier.renew(pack, INDEX, indexBytes);
    for (const line of lines) {
      check();
      if ((await this.sumOf(pack, line, check)) === line.crc32) continue;
      await this.carrier.discard(pack);
      return false;
    }
    return true;
  }

  async write(pack: Pack, at: string, { sizeBytes, modifiedMs }: FileToWrite): Promise<Writable> {
    const path = `${pack.folder}/${at}`;
    const written = await this.written(pack);
    const before = written.byPath.get(path);
    // What is written anew is the last there is, or the first of what is all written anew.
    if (before) await this.cutOff(pack, before);
    const { lines, sizeBytes: indexBytes } = await this.written(pack);
    const entry = { path, sizeBytes, modifiedMs };
    const headAt = lines.at(-1)?.end ?? 0;
    const head = this.container.head(entry, headAt);
    const tail = this.container.tail(entry);
    const from = headAt + head.length;
    const whole = { ...entry, headAt, at: from, end: from + sizeBytes + tail.length, crc32: 0 };
    const target = await this.carrier.append(pack, WHOLE, headAt, () => this.container.mend(whole));
    return new EntryWriter(target, { head, tail, whole }, () => this.note(pack, whole, indexBytes));
  }

  append(): Promise<Writable> {
    throw new Error('Nothing is appended to what is in a container.');
  }

  renew(): Promise<void> {
    throw new Error('Nothing is renewed in a container.');
  }

  /** Of what is in the middle nothing can be taken out. */
  async remove(pack: Pack, at: string): Promise<void> {
    const written = await this.written(pack);
    const line = written.byPath.get(`${pack.folder}/${at}`);
    if (!line) return;
    if (line !== written.lines.at(-1)) throw new Error(`${at} is not the last file in ${pack.folder}.`);
    await this.cutOff(pack, line);
  }

  async place(pack: Pack): Promise<void> {
    const { lines } = await this.written(pack);
    const at = lines.at(-1)?.end ?? 0;
    const target = await this.carrier.append(pack, WHOLE, at);
    target.end(this.container.end(lines, at));
    await finished(target);
    await this.carrier.place(pack, { at: WHOLE, name: this.name(pack.folder) });
  }

  discard(pack: Pack): Promise<void> {
    return this.carrier.discard(pack);
  }

  async read(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<Readable> {
    return this.carrier.read(...this.whole(of), await this.within(of, at, range));
  }

  get passing(): Carrier['passing'] {
    const { carrier } = this;
    if (!carrier.passing) return undefined;
    return async (of, at, range) => carrier.passing!(...this.whole(of), await this.within(of, at, range));
  }

  async pieces<T>(of: Pack | string, at: string, isFresh: boolean, use: (readAt: ReadAt) => Promise<T>): Promise<T> {
    const { at: from, sizeBytes } = await this.entry(of, at);
    return this.carrier.pieces(...this.whole(of), isFresh, (readAt) =>
      use((piece, length) => readAt(from + piece, Math.max(0, Math.min(length, sizeBytes - piece)))),
    );
  }

  async look(of: Pack | string, at: string): Promise<{ sizeBytes: number; mark: string } | null> {
    const entry = (await this.entries(of)).get(`${folderOf(of)}/${at}`);
    const whole = await this.carrier.look(...this.whole(of));
    return entry && whole ? { sizeBytes: entry.sizeBytes, mark: whole.mark } : null;
  }

  async *list(of: Pack | string): AsyncIterable<Entry> {
    const folder = folderOf(of);
    for (const { path, sizeBytes } of [...(await this.entries(of)).values()])
      yield path.startsWith(`${folder}/`) ? { at: path.slice(folder.length + 1), sizeBytes } : { at: path, sizeBytes };
    if (typeof of === 'string') return;
    // What lies in the private folder beside what we write there is nobody's, and goes nowhere with it.
    for await (const { at, sizeBytes } of this.carrier.list(of))
      if (at !== WHOLE && at !== INDEX) yield { at, sizeBytes };
  }

  async has(folder: string): Promise<boolean> {
    return this.carrier.has(this.name(folder));
  }

  unfinished(site: string): Promise<Omit<Pack, 'folder'>[]> {
    return this.carrier.unfinished(site);
  }

  freeBytes(): Promise<number> {
    return this.carrier.freeBytes();
  }

  close(): Promise<void> {
    return this.carrier.close();
  }

  private async entries(of: Pack | string): Promise<ReadonlyMap<string, PlacedEntry>> {
    return typeof of === 'string' ? this.placedEntries(of) : (await this.written(of)).byPath;
  }

  /** Where a file, or a range of it, lies in the one file that there is. */
  private async within(of: Pack | string, at: string, range: { at: number; length: number } | undefined) {
    const entry = await this.entry(of, at);
    return { at: entry.at + (range?.at ?? 0), length: range?.length ?? entry.sizeBytes };
  }

  private async entry(of: Pack | string, at: string): Promise<PlacedEntry> {
    const entry = (await this.entries(of)).get(`${folderOf(of)}/${at}`);
    if (!entry) throw Object.assign(new Error(`${at} is not in ${folderOf(of)}.`), { code: 'ENOENT' });
    return entry;
  }

  private name(folder: string): string {
    return folder + this.container.ending;
  }

  private whole(of: Pack | string): [Pack | string, string] {
    return typeof of === 'string' ? [this.name(of), ''] : [of, WHOLE];
  }

  private written(pack: Pack): Promise<Written> {
    const key = this.keyOf(pack);
    const known = keep(writing, key, writing.get(key) ?? { now: nothing(), turn: Promise.resolve() });
    const own = known.turn.then(async () => (known.now = await this.readOn(pack, known.now)));
    known.turn = own.catch(() => undefined);
    return own;
  }

  /** Lines that were read stay, as long as the last of them still stands where it stood. */
  private async readOn(pack: Pack, known: Written): Promise<Written> {
    const text = await this.carrier.look(pack, INDEX);
    if (!text) return nothing();
    const last = known.lines.at(-1);
    const isSame = last && text.sizeBytes >= last.lineEnd && (await this.lineAt(pack, last)) === lineOf(last);
    const now = isSame ? known : nothing();
    const more = await this.textOf(pack, { at: now.sizeBytes, length: text.sizeBytes - now.sizeBytes });
    // A line without its end was being written when the work was interrupted.
    for (const line of more.split('\n').slice(0, -1)) {
      const lineAt = now.sizeBytes;
      const entry = { ...(JSON.parse(line) as PlacedEntry), lineAt, lineEnd: lineAt + Buffer.byteLength(line) + 1 };
      now.lines.push(entry);
      now.byPath.set(entry.path, entry);
      now.sizeBytes = entry.lineEnd;
    }
    return now;
  }

  private keyOf(pack: Pack): string {
    return `${this.id} ${JSON.stringify(pack)}`;
  }

  private async lineAt(pack: Pack, { lineAt, lineEnd }: Line): Promise<string> {
    return this.textOf(pack, { at: lineAt, length: lineEnd - lineAt });
  }

  private async textOf(pack: Pack, { at, length }: { at: number; length: number }): Promise<string> {
    const bytes = await this.carrier.pieces(pack, INDEX, false, (readAt) => readAt(at, length));
    return Buffer.from(bytes).toString('utf8');
  }

  private async note(pack: Pack, entry: PlacedEntry, at: number): Promise<void> {
    const target = await this.carrier.append(pack, INDEX, at);
    target.end(lineOf(entry));
    await finished(target);
  }

  private async cutOff(pack: Pack, from: Line): Promise<void> {
    const target = await this.carrier.append(pack, INDEX, from.lineAt);
    target.end();
    await finished(target);
    writing.delete(this.keyOf(pack));
  }

  private async sumOf(pack: Pack, entry: PlacedEntry, check: () => void): Promise<number> {
    let sum = 0;
    const range = { at: entry.at, length: entry.sizeBytes };
    for await (const chunk of (await this.carrier.read(pack, WHOLE, range)) as AsyncIterable<Buffer>) {
      check();
      sum = crc32(chunk, sum);
    }
    return sum;
  }

  private async placedEntries(folder: string): Promise<Map<string, PlacedEntry>> {
    const key = `${this.id} ${folder}`;
    const name = this.name(folder);
    const found = await this.carrier.look(name, '');
    if (!found) throw Object.assign(new Error(`${name} is not there.`), { code: 'ENOENT' });
    const known = placed.get(key);
    if (known?.mark === found.mark) return known.entries;
    const list = await this.carrier.pieces(name, '', true, (readAt) => this.container.entries(readAt, found.sizeBytes));
    const entries = new Map(list.map((entry) => [entry.path, entry]));
    return keep(placed, key, { mark: found.mark, entries }).entries;
  }
}

const folderOf = (of: Pack | string): string => (typeof of === 'string' ? of : of.folder);

const lineOf = ({ path, sizeBytes, modifiedMs, headAt, at, end, crc32: sum }: PlacedEntry): string =>
  `${JSON.stringify({ path, sizeBytes, modifiedMs, headAt, at, end, crc32: sum })}\n`;

interface Around {
  head: Uint8Array;
  tail: Uint8Array;
  /** Its sum is filled in while it is written. */
  whole: PlacedEntry;
}

/** The last sum: copies of one file have the same pieces one after the other, and each needs it. */
let last: { piece: Buffer; before: number; after: number } | null = null;

function sumOn(piece: Buffer, before: number): number {
  if (last?.piece !== piece || last.before !== before) last = { piece, before, after: crc32(piece, before) };
  return last.after;
}

/** What is around an entry is written with it; the index is told once all of it is flushed. */
class EntryWriter extends Writable {
  private bytes = 0;
  private sum = 0;

  constructor(
    private readonly target: Writable,
    private readonly around: Around,
    private readonly note: () => Promise<void>,
  ) {
    super({ highWaterMark: 4 << 20 });
    target.on('error', (error) => this.destroy(error));
  }

  override _construct(done: (error?: Error | null) => void): void {
    this.put(this.around.head).then(() => done(), done);
  }

  override _write(chunk: Buffer, _encoding: BufferEncoding, done: (error?: Error | null) => void): void {
    this.bytes += chunk.length;
    this.sum = sumOn(chunk, this.sum);
    this.put(chunk).then(() => done(), done);
  }

  override _final(done: (error?: Error | null) => void): void {
    this.finish().then(() => done(), done);
  }

  override _destroy(error: Error | null, done: (error?: Error | null) => void): void {
    this.target.destroy();
    done(error);
  }

  private async finish(): Promise<void> {
    const { whole, tail } = this.around;
    if (this.bytes !== whole.sizeBytes)
      throw new NoContainer(`${whole.path} has another size than it was said to have`);
    whole.crc32 = this.sum;
    this.target.end(tail);
    await finished(this.target);
    await this.note();
  }

  private put(bytes: Uint8Array): Promise<void> {
    return new Promise((resolve, reject) => this.target.write(bytes, (error) => (error ? reject(error) : resolve())));
  }
}
