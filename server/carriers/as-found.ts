// A folder that others filled, as if it were an archive of ours: all that lies in it is payload. So reading back, restoring and
// copying go on as with any other, and nothing is moved or added on the carrier.
import type { Readable } from 'node:stream';
import type { ReadAt } from '#core/archive/containers/container.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import type { Carrier, Entry, Pack } from './kind.ts';

const INSIDE = `${PAYLOAD}/`;

/** Where a file of the payload really lies. Nothing else is there. */
function found(at: string): string {
  if (!at.startsWith(INSIDE))
    throw Object.assign(new Error(`${at} is no file of what was taken in.`), { code: 'ENOENT' });
  return at.slice(INSIDE.length);
}

function nothing(): never {
  throw new Error('Nothing is written into what others filled.');
}

export class FoundCarrier implements Carrier {
  constructor(private readonly carrier: Carrier) {}

  has = (folder: string): Promise<boolean> => this.carrier.has(folder);
  unfinished = (site: string): Promise<Omit<Pack, 'folder'>[]> => this.carrier.unfinished(site);
  freeBytes = (): Promise<number> => this.carrier.freeBytes();
  close = (): Promise<void> => this.carrier.close();

  // Copies of it elsewhere are archives of ours, with lists of their own.
  begin = nothing;
  takeOver = nothing;
  write = nothing;
  append = nothing;
  renew = nothing;
  remove = nothing;
  place = nothing;
  discard = nothing;

  async read(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<Readable> {
    return this.carrier.read(of, found(at), range);
  }

  async pieces<T>(of: Pack | string, at: string, isFresh: boolean, use: (readAt: ReadAt) => Promise<T>): Promise<T> {
    return this.carrier.pieces(of, found(at), isFresh, use);
  }

  async look(of: Pack | string, at: string): Promise<{ sizeBytes: number; mark: string } | null> {
    return at.startsWith(INSIDE) ? this.carrier.look(of, found(at)) : null;
  }

  async *list(of: Pack | string): AsyncIterable<Entry> {
    for await (const entry of this.carrier.list(of)) yield { ...entry, at: INSIDE + entry.at };
  }

  /** Left out where the carrier leaves it out: who asks goes by that. */
  get ready(): Carrier['ready'] {
    const { carrier } = this;
    if (!carrier.ready) return undefined;
    return (folder, wanted) => carrier.ready!(folder, (at) => wanted(INSIDE + at));
  }

  get positions(): Carrier['positions'] {
    const { carrier } = this;
    if (!carrier.positions) return undefined;
    return (of, ats) => carrier.positions!(of, ats.map(found));
  }
}
