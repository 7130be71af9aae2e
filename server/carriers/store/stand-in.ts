// A stand-in for a remote store: the calls of the common object-store protocol that the carrier makes, over a folder. It
// looks at who asks and not at the signature. With a thaw delay, what is put in a cold class has to be asked for first.
import { createHash, randomUUID } from 'node:crypto';
import { createReadStream, createWriteStream, mkdirSync, readdirSync, readFileSync } from 'node:fs';
import { link, open, rename, rm, stat, writeFile } from 'node:fs/promises';
import type { IncomingMessage, ServerResponse } from 'node:http';
import path from 'node:path';
import { Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { crc32 } from 'node:zlib';
import { XMLBuilder, XMLParser } from 'fast-xml-parser';
import { HoleWriter } from '../disk/hole-writer.ts';
import { bodyOf, type CommonFaults, type StandIn, startStandIn } from '../stand-in.ts';

export interface StoreFaults extends CommonFaults {
  /** One bit of every object whose key has this in it reads back turned round. */
  flippedIn: string | null;
  /** Objects whose key has this in it cannot be read. */
  unreadableIn: string | null;
  /** Another bucket answers under the name. */
  swapped: boolean;
}

export interface StoreStandIn extends StandIn<StoreFaults> {
  /** How many calls of each kind were made. */
  calls: Map<string, number>;
}

interface Kept {
  key: string;
  size: number;
  etag: string;
  cold: boolean;
  /** From when it can be read, where somebody asked for it to be thawed. */
  thawedAt: number | null;
  file: string;
}

export interface StoreOptions {
  folder: string;
  bucket: string;
  accessKey: string;
  port?: number;
  /** How long it takes until what is cold can be read. */
  thawSeconds?: number;
}

const xml = new XMLBuilder({ ignoreAttributes: false });
const parser = new XMLParser({ isArray: (name) => ['Object', 'Part'].includes(name) });

/** What the protocol calls a refusal, with its status. */
class Refusal extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
  ) {
    super(code);
  }
}

export async function startStore(options: StoreOptions): Promise<StoreStandIn> {
  const store = new Store(options);
  const standIn = await startStandIn<StoreFaults>(
    store.faults,
    (request, response) => store.answer(request, response),
    options.port,
  );
  return Object.assign(standIn, { calls: store.calls });
}

class Store {
  readonly faults: StoreFaults = {
    ...{ away: false, awayAfter: null, slowMs: 0, full: false },
    ...{ flippedIn: null, unreadableIn: null, swapped: false },
  };
  readonly calls = new Map<string, number>();
  private readonly kept = new Map<string, Kept>();
  private readonly uploads = new Map<string, { key: string; cold: boolean; parts: Map<number, string> }>();
  private readonly others = new Map<string, Kept>();

  constructor(private readonly options: StoreOptions) {
    mkdirSync(options.folder, { recursive: true });
    for (const name of readdirSync(options.folder))
      if (name.endsWith('.json')) {
        const one = JSON.parse(readFileSync(path.join(options.folder, name), 'utf8')) as Kept;
        this.kept.set(one.key, one);
      }
  }

  async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    try {
      await this.call(request, response);
    } catch (error) {
      request.resume();
      if (!(error instanceof Refusal)) throw error;
      response.writeHead(error.status, { 'content-type': 'application/xml' });
      response.end(xml.build({ Error: { Code: error.code, Message: error.code } }));
    }
  }

  private async call(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const url = new URL(request.url!, 'http://store');
    const [, bucket, ...rest] = url.pathname.split('/');
    if (!request.headers.authorization?.includes(`Credential=${this.options.accessKey}/`))
      throw new Refusal(403, 'AccessDenied');
    if (bucket !== this.options.bucket) throw new Refusal(404, 'NoSuchBucket');
    const key = decodeURIComponent(rest.join('/'));
    const name = nameOf(request, url, key);
    this.calls.set(name, (this.calls.get(name) ?? 0) + 1);
    const call = this.known[name];
    if (!call) throw new Refusal(501, 'NotImplemented');
    await call({ request, response, url, key });
  }

  private readonly known: Record<
    string,
    (asked: { request: IncomingMessage; response: ServerResponse; url: URL; key: string }) => Promise<void>
  > = {
    list: async ({ response, url }) => send(response, this.list(url.searchParams)),
    head: async ({ response, key }) => {
      const one = this.get(key);
      response.writeHead(200, { 'content-length': one.size, etag: one.etag, ...thawHeaders(one) }).end();
    },
    get: async ({ request, response, key }) => this.read(request, response, key),
    put: async ({ request, response, key }) => {
      this.mayWrite(request, key);
      const { file, etag, size } = await this.receive(request);
      this.mayWrite(request, key);
      await this.keep({ key, size, etag, cold: isCold(request), thawedAt: null, file });
      response.writeHead(200, { etag }).end();
    },
    copy: async ({ request, response, key }) => {
      this.mayWrite(request, key);
      const from = this.get(sourceOf(request));
      const file = randomUUID();
      // What lies there is never changed.
      await link(this.place(from.file), this.place(file));
      await this.keep({ ...from, key, file, cold: isCold(request), thawedAt: null });
      send(response, { CopyObjectResult: { ETag: from.etag } });
    },
    remove: async ({ response, key }) => {
      await this.remove(key);
      response.writeHead(204).end();
    },
    'remove many': async ({ request, response }) => {
      const asked = parser.parse((await bodyOf(request)).toString('utf8')) as {
        Delete: { Object: { Key: string | number }[] };
      };
      for (const one of asked.Delete.Object) await this.remove(String(one.Key));
      send(response, { DeleteResult: '' });
    },
    begin: async ({ request, response, key }) => {
      this.mayWrite(request, key);
      const id = randomUUID();
      this.uploads.set(id, { key, cold: isCold(request), parts: new Map() });
      send(response, { InitiateMultipartUploadResult: { UploadId: id, Key: key } });
    },
    part: async ({ request, response, url }) => {
      const upload = this.upload(url);
      if (this.faults.full) throw new Refusal(507, 'InsufficientStorage');
      const { file, etag } = await this.receive(request);
      upload.parts.set(Number(url.searchParams.get('partNumber')), file);
      response.writeHead(200, { etag }).end();
    },
    'part of': async ({ request, response, url }) => {
      const upload = this.upload(url);
      const from = this.get(sourceOf(request));
      const [first, last] = rangeOf(String(request.headers['x-amz-copy-source-range']), from.size);
      const file = randomUUID();
      await pipeline(
        createReadStream(this.place(from.file), { start: first, end: last }),
        createWriteStream(this.place(file)),
      );
      upload.parts.set(Number(url.searchParams.get('partNumber')), file);
      send(response, { CopyPartResult: { ETag: `"${file}"` } });
    },
    complete: async ({ request, response, url }) => {
      const { key, cold, parts } = this.upload(url);
      const asked = parser.parse((await bodyOf(request)).toString('utf8')) as {
        CompleteMultipartUpload: { Part: { PartNumber: number }[] };
      };
      const file = randomUUID();
      let size = 0;
      for (const { PartNumber } of asked.CompleteMultipartUpload.Part) {
        const part = this.place(parts.get(Number(PartNumber))!);
        const handle = await open(this.place(file), 'a+');
        await handle.close();
        const target = new HoleWriter(await open(this.place(file), 'r+'), () => Promise.resolve(), size);
        await pipeline(createReadStream(part), target);
        size += (await stat(part)).size;
      }
      const etag = `"${randomUUID()}-${parts.size}"`;
      await this.keep({ key, size, etag, cold, thawedAt: null, file });
      await this.drop(url);
      send(response, { CompleteMultipartUploadResult: { Key: key, ETag: etag } });
    },
    abort: async ({ response, url }) => {
      await this.drop(url);
      response.writeHead(204).end();
    },
    thaw: async ({ request, response, key }) => {
      request.resume();
      const one = this.get(key);
      if (one.cold && one.thawedAt === null)
        await this.keep({ ...one, thawedAt: Date.now() + (this.options.thawSeconds ?? 0) * 1000 });
      response.writeHead(202).end();
    },
  };

  private list(asked: URLSearchParams): object {
    const prefix = asked.get('prefix') ?? '';
    const delimiter = asked.get('delimiter');
    const after = asked.get('continuation-token') ?? asked.get('start-after') ?? '';
    const most = Number(asked.get('max-keys') ?? 1000);
    const keys = [...this.at().keys()].filter((key) => key.startsWith(prefix)).sort(bytewise);
    const contents: Kept[] = [];
    const prefixes = new Set<string>();
    let last = '';
    let more = false;
    for (const key of keys) {
      const end = delimiter === null ? -1 : key.indexOf(delimiter, prefix.length);
      const told = end < 0 ? key : key.slice(0, end + 1);
      if (bytewise(told, after) <= 0 || prefixes.has(told)) continue;
      if (contents.length + prefixes.size >= most) {
        more = true;
        break;
      }
      last = told;
      if (end < 0) contents.push(this.at().get(key)!);
      else prefixes.add(told);
    }
    return {
      ListBucketResult: {
        ...{ IsTruncated: more, KeyCount: contents.length + prefixes.size },
        ...(more ? { NextContinuationToken: last } : {}),
        Contents: contents.map((one) => ({
          ...{ Key: one.key, Size: one.size, ETag: one.etag, StorageClass: one.cold ? 'GLACIER' : 'STANDARD' },
          ...(one.thawedAt === null ? {} : { RestoreStatus: restoreStatus(one.thawedAt) }),
        })),
        CommonPrefixes: [...prefixes].map((one) => ({ Prefix: one })),
      },
    };
  }

  private async read(request: IncomingMessage, response: ServerResponse, key: string): Promise<void> {
    const one = this.get(key);
    const { flippedIn, unreadableIn } = this.faults;
    if (one.cold && (one.thawedAt === null || one.thawedAt > Date.now())) throw new Refusal(403, 'InvalidObjectState');
    if (unreadableIn !== null && key.includes(unreadableIn)) throw new Refusal(500, 'InternalError');
    const asked = request.headers.range;
    const [first, last] = asked ? rangeOf(asked, one.size) : [0, one.size - 1];
    if (asked && first >= one.size) throw new Refusal(416, 'InvalidRange');
    response.writeHead(asked ? 206 : 200, {
      'content-length': Math.max(0, last - first + 1),
      etag: one.etag,
      ...(asked ? { 'content-range': `bytes ${first}-${last}/${one.size}` } : {}),
    });
    if (one.size === 0) return void response.end();
    const flips = flippedIn !== null && key.includes(flippedIn);
    await pipeline(createReadStream(this.place(one.file), { start: first, end: last }), flipping(flips), response);
  }

  /** Receives a body to a file; one that is not what was said of it is refused. */
  private async receive(request: IncomingMessage): Promise<{ file: string; etag: string; size: number }> {
    const file = randomUUID();
    const sum = createHash('md5');
    let crc = 0;
    let size = 0;
    const look = new Transform({
      transform(chunk: Buffer, _encoding, done) {
        sum.update(chunk);
        crc = crc32(chunk, crc);
        size += chunk.length;
        done(null, chunk);
      },
    });
    const target = new HoleWriter(await open(this.place(file), 'wx'), () => Promise.resolve());
    await pipeline(request, look, target);
    const said = request.headers['x-amz-checksum-crc32'];
    const own = Buffer.alloc(4);
    own.writeUInt32BE(crc);
    if (said !== undefined && said !== own.toString('base64')) {
      await rm(this.place(file));
      throw new Refusal(400, 'BadDigest');
    }
    return { file, etag: `"${sum.digest('hex')}"`, size };
  }

  private mayWrite(request: IncomingMessage, key: string): void {
    if (this.faults.full) throw new Refusal(507, 'InsufficientStorage');
    if (request.headers['if-none-match'] === '*' && this.at().has(key)) throw new Refusal(412, 'PreconditionFailed');
  }

  private async keep(one: Kept): Promise<void> {
    const before = this.at().get(one.key);
    this.at().set(one.key, one);
    const temporary = this.place(`${one.file}.new`);
    await writeFile(temporary, JSON.stringify(one));
    await rename(temporary, this.place(`${one.file}.json`));
    if (before && before.file !== one.file) await this.removeFile(before);
  }

  private async remove(key: string): Promise<void> {
    const one = this.at().get(key);
    if (!one) return;
    this.at().delete(key);
    await this.removeFile(one);
  }

  private async removeFile({ file }: Kept): Promise<void> {
    await rm(this.place(`${file}.json`), { force: true });
    await rm(this.place(file), { force: true });
  }

  private upload(url: URL) {
    const upload = this.uploads.get(url.searchParams.get('uploadId') ?? '');
    if (!upload) throw new Refusal(404, 'NoSuchUpload');
    return upload;
  }

  private async drop(url: URL): Promise<void> {
    for (const file of this.upload(url).parts.values()) await rm(this.place(file), { force: true });
    this.uploads.delete(url.searchParams.get('uploadId')!);
  }

  private get(key: string): Kept {
    const one = this.at().get(key);
    if (!one) throw new Refusal(404, 'NoSuchKey');
    return one;
  }

  private at(): Map<string, Kept> {
    return this.faults.swapped ? this.others : this.kept;
  }

  private readonly place = (file: string) => path.join(this.options.folder, file);
}

function nameOf(request: IncomingMessage, url: URL, key: string): string {
  const has = (name: string) => url.searchParams.has(name);
  const isCopy = request.headers['x-amz-copy-source'] !== undefined;
  switch (request.method) {
    case 'GET':
      return key === '' ? 'list' : 'get';
    case 'HEAD':
      return 'head';
    case 'PUT':
      if (has('partNumber')) return isCopy ? 'part of' : 'part';
      return isCopy ? 'copy' : 'put';
    case 'DELETE':
      return has('uploadId') ? 'abort' : 'remove';
    case 'POST':
      return has('delete') ? 'remove many' : has('uploads') ? 'begin' : has('restore') ? 'thaw' : 'complete';
    default:
      return '';
  }
}

const send = (response: ServerResponse, body: object) =>
  void response.writeHead(200, { 'content-type': 'application/xml' }).end(xml.build(body));

const isCold = (request: IncomingMessage) => /GLACIER|DEEP/.test(String(request.headers['x-amz-storage-class'] ?? ''));

function sourceOf(request: IncomingMessage): string {
  const [, ...key] = decodeURIComponent(String(request.headers['x-amz-copy-source']).replace(/^\//, '')).split('/');
  return key.join('/');
}

function rangeOf(text: string, size: number): [first: number, last: number] {
  const [, first, last] = /^bytes=(\d+)-(\d*)$/.exec(text) ?? [];
  return [Number(first ?? 0), Math.min(last ? Number(last) : Infinity, size - 1)];
}

const restoreStatus = (thawedAt: number) =>
  thawedAt > Date.now()
    ? { IsRestoreInProgress: true }
    : { IsRestoreInProgress: false, RestoreExpiryDate: new Date(thawedAt + 14 * 86_400_000).toISOString() };

const thawHeaders = (one: Kept): Record<string, string> =>
  one.cold
    ? {
        'x-amz-storage-class': 'GLACIER',
        ...(one.thawedAt === null
          ? {}
          : { 'x-amz-restore': `ongoing-request="${one.thawedAt > Date.now() ? 'true' : 'false'}"` }),
      }
    : {};

const bytewise = (a: string, b: string) => Buffer.compare(Buffer.from(a), Buffer.from(b));

/** Turns the lowest bit of the first byte that passes. */
function flipping(on: boolean): Transform {
  let done = !on;
  return new Transform({
    transform(chunk: Buffer, _encoding, next) {
      if (done || chunk.length === 0) return next(null, chunk);
      done = true;
      const turned = Buffer.from(chunk);
      turned[0]! ^= 1;
      next(null, turned);
    },
  });
}
