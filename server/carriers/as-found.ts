// What others wrote, as if it were an archive of ours: all that lies in it is payload. So reading back, restoring and copying go on as
// with any other, and nothing is moved or added on the carrier.
import type { Readable } from 'node:stream';
import type { ReadAt } from '#core/archive/containers/container.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import type { Carrier, Entry, Pack } from './kind.ts';

const INSIDE = `${PAYLOAD}/`;

/** Where a file of the payload really lies. Nothing else is there. */
export function inPayload(at: string): string {
  if (!at.startsWith(INSIDE))
    throw Object.assign(new Error(`${at} is no file of what was taken in.`), { code: 'ENOENT' });
  return at.slice(INSIDE.length);
}

function nothing(): never {
  throw new Error('Nothing is written into what others made.');
}

/** What is the same of a folder and of one file. */
export abstract class Found implements Carrier {
  constructor(protected readonly carrier: Carrier) {}

  has(folder: string): Promise<boolean> {
    return this.carrier.has(folder);
  }
  unfinished = (site: string): Promise<Omit<Pack, 'folder'>[]> => this.carrier.unfinished(site);
  freeBytes = (): Promise<number> => this.carrier.freeBytes();
  close = (): Promise<void> => this.carrier.close();

  // Copies of it elsewhere are archives of ours, with lists of their own; what is cut or probed is cut and probed before it goes in.
  begin = nothing;
  takeOver = nothing;
  write = nothing;
  append = nothing;
  renew = nothing;
  remove = nothing;
  place = nothing;
  discard = nothing;
  pieces<T>(_of: Pack | string, _at: string, _isFresh: boolean, _use: (readAt: ReadAt) => Promise<T>): Promise<T> {
    return nothing();
  }

  abstract read(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<Readable>;
  abstract look(of: Pack | string, at: string): Promise<{ sizeBytes: number; mark: string } | null>;
  abstract list(of: Pack | string): AsyncIterable<Entry>;

  /** Left out where the carrier leaves it out: who asks goes by that. */
  get ready(): Carrier['ready'] {
    const { carrier } = this;
    if (!carrier.ready) return undefined;
    return (folder, wanted) => carrier.ready!(folder, (at) => wanted(INSIDE + at));
  }
}

/** A folder that others filled. */
export class FoundFolder extends Found {
  override async has(folder: string): Promise<boolean> {
    return (await this.carrier.has(folder)) && (await this.carrier.look(folder, '')) === null;
  }

  async read(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<Readable> {
    return this.carrier.read(of, inPayload(at), range);
  }

  async look(of: Pack | string, at: string): Promise<{ sizeBytes: number; mark: string } | null> {
    return at.startsWith(INSIDE) ? this.carrier.look(of, inPayload(at)) : null;
  }

  async *list(of: Pack | string): AsyncIterable<Entry> {
    for await (const entry of this.carrier.list(of)) yield { ...entry, at: INSIDE + entry.at };
  }

  get passing(): Carrier['passing'] {
    const { carrier } = this;
    if (!carrier.passing) return undefined;
    return (of, at, range) => carrier.passing!(of, inPayload(at), range);
  }

  get positions(): Carrier['positions'] {
    const { carrier } = this;
    if (!carrier.positions) return undefined;
    return (of, ats) => carrier.positions!(of, ats.map(inPayload));
  }
}
