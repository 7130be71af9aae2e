// The calls of the common object-store protocol that the carrier makes, through its well-kept client, and what their errors
// mean: what is not there, what is not whole, what has to thaw, and everything else, which says nothing of what lies there.
import type { Readable } from 'node:stream';
import type { S3Client, StorageClass } from '@aws-sdk/client-s3';
import { CarrierAway } from '../kind.ts';

export interface StoreSettings {
  address: string;
  bucket: string;
  accessKey: string;
  secretKey: string;
  storageClass: string;
}

export interface Listed {
  key: string;
  sizeBytes: number;
  mark: string;
  /** It has to be asked for before it can be read; `isAsked`: somebody did. */
  isCold: boolean;
  isAsked: boolean;
}

/** More than this is copied on the store in pieces: the protocol copies no more at once. */
const MOST_AT_ONCE = 5e9;
const PIECE_OF_COPY = 1 << 30;
const DAYS_THAWED = 14;
const COLD = /GLACIER|DEEP|ARCHIVE/;

const MEANING: Record<string, string> = {
  NoSuchKey: 'ENOENT',
  NotFound: 'ENOENT',
  PreconditionFailed: 'EEXIST',
  ConditionalRequestConflict: 'EEXIST',
  InsufficientStorage: 'ENOSPC',
  QuotaExceeded: 'ENOSPC',
};

// The version is pinned with the runtime it was tried on; what it says of later ones is nothing for the log of a worker.
process.env.AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED ??= 'true';

const opened = new Map<string, Promise<Objects>>();

/** Loaded once a store is used: it is large, and most threads never need it. */
const protocol = () => import('@aws-sdk/client-s3');
type Protocol = Awaited<ReturnType<typeof protocol>>;

export class Objects {
  private constructor(
    private readonly settings: StoreSettings,
    private readonly client: S3Client,
    private readonly of: Protocol,
  ) {}

  /** The same for the same store: its connections are used again. */
  static async open(settings: StoreSettings): Promise<Objects> {
    const key = JSON.stringify(settings);
    const known = opened.get(key) ?? Objects.connect(settings);
    opened.set(key, known);
    return known;
  }

  private static async connect(settings: StoreSettings): Promise<Objects> {
    const of = await protocol();
    const client = new of.S3Client({
      endpoint: settings.address,
      // Stores that are no cloud's have no regions, and the protocol wants one all the same.
      region: 'auto',
      forcePathStyle: true,
      credentials: { accessKeyId: settings.accessKey, secretAccessKey: settings.secretKey },
      maxAttempts: 3,
      requestHandler: { connectionTimeout: 5_000, requestTimeout: 120_000 },
    });
    return new Objects(settings, client, of);
  }

  /** @param isNew throws EEXIST where there is something by that name */
  put(key: string, text: Uint8Array | string, isNew = false): Promise<void> {
    const Body = Buffer.from(text as string);
    const asked = { ...this.at(key), Body, ContentLength: Body.length, ...(isNew ? { IfNoneMatch: '*' } : {}) };
    return this.ask(async () => void (await this.client.send(new this.of.PutObjectCommand(asked))));
  }

  async text(key: string): Promise<string | null> {
    try {
      const chunks: Buffer[] = [];
      for await (const chunk of (await this.read(key)) as AsyncIterable<Buffer>) chunks.push(chunk);
      return Buffer.concat(chunks).toString('utf8');
    } catch (error) {
      if ((error as { code?: string }).code === 'ENOENT') return null;
      throw error;
    }
  }

  async read(key: string, range?: { at: number; length: number }): Promise<AsyncIterable<Buffer>> {
    if (range && range.length <= 0) return nothing();
    const Range = range && `bytes=${range.at}-${range.length === Infinity ? '' : range.at + range.length - 1}`;
    const { Body } = await this.ask(() => this.client.send(new this.of.GetObjectCommand({ ...this.at(key), Range })));
    return this.chunks(Body as Readable);
  }

  async look(key: string): Promise<{ sizeBytes: number; mark: string } | null> {
    try {
      const head = await this.ask(() => this.client.send(new this.of.HeadObjectCommand(this.at(key))));
      return { sizeBytes: head.ContentLength ?? 0, mark: head.ETag ?? '' };
    } catch (error) {
      if ((error as { code?: string }).code === 'ENOENT') return null;
      throw error;
    }
  }

  async *list(prefix: string, most?: number): AsyncGenerator<Listed> {
    for (let token: string | undefined; ;) {
      const page = await this.ask(() =>
        this.client.send(
          new this.of.ListObjectsV2Command({
            Bucket: this.settings.bucket,
            Prefix: prefix,
            ContinuationToken: token,
            MaxKeys: most,
            OptionalObjectAttributes: ['RestoreStatus'],
          }),
        ),
      );
      for (const one of page.Contents ?? []) {
        const isCold = COLD.test(one.StorageClass ?? '');
        const { IsRestoreInProgress: inProgress, RestoreExpiryDate: until } = one.RestoreStatus ?? {};
        yield {
          ...{ key: one.Key!, sizeBytes: one.Size ?? 0, mark: one.ETag ?? '' },
          ...{ isCold: isCold && (inProgress === true || until === undefined), isAsked: inProgress === true },
        };
      }
      if (!page.IsTruncated) return;
      token = page.NextContinuationToken;
    }
  }

  /** What follows a prefix up to the next slash. */
  async folders(prefix: string): Promise<string[]> {
    const found: string[] = [];
    for (let token: string | undefined; ;) {
      const page = await this.ask(() =>
        this.client.send(
          new this.of.ListObjectsV2Command({
            ...{ Bucket: this.settings.bucket, Prefix: prefix, Delimiter: '/', ContinuationToken: token },
          }),
        ),
      );
      for (const one of page.CommonPrefixes ?? []) found.push(one.Prefix!.slice(prefix.length, -1));
      if (!page.IsTruncated) return found;
      token = page.NextContinuationToken;
    }
  }

  async isAny(prefix: string): Promise<boolean> {
    for await (const _ of this.list(prefix, 1)) return true;
    return false;
  }

  /** On the store itself: nothing comes here. `cold`: in the class that the house pays for. */
  async copy(from: Pick<Listed, 'key' | 'sizeBytes'>, to: string, cold: boolean): Promise<void> {
    const CopySource = `${this.settings.bucket}/${encodeURIComponent(from.key)}`;
    const kept = cold && this.settings.storageClass !== '' ? this.settings.storageClass : undefined;
    const StorageClass = kept as StorageClass | undefined;
    if (from.sizeBytes < MOST_AT_ONCE) {
      await this.ask(() =>
        this.client.send(new this.of.CopyObjectCommand({ ...this.at(to), CopySource, StorageClass })),
      );
      return;
    }
    const upload = await this.begin(to, StorageClass);
    const parts = [];
    for (let at = 0, PartNumber = 1; at < from.sizeBytes; at += PIECE_OF_COPY, PartNumber++) {
      const CopySourceRange = `bytes=${at}-${Math.min(at + PIECE_OF_COPY, from.sizeBytes) - 1}`;
      const { CopyPartResult: part } = await this.ask(() =>
        this.client.send(
          new this.of.UploadPartCopyCommand({
            ...this.at(to),
            UploadId: upload,
            PartNumber,
            CopySource,
            CopySourceRange,
          }),
        ),
      );
      parts.push({ PartNumber, ETag: part?.ETag });
    }
    await this.complete(to, upload, parts);
  }

  async begin(key: string, StorageClass?: StorageClass): Promise<string> {
    const begun = await this.ask(() =>
      this.client.send(new this.of.CreateMultipartUploadCommand({ ...this.at(key), StorageClass })),
    );
    return begun.UploadId!;
  }

  async part(key: string, UploadId: string, PartNumber: number, Body: Uint8Array) {
    const { ETag } = await this.ask(() =>
      this.client.send(new this.of.UploadPartCommand({ ...this.at(key), UploadId, PartNumber, Body })),
    );
    return { PartNumber, ETag };
  }

  async complete(key: string, UploadId: string, Parts: { PartNumber: number; ETag?: string }[]): Promise<void> {
    await this.ask(() =>
      this.client.send(
        new this.of.CompleteMultipartUploadCommand({ ...this.at(key), UploadId, MultipartUpload: { Parts } }),
      ),
    );
  }

  async abort(key: string, UploadId: string): Promise<void> {
    await this.ask(() => this.client.send(new this.of.AbortMultipartUploadCommand({ ...this.at(key), UploadId })));
  }

  async remove(keys: readonly string[]): Promise<void> {
    for (let at = 0; at < keys.length; at += 1000) {
      const some = keys.slice(at, at + 1000).map((Key) => ({ Key }));
      const Delete = { Objects: some, Quiet: true };
      await this.ask(() =>
        this.client.send(new this.of.DeleteObjectsCommand({ Bucket: this.settings.bucket, Delete })),
      );
    }
  }

  async thaw(key: string): Promise<void> {
    const RestoreRequest = { Days: DAYS_THAWED };
    await this.ask(() => this.client.send(new this.of.RestoreObjectCommand({ ...this.at(key), RestoreRequest })));
  }

  private at(key: string) {
    return { Bucket: this.settings.bucket, Key: key };
  }

  private async *chunks(body: Readable): AsyncGenerator<Buffer> {
    try {
      for await (const chunk of body as AsyncIterable<Buffer>) yield chunk;
    } catch (error) {
      throw this.meaning(error);
    }
  }

  private async ask<T>(call: () => Promise<T>): Promise<T> {
    try {
      return await call();
    } catch (error) {
      throw this.meaning(error);
    }
  }

  /** A store that does not answer, or says that it cannot, says nothing of what lies in it. */
  private meaning(error: unknown): Error {
    const { name = '', message = '' } = error as Error;
    const code = MEANING[name] ?? (/checksum mismatch/i.test(message) ? 'EIO' : null);
    if (code === null) return new CarrierAway(`${this.settings.bucket} at ${this.settings.address}`);
    return Object.assign(new Error(`${this.settings.bucket}: ${name || message}`), { code });
  }
}

async function* nothing(): AsyncGenerator<Buffer> {}
