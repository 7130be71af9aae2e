// A tar or zip that others wrote, as if it were an archive of ours: what is in it is payload. Only read, entry by entry where it lies.
import { Readable } from 'node:stream';
import { createInflateRaw } from 'node:zlib';
import { type FoundContainer, type FoundEntry, foundTar, foundZip } from '#core/archive/containers/found.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import { Found, inPayload } from './as-found.ts';
import type { Carrier, Entry, Pack } from './kind.ts';

const CONTAINERS: Record<string, FoundContainer> = { tar: foundTar, zip: foundZip };

/** No more than it says of itself: what goes on for ever would otherwise be read for ever. */
async function* within(bytes: AsyncIterable<Buffer>, most: number): AsyncGenerator<Buffer> {
  let read = 0;
  for await (const chunk of bytes) {
    read += chunk.length;
    if (read > most) throw Object.assign(new Error('It holds more than it says.'), { code: 'too_large' });
    yield chunk;
  }
}

/** By carrier and file: threads open a carrier for every entry, and lists are long. The oldest go. */
const known = new Map<string, { mark: string; entries: Map<string, FoundEntry> }>();
const KEPT = 4;

export class FoundPacked extends Found {
  /** @param id of the carrier, for what is remembered of it */
  constructor(
    carrier: Carrier,
    private readonly kind: 'tar' | 'zip',
    private readonly id: string,
  ) {
    super(carrier);
  }

  override async has(file: string): Promise<boolean> {
    return (await this.carrier.look(file, '')) !== null;
  }

  async read(of: Pack | string, at: string): Promise<Readable> {
    const entry = (await this.entries(of)).get(inPayload(at));
    if (!entry?.isPlain) throw Object.assign(new Error(`${at} is no plain file of it.`), { code: 'ENOENT' });
    const bytes = await this.carrier.read(of, '', { at: entry.at, length: entry.storedBytes });
    if (!entry.isCompressed) return bytes;
    const inflated = createInflateRaw();
    bytes.on('error', (error) => inflated.destroy(error));
    return Readable.from(within(bytes.pipe(inflated), entry.sizeBytes), { objectMode: false });
  }

  async look(of: Pack | string, at: string): Promise<{ sizeBytes: number; mark: string } | null> {
    if (!at.startsWith(`${PAYLOAD}/`)) return null;
    const entry = (await this.entries(of)).get(inPayload(at));
    const whole = await this.carrier.look(of, '');
    return entry && whole ? { sizeBytes: entry.sizeBytes, mark: whole.mark } : null;
  }

  async *list(of: Pack | string): AsyncIterable<Entry> {
    for (const { path, sizeBytes, modifiedMs, isPlain } of (await this.entries(of)).values())
      yield { at: `${PAYLOAD}/${path}`, sizeBytes: isPlain ? sizeBytes : null, modifiedMs };
  }

  private async entries(of: Pack | string): Promise<Map<string, FoundEntry>> {
    const look = await this.carrier.look(of, '');
    if (!look) throw Object.assign(new Error('It is not there.'), { code: 'ENOENT' });
    const key = `${this.id} ${String(of)}`;
    const before = known.get(key);
    if (before?.mark === look.mark) return before.entries;
    const list = await this.carrier.pieces(of, '', true, (readAt) => CONTAINERS[this.kind]!(readAt, look.sizeBytes));
    const entries = new Map(list.map((entry) => [entry.path, entry]));
    known.delete(key);
    known.set(key, { mark: look.mark, entries });
    for (const oldest of known.keys()) {
      if (known.size <= KEPT) break;
      known.delete(oldest);
    }
    return entries;
  }
}
