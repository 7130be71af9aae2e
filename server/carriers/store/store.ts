// A carrier that is a bucket of a remote store. What is written has a private prefix with the lease of whoever writes it, and
// is copied on the store itself where another lease takes over and where it gets its name; one object says that a name is
// being given, and goes last. Nothing is ever written over.
import { Readable, Writable } from 'node:stream';
import { randomUUID } from 'node:crypto';
import { z } from 'zod';
import type { ReadAt } from '#core/archive/containers/container.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import { codeOf } from '#disk/facts.ts';
import { PRIVATE_FOLDER } from '#disk/identity.ts';
import { parsePrivateName, privateName } from '#disk/private-names.ts';
import { Refused } from '../../runtime/refused.ts';
import {
  type Carrier,
  CarrierAway,
  carrierKind,
  type CarrierLook,
  type Entry,
  type FileToWrite,
  type Pack,
  PackGone,
} from '../kind.ts';
import { type Listed, Objects } from './objects.ts';

const amount = z.coerce.number().nonnegative();
const settings = z.object({
  address: z.url({ protocol: /^https?$/, error: 'the address has to begin with http:// or https://' }).max(1000),
  bucket: z.string().min(1, 'the bucket is not named').max(200),
  accessKey: z.string().min(1, 'the access key is missing').max(200),
  secretKey: z.string().min(1, 'the secret key is missing').max(400),
  rentedGb: amount.positive('how many GB are rented is missing'),
  storageClass: z.string().max(60).default(''),
  thawHours: amount.default(0),
  costPerGbMonth: amount.default(0),
  costPerGbBack: amount.default(0),
});
type Settings = z.infer<typeof settings>;

const IDENTITY = `${PRIVATE_FOLDER}/identity.json`;
const identityIn = (text: string | null): string | null =>
  text === null ? null : (JSON.parse(text) as { identity: string }).identity;

export const store = carrierKind<Settings>({
  kind: 'remote store',
  name: 'remote store',
  settings,
  fields: [
    { name: 'address', label: 'Address of the store', hint: 'For example https://store.example:9000' },
    { name: 'bucket', label: 'Bucket' },
    { name: 'accessKey', label: 'Access key' },
    { name: 'secretKey', label: 'Secret key', secret: true },
    { name: 'rentedGb', label: 'Rented, in GB' },
    {
      name: 'storageClass',
      label: 'Storage class',
      hint: 'As the store calls it; empty for its usual one.',
      optional: true,
    },
    { name: 'thawHours', label: 'Hours to thaw', hint: 'What it takes before it can be read.', optional: true },
    { name: 'costPerGbMonth', label: 'Cost per GB and month', optional: true },
    { name: 'costPerGbBack', label: 'Cost per GB brought back', optional: true },
  ],
  module: import.meta.url,
  growing: false,
  describe: ({ address, bucket }) => `${bucket} at ${address}`,
  at: (own) => own,
  folders: () => [],
  fetching(own) {
    const { thawHours, costPerGbBack } = settings.parse(own);
    return { seconds: thawHours * 3600, mountSeconds: 0, costPerGb: costPerGbBack };
  },
  async look(own): Promise<CarrierLook> {
    try {
      const bytes = own.rentedGb * 1e9;
      const identity = identityIn(await (await Objects.open(own)).text(IDENTITY));
      return { state: 'reachable', identity, totalBytes: bytes, freeBytes: bytes, writable: true };
    } catch (error) {
      return { state: 'unreachable', code: codeOf(error) };
    }
  },
  async register(own) {
    try {
      const objects = await Objects.open(own);
      const text = JSON.stringify({ identity: randomUUID() });
      await objects.put(IDENTITY, text, true).catch((error: unknown) => {
        if (codeOf(error) !== 'EEXIST') throw error;
      });
      return { settings: own, identity: identityIn(await objects.text(IDENTITY))! };
    } catch {
      throw new Refused(
        `${own.bucket} at ${own.address} does not answer, or not to this key. Nothing was registered. Check the address, the bucket and the keys.`,
      );
    }
  },
  async open(own, identity) {
    const objects = await Objects.open(own);
    if (identityIn(await objects.text(IDENTITY)) !== identity) throw new CarrierAway(own.bucket);
    return new StoreCarrier(objects, own);
  },
});
export default store;

const BEGUN = '.begun';
const PLACING = '.placing';
const PLACED = '.placed';
const MARKS = [BEGUN, PLACING, PLACED];

class StoreCarrier implements Carrier {
  constructor(
    private readonly objects: Objects,
    private readonly own: Settings,
  ) {}

  async begin(pack: Pack): Promise<void> {
    await this.objects.put(`${prefixOf(pack)}${BEGUN}`, '');
  }

  async takeOver(pack: Pack, check: () => void = () => undefined): Promise<boolean> {
    for (const other of await this.leasesOf(pack)) {
      if (other.lease === pack.lease) continue;
      const from = prefixOf(other);
      if (await this.objects.look(`${from}${PLACED}`)) {
        await this.finishPlacing(from, (await this.objects.text(`${from}${PLACING}`)) ?? pack.folder);
        continue;
      }
      // First ours is there, then the other's is gone: a worker killed in between leaves one of both.
      await this.begin(pack);
      await this.objects.remove([`${from}${BEGUN}`]);
      const moved: string[] = [];
      for await (const one of this.objects.list(from)) {
        check();
        const at = one.key.slice(from.length);
        if (!MARKS.includes(at) || at === PLACING) await this.objects.copy(one, `${prefixOf(pack)}${at}`, false);
        moved.push(one.key);
      }
      await this.objects.remove(moved);
    }
    return (await this.objects.look(`${prefixOf(pack)}${BEGUN}`)) !== null;
  }

  async write(pack: Pack, at: string, { sizeBytes }: FileToWrite): Promise<Writable> {
    await this.assertOwn(pack);
    return new ObjectWriter(this.objects, `${prefixOf(pack)}${at}`, sizeBytes, () => this.assertOwn(pack));
  }

  append(): Promise<Writable> {
    throw new Error('Nothing is appended to what lies in a remote store.');
  }

  renew(): Promise<void> {
    throw new Error('Nothing is renewed in a remote store.');
  }

  async remove(pack: Pack, at: string): Promise<void> {
    await this.objects.remove([`${prefixOf(pack)}${at}`]);
  }

  async place(pack: Pack): Promise<void> {
    const [from, to] = [prefixOf(pack), `${pack.folder}/`];
    await this.assertOwn(pack);
    await this.reserve(pack);
    await this.objects.put(`${from}${PLACING}`, pack.folder);
    for await (const one of this.objects.list(from))
      if (!MARKS.includes(one.key.slice(from.length))) {
        await this.assertOwn(pack);
        const at = one.key.slice(from.length);
        // Lists are read whenever something is asked for, and weigh nothing: they do not have to thaw.
        await this.objects.copy(one, to + at, at.startsWith(`${PAYLOAD}/`));
      }
    if ((await this.objects.text(`${to}${PLACING}`)) !== ownerOf(pack)) throw new PackGone();
    await this.assertOwn(pack);
    await this.objects.put(`${from}${PLACED}`, '');
    await this.finishPlacing(from, pack.folder);
  }

  async discard(pack: Pack): Promise<void> {
    for (const other of await this.leasesOf(pack)) {
      if (other.lease !== pack.lease) continue;
      const from = prefixOf(other);
      const folder = await this.objects.text(`${from}${PLACING}`);
      if (folder !== null) {
        if (await this.objects.look(`${from}${PLACED}`)) await this.finishPlacing(from, folder);
        else if ((await this.objects.text(`${folder}/${PLACING}`)) === ownerOf(pack))
          await this.removeAll(`${folder}/`, `${folder}/${PLACING}`);
      }
      await this.removeAll(from, `${from}${BEGUN}`);
    }
  }

  async read(of: Pack | string, at: string, range?: { at: number; length: number }): Promise<Readable> {
    return Readable.from(await this.objects.read(keyOf(of, at), range), { objectMode: false });
  }

  async pieces<T>(of: Pack | string, at: string, _isFresh: boolean, use: (readAt: ReadAt) => Promise<T>): Promise<T> {
    return use(async (from, length) => {
      const chunks: Buffer[] = [];
      for await (const chunk of await this.objects.read(keyOf(of, at), { at: from, length })) chunks.push(chunk);
      return Buffer.concat(chunks);
    });
  }

  look(of: Pack | string, at: string): Promise<{ sizeBytes: number; mark: string } | null> {
    return this.objects.look(keyOf(of, at));
  }

  async *list(of: Pack | string): AsyncIterable<Entry> {
    const prefix = typeof of === 'string' ? `${of}/` : prefixOf(of);
    for await (const { key, sizeBytes } of this.objects.list(prefix))
      if (!MARKS.includes(key.slice(prefix.length))) yield { at: key.slice(prefix.length), sizeBytes };
  }

  /** What is being given its name has none yet. */
  async has(folder: string): Promise<boolean> {
    return (await this.objects.isAny(`${folder}/`)) && (await this.objects.look(`${folder}/${PLACING}`)) === null;
  }

  async unfinished(site: string): Promise<Omit<Pack, 'folder'>[]> {
    return (await this.packs()).filter((pack) => pack.site === site);
  }

  async freeBytes(): Promise<number> {
    return this.own.rentedGb * 1e9;
  }

  /** Asks for everything of these that has to thaw. */
  async ready(folder: string, wanted: (at: string) => boolean): Promise<boolean> {
    const cold: Listed[] = [];
    const prefix = `${folder}/`;
    for await (const one of this.objects.list(prefix))
      if (one.isCold && wanted(one.key.slice(prefix.length))) cold.push(one);
    for (const one of cold) if (!one.isAsked) await this.objects.thaw(one.key);
    return cold.length === 0;
  }

  async close(): Promise<void> {}

  private async packs(): Promise<Omit<Pack, 'folder'>[]> {
    const names = await this.objects.folders(`${PRIVATE_FOLDER}/`);
    return names.flatMap((name) => {
      const parsed = parsePrivateName(name);
      return parsed?.use === 'archive'
        ? [{ site: parsed.site, job: parsed.job, lease: parsed.lease, item: parsed.item }]
        : [];
    });
  }

  private async leasesOf({ site, job, item, folder }: Pack): Promise<Pack[]> {
    const all = await this.packs();
    return all
      .filter((one) => one.site === site && one.job === job && one.item === item)
      .map((one) => ({ ...one, folder }));
  }

  /** Who lost the pack writes nothing any more. */
  private async assertOwn(pack: Pack): Promise<void> {
    if ((await this.objects.look(`${prefixOf(pack)}${BEGUN}`)) === null) throw new PackGone();
  }

  /** The name is ours from here on, or was already: nobody else's is ever taken. */
  private async reserve(pack: Pack): Promise<void> {
    const key = `${pack.folder}/${PLACING}`;
    const taken = () => Object.assign(new Error(`${pack.folder} is there already.`), { code: 'EEXIST' });
    const owner = await this.objects.text(key);
    if (owner === null) {
      if (await this.objects.isAny(`${pack.folder}/`)) throw taken();
      await this.objects.put(key, ownerOf(pack), true);
    } else if (owner !== ownerOf(pack)) throw taken();
  }

  private async finishPlacing(from: string, folder: string): Promise<void> {
    await this.objects.remove([`${folder}/${PLACING}`]);
    await this.removeAll(from, `${from}${PLACED}`);
  }

  /** One of them last: as long as it is there, the rest is still to go. */
  private async removeAll(prefix: string, last: string): Promise<void> {
    const keys: string[] = [];
    for await (const { key } of this.objects.list(prefix)) if (key !== last) keys.push(key);
    await this.objects.remove(keys);
    await this.objects.remove([last]);
  }
}

const prefixOf = ({ site, job, lease, item }: Omit<Pack, 'folder'>): string =>
  `${PRIVATE_FOLDER}/${privateName({ use: 'archive', site, job, lease, item })}/`;

/** Whose work it is, whichever lease it has. */
const ownerOf = ({ site, job, item }: Pack): string => `${site} ${job} ${item}`;

const keyOf = (of: Pack | string, at: string): string =>
  typeof of === 'string' ? (at === '' ? of : `${of}/${at}`) : `${prefixOf(of)}${at}`;

const SMALLEST_PART = 8 << 20;
const MOST_PARTS = 9_000;

/** One object: at once where it is small, else part by part. It is there when the stream has finished, or not at all. */
class ObjectWriter extends Writable {
  private chunks: Buffer[] = [];
  private waiting = 0;
  /** What is sent while more comes. */
  private sending: Promise<void> = Promise.resolve();
  private upload: string | null = null;
  private readonly parts: { PartNumber: number; ETag?: string }[] = [];
  private readonly partBytes: number;
  private isWhole = false;

  constructor(
    private readonly objects: Objects,
    private readonly key: string,
    sizeBytes: number,
    private readonly assertOwn: () => Promise<void>,
  ) {
    super({ highWaterMark: 4 << 20 });
    this.partBytes = Math.max(SMALLEST_PART, Math.ceil(sizeBytes / MOST_PARTS));
  }

  override _write(chunk: Buffer, _encoding: BufferEncoding, done: (error?: Error | null) => void): void {
    // Its memory is used again once this is called back.
    this.chunks.push(Buffer.from(chunk));
    this.waiting += chunk.length;
    if (this.waiting < this.partBytes) return done();
    this.sending.then(() => {
      this.sending = this.send();
      this.sending.catch(() => undefined);
      done();
    }, done);
  }

  override _final(done: (error?: Error | null) => void): void {
    this.finish().then(() => done(), done);
  }

  override _destroy(error: Error | null, done: (error?: Error | null) => void): void {
    const end = () => done(error);
    const abort = () =>
      this.upload === null || this.isWhole ? end() : void this.objects.abort(this.key, this.upload).then(end, end);
    this.sending.then(abort, abort);
  }

  private async send(): Promise<void> {
    const body = Buffer.concat(this.chunks);
    this.chunks = [];
    this.waiting = 0;
    this.upload ??= await this.objects.begin(this.key);
    this.parts.push(await this.objects.part(this.key, this.upload, this.parts.length + 1, body));
  }

  private async finish(): Promise<void> {
    await this.sending;
    if (this.upload === null) {
      await this.assertOwn();
      await this.objects.put(this.key, Buffer.concat(this.chunks));
    } else {
      if (this.waiting > 0) await this.send();
      await this.assertOwn();
      await this.objects.complete(this.key, this.upload, this.parts);
    }
    this.isWhole = true;
  }
}
