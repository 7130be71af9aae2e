// Copies and hashes whole files inside a worker thread: one reading for all sums, blocks of zeros left as holes, the
// source looked at again afterwards. Source of sums: SHA-512 (FIPS 180-4), XXH3-128 as `xxhsum -H2` prints it.
import { createHash } from 'node:crypto';
import {
  closeSync,
  constants,
  fstatSync,
  fsyncSync,
  ftruncateSync,
  futimesSync,
  openSync,
  readSync,
  type Stats,
  unlinkSync,
  writeSync,
} from 'node:fs';
import { xxh3 } from '@node-rs/xxhash';
import type { Expectation } from '#core/model.ts';
import { expectationOf, sameFacts } from '../facts.ts';
import { type Asked, serve } from '../threads/serve.ts';

export interface ContentRequest {
  from: string | Uint8Array;
  /** Where to copy; left out to hash only. The file must not exist. */
  to?: string;
  /** What the source must be, before and after. */
  expected?: Expectation;
  sha512: boolean;
}

export interface ContentResult {
  sizeBytes: number;
  xxh128: string;
  sha512: string | null;
}

const BLOCK = 4 << 20;
const HOLE = 64 << 10;
const ZEROS = Buffer.alloc(HOLE);
const block = Buffer.allocUnsafeSlow(BLOCK);

class ContentError extends Error {
  constructor(
    message: string,
    readonly code: string,
    readonly facts: Record<string, unknown> = {},
  ) {
    super(message);
  }
}

serve<ContentRequest, ContentResult>((asked) => {
  const { request } = asked;
  const from = openSync(
    typeof request.from === 'string' ? request.from : Buffer.from(request.from),
    constants.O_RDONLY | constants.O_NOFOLLOW,
  );
  try {
    const before = fstatSync(from);
    refuseUnlessExpected(before, request);
    const result = request.to === undefined ? pump(from, null, asked) : copyTo(request.to, from, asked, before);
    const after = fstatSync(from);
    if (!sameFacts(expectationOf(before), expectationOf(after)) || result.sizeBytes !== after.size)
      throw new ContentError('The file changed while it was read.', 'changed');
    return result;
  } finally {
    closeSync(from);
  }
});

function refuseUnlessExpected(stats: Stats, request: ContentRequest) {
  if (!stats.isFile()) throw new ContentError('It is not a plain file.', 'not a file');
  if (request.expected && !sameFacts(expectationOf(stats), request.expected))
    throw new ContentError('The file changed after it was chosen.', 'changed');
}

function copyTo(target: string, from: number, asked: Asked<ContentRequest>, source: Stats): ContentResult {
  const to = openSync(target, 'wx', 0o644);
  try {
    const result = pump(from, to, asked);
    ftruncateSync(to, result.sizeBytes);
    futimesSync(to, source.mtimeMs / 1000, source.mtimeMs / 1000);
    fsyncSync(to);
    closeSync(to);
    return result;
  } catch (error) {
    closeSync(to);
    unlinkSync(target);
    throw error;
  }
}

function pump(from: number, to: number | null, { request, progress, stopped }: Asked<ContentRequest>): ContentResult {
  const fast = xxh3.Xxh3.withSeed(0n);
  const strong = request.sha512 ? createHash('sha512') : null;
  let at = 0;
  let told = 0;
  for (;;) {
    if (stopped()) throw new ContentError('The work was stopped.', 'stopped');
    const length = readSync(from, block, 0, BLOCK, at);
    if (length === 0) break;
    const part = block.subarray(0, length);
    fast.update(part);
    strong?.update(part);
    if (to !== null) writeWithHoles(to, part, at);
    at += length;
    if (at - told >= 4 * BLOCK) {
      progress(at - told);
      told = at;
    }
  }
  if (at > told) progress(at - told);
  return { sizeBytes: at, xxh128: hex128(fast.digest()), sha512: strong?.digest('hex') ?? null };
}

/** Writes all but the blocks of zeros, which read back as zeros all the same. */
function writeWithHoles(to: number, part: Buffer, at: number) {
  let start = 0;
  for (let i = 0; i < part.length; i += HOLE) {
    const length = Math.min(HOLE, part.length - i);
    if (part.compare(ZEROS, 0, length, i, i + length) !== 0) continue;
    writeAll(to, part.subarray(start, i), at + start);
    start = i + length;
  }
  writeAll(to, part.subarray(start), at + start);
}

function writeAll(to: number, part: Buffer, at: number) {
  for (let done = 0; done < part.length;) done += writeSync(to, part, done, part.length - done, at + done);
}

const hex128 = (digest: bigint) => digest.toString(16).padStart(32, '0');
