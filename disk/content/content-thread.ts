// Copies and hashes whole files inside a worker thread: one reading for all sums, blocks of zeros left as holes, the
// source looked at again afterwards. Both files come open: which they are was settled by whoever opened them. Source of
// sums: SHA-512 (FIPS 180-4); XXH64 as media hash lists have it and as `xxhsum -H1` prints it.
import { createHash } from 'node:crypto';
import { fstatSync, fsyncSync, ftruncateSync, readSync, type Stats, writeSync } from 'node:fs';
import { Xxh64, xxh64 } from '@node-rs/xxhash';
import type { Expectation } from '#core/model.ts';
import { factsOf, isUnchanged } from '../facts.ts';
import { type Asked, serve } from '../threads/serve.ts';

export interface ContentRequest {
  /** Number of the open file to read. */
  from: number;
  /** Number of an open, empty file to copy to; left out to hash only. */
  to?: number;
  /** What the source must be, before and after. */
  expected?: Expectation;
  sha512: boolean;
}

/** XXH64 of many open files in one question: of their ends, or of their whole. Left null where one cannot be read. */
export interface ManyRequest {
  sums: 'ends' | 'whole';
  files: { from: number; expected: Expectation }[];
}

export interface ContentResult {
  sizeBytes: number;
  xxh64: string;
  sha512: string | null;
  /** Answers of a ManyRequest, in its order. */
  many?: (string | null)[];
}

/** Bytes of each end; a file of twice as many is summed whole by its ends. */
const END = 16 << 10;

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

serve<ContentRequest | ManyRequest, ContentResult>((asked) => {
  const { request } = asked;
  if ('files' in request) return sumMany({ ...asked, request });
  return sumOne({ ...asked, request });
});

function sumOne(asked: Asked<ContentRequest>): ContentResult {
  const { from, to } = asked.request;
  const before = fstatSync(from);
  refuseUnlessExpected(before, asked.request);
  const isSmall = before.size < BLOCK && to === undefined && !asked.request.sha512;
  const result = isSmall ? readAtOnce(from, asked) : pump(from, to ?? null, asked);
  if (to !== undefined) {
    ftruncateSync(to, result.sizeBytes);
    fsyncSync(to);
  }
  const after = fstatSync(from);
  if (!isUnchanged(factsOf(after), factsOf(before)) || result.sizeBytes !== after.size)
    throw new ContentError('The file changed while it was read.', 'changed');
  return result;
}

function sumMany({ request: { sums, files }, ...asked }: Asked<ManyRequest>): ContentResult {
  const many = files.map(({ from, expected }) => {
    if (asked.stopped()) throw new ContentError('The work was stopped.', 'stopped');
    try {
      if (sums === 'ends') return endsOf(from, expected);
      return sumOne({ ...asked, request: { from, expected, sha512: false } }).xxh64;
    } catch (error) {
      if ((error as { code?: string }).code === 'stopped') throw error;
      return null;
    }
  });
  return { sizeBytes: 0, xxh64: '', sha512: null, many };
}

function endsOf(from: number, expected: Expectation): string {
  const stats = fstatSync(from);
  refuseUnlessExpected(stats, { from, expected, sha512: false });
  const sum = new Xxh64();
  sum.update(block.subarray(0, readSync(from, block, 0, END, 0)));
  if (stats.size > END) sum.update(block.subarray(0, readSync(from, block, 0, END, Math.max(END, stats.size - END))));
  return hex64(sum.digest());
}

function refuseUnlessExpected(stats: Stats, { expected }: ContentRequest) {
  if (!stats.isFile()) throw new ContentError('It is not a plain file.', 'not a file');
  if (expected && !isUnchanged(factsOf(stats), expected))
    throw new ContentError('The file changed after it was chosen.', 'changed');
}

/** Of a small file that is only summed: one call for its bytes, one for their sum. What it has more by now shows in its size afterwards. */
function readAtOnce(from: number, { progress }: Asked<ContentRequest>): ContentResult {
  const length = readSync(from, block, 0, BLOCK, 0);
  if (length > 0) progress(length);
  return { sizeBytes: length, xxh64: hex64(xxh64(block.subarray(0, length))), sha512: null };
}

function pump(from: number, to: number | null, { request, progress, stopped }: Asked<ContentRequest>): ContentResult {
  const fast = new Xxh64();
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
  return { sizeBytes: at, xxh64: hex64(fast.digest()), sha512: strong?.digest('hex') ?? null };
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

const hex64 = (digest: bigint) => digest.toString(16).padStart(16, '0');
