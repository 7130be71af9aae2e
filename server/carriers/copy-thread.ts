// Moves bytes between disks and carriers inside a worker thread: one reading of the source for all sums and all carriers.
// Source of sums: SHA-512 (FIPS 180-4); XXH64 as media hash lists have it.
import { createHash } from 'node:crypto';
import { fstatSync, fsyncSync, read } from 'node:fs';
import type { Writable } from 'node:stream';
import { finished } from 'node:stream/promises';
import { setTimeout as sleep } from 'node:timers/promises';
import { promisify } from 'node:util';
import { Xxh64 } from '@node-rs/xxhash';
import { cutFile, type Frames, type Recipe, type Wanted } from '#core/essence/cut/cut.ts';
import type { Expectation } from '#core/model.ts';
import { Pace } from '#core/nights/pace.ts';
import { fileSource } from '#disk/documents/essence-source.ts';
import { giveMemory, STRETCH, takeMemory } from '#disk/content/page-memory.ts';
import { codeOf, type FileFacts, factsOf, isUnchanged } from '#disk/facts.ts';
import { type Asked, serve } from '#disk/threads/serve.ts';
import { HoleWriter } from './disk/hole-writer.ts';
import { openHandle } from './open-handle.ts';
import { type CarrierPlace, openCarrier } from './kinds.ts';
import type { Carrier, Pack } from './kind.ts';

export interface To {
  carrier: CarrierPlace;
  pack: Pack;
  at: string;
}

export interface FileOn {
  carrier: CarrierPlace;
  of: string;
  at: string;
}

export type CopyRequest =
  /** An open file to carriers, or a range of its frames. */
  | { do: 'write'; from: number; expected: Expectation; part: Wanted | null; to: readonly To[]; mostPerSecond?: number }
  /** What a range of an open file's frames will weigh. Nothing is written. */
  | { do: 'measure'; from: number; expected: Expectation; part: Wanted }
  /** A range of an open file's frames to another open, empty file. */
  | { do: 'cut'; from: number; expected: Expectation; part: Wanted; to: number }
  /** A file of a carrier to another. */
  | { do: 'copy'; from: FileOn; sizeBytes: number; modifiedMs: number; to: To }
  /** A small text to one carrier. */
  | { do: 'write text'; text: string; to: To }
  /** Reads back, from the medium; `also`: sums that lists of others have, beside our own. */
  | { do: 'sum'; carrier: CarrierPlace; of: Pack | string; at: string; strong: boolean; also?: readonly OtherSum[] }
  /** A file of a carrier to an open, empty file. */
  | { do: 'read'; carrier: CarrierPlace; of: string; at: string; to: number; strong: boolean };

export type OtherSum = 'md5' | 'sha1' | 'sha256';

export interface CopyResult {
  sizeBytes: number;
  xxh64: string;
  /** Empty where only the fast sum was asked for: SHA-512 reads at a tenth of a disk's speed. */
  sha512: string;
  /** Of a part: the frames that it really has. */
  part?: Frames;
  also?: Partial<Record<OtherSum, string>>;
}

serve<CopyRequest, CopyResult>(async (asked) => {
  const { request } = asked;
  switch (request.do) {
    case 'write':
      return writeFile(asked, request);
    case 'measure': {
      const { sizeBytes, frames } = recipeOf(request.from, unchanged(request.from, request.expected), request.part);
      return { sizeBytes, xxh64: '', sha512: '', part: frames };
    }
    case 'cut': {
      const before = unchanged(request.from, request.expected);
      const { frames, pieces } = recipeOf(request.from, before, request.part);
      const target = new HoleWriter(openHandle(request.to), async () => fsyncSync(request.to));
      return { ...(await pump(bytesOf(request.from, pieces), [target], asked)), part: frames };
    }
    case 'copy':
      return copyFile(asked, request);
    case 'write text': {
      const carrier = await openCarrier(request.to.carrier);
      const text = Buffer.from(request.text, 'utf8');
      try {
        const facts = { sizeBytes: text.length, modifiedMs: Date.now() };
        return await pump([text], [await carrier.write(request.to.pack, request.to.at, facts)], asked);
      } finally {
        await carrier.close();
      }
    }
    case 'sum': {
      const carrier = await openCarrier(request.carrier);
      try {
        return await pump(await passingOf(carrier, request), [], asked);
      } finally {
        await carrier.close();
      }
    }
    case 'read': {
      const carrier = await openCarrier(request.carrier);
      try {
        const target = new HoleWriter(openHandle(request.to), async () => fsyncSync(request.to));
        return await pump(await passingOf(carrier, request), [target], asked);
      } finally {
        await carrier.close();
      }
    }
  }
});

const passingOf = async (carrier: Carrier, { of, at }: { of: Pack | string; at: string }) =>
  (await carrier.passing?.(of, at)) ?? ((await carrier.read(of, at)) as AsyncIterable<Buffer>);

async function writeFile(
  asked: Asked<CopyRequest>,
  { from, expected, part, to }: Extract<CopyRequest, { do: 'write' }>,
): Promise<CopyResult> {
  const before = unchanged(from, expected);
  const cut = part ? recipeOf(from, before, part) : null;
  const facts = { sizeBytes: cut?.sizeBytes ?? before.sizeBytes, modifiedMs: before.modifiedUs / 1000 };
  const carriers: Carrier[] = [];
  const streams: Writable[] = [];
  try {
    for (const target of to) {
      const carrier = await openCarrier(target.carrier);
      carriers.push(carrier);
      streams.push(await carrier.write(target.pack, target.at, facts));
    }
    const source = bytesOf(from, cut ? cut.pieces : WHOLE);
    // Nothing gets its name before it is known that the source stayed the same: streams end after this look.
    const beforeEnd = (sizeBytes: number) => {
      const after = fstatSync(from);
      if (!isUnchanged(factsOf(after), before) || sizeBytes !== (cut ? cut.sizeBytes : after.size))
        throw trouble('The file changed while it was read.', 'changed');
    };
    const result = await pump(source, streams, asked, beforeEnd);
    return cut ? { ...result, part: cut.frames } : result;
  } finally {
    for (const stream of streams) stream.destroy();
    for (const carrier of carriers) await carrier.close();
  }
}

/** Nothing gets its name before it is known that all of it came. What the source says is told apart from what the target says. */
async function copyFile(
  asked: Asked<CopyRequest>,
  { from, to, sizeBytes, modifiedMs }: Extract<CopyRequest, { do: 'copy' }>,
): Promise<CopyResult> {
  const [source, target] = [await openCarrier(from.carrier), await openCarrier(to.carrier)];
  try {
    const bytes = ofCarrier(source, from);
    const stream = await target.write(to.pack, to.at, { sizeBytes, modifiedMs });
    const beforeEnd = (read: number) => {
      if (read !== sizeBytes) throw trouble(`${from.at} has another size than was sealed.`, 'source_damaged');
    };
    return await pump(bytes, [stream], asked, beforeEnd);
  } finally {
    await source.close();
    await target.close();
  }
}

async function* ofCarrier(carrier: Carrier, { of, at }: FileOn): AsyncGenerator<Buffer> {
  try {
    yield* await passingOf(carrier, { of, at });
  } catch (error) {
    const code = codeOf(error);
    throw code === 'carrier_away' ? error : trouble(`${at} cannot be read (${code}).`, 'source_damaged');
  }
}

function unchanged(from: number, expected: Expectation): FileFacts {
  const before = fstatSync(from);
  if (!before.isFile()) throw trouble('It is not a plain file.', 'not a file');
  if (!isUnchanged(factsOf(before), expected)) throw trouble('The file changed after it was chosen.', 'changed');
  return factsOf(before);
}

/** The same of the same file, whenever it is asked. */
function recipeOf(from: number, { sizeBytes }: FileFacts, part: Wanted) {
  try {
    return cutFile(fileSource(from, sizeBytes), part);
  } catch (error) {
    throw codeOf(error) === 'EIO' ? unreadable() : error;
  }
}

/** All there is, however much that is by then. */
const WHOLE: Recipe['pieces'] = [{ at: 0, length: Infinity }];

/**
 * A source piece by piece; what its disk says is told apart from what a carrier says. A stream would close the file with
 * itself wherever it is left, and the file is its opener's, which may have given its number away by then.
 */
async function* bytesOf(from: number, pieces: Recipe['pieces']): AsyncGenerator<Buffer> {
  for (const piece of pieces)
    if ('bytes' in piece) yield Buffer.from(piece.bytes);
    else yield* stretchesOf(from, piece);
}

/** Reads on while what was read is written; each piece is good until the next is asked for. */
async function* stretchesOf(from: number, { at, length }: { at: number; length: number }): AsyncGenerator<Buffer> {
  const memory = [takeMemory(), takeMemory()];
  let turn = 0;
  const readFrom = (done: number) => {
    turn = 1 - turn;
    return readAt(from, at + done, memory[turn]!.subarray(0, Math.min(STRETCH, length - done)));
  };
  let next = readFrom(0);
  try {
    for (let done = 0; ;) {
      const bytes = await next;
      done += bytes.length;
      const isEnd = bytes.length === 0 || done >= length;
      if (bytes.length === 0 && length !== Infinity)
        throw trouble('The file became shorter while it was read.', 'changed');
      if (!isEnd) next = readFrom(done);
      if (bytes.length > 0) yield bytes;
      if (isEnd) return;
    }
  } finally {
    // Nothing is read any more from a file that its opener is about to close, nor into memory that is another's.
    await next.catch(() => undefined);
    giveMemory(...memory);
  }
}

const readAsync = promisify(read);

async function readAt(from: number, at: number, into: Buffer): Promise<Buffer> {
  try {
    const { bytesRead } = await readAsync(from, into, 0, into.length, at);
    return into.subarray(0, bytesRead);
  } catch {
    throw unreadable();
  }
}

async function pump(
  source: AsyncIterable<Buffer> | Iterable<Buffer>,
  targets: readonly Writable[],
  asked: Asked<CopyRequest>,
  beforeEnd?: (sizeBytes: number) => void,
): Promise<CopyResult> {
  const { progress, stopped } = asked;
  const fast = new Xxh64();
  const strong = !('strong' in asked.request) || asked.request.strong ? createHash('sha512') : null;
  const others = 'also' in asked.request ? (asked.request.also ?? []) : [];
  const more = others.map((kind) => [kind, createHash(kind)] as const);
  const failures: Error[] = [];
  for (const target of targets) target.on('error', (error) => failures.push(error));
  const most = 'mostPerSecond' in asked.request ? asked.request.mostPerSecond : undefined;
  const pace = most ? new Pace(most, () => performance.now()) : null;
  let sizeBytes = 0;
  let told = 0;
  try {
    for await (const chunk of source) {
      if (pace) await waited(pace.after(chunk.length), stopped);
      if (stopped()) throw trouble('The work was stopped.', 'stopped');
      if (failures[0]) throw failures[0];
      // All write at once while it is summed and the next is read: after that its memory is used again.
      const written = targets.map((target) => wrote(target, chunk));
      fast.update(chunk);
      strong?.update(chunk);
      for (const [, hash] of more) hash.update(chunk);
      await Promise.all(written);
      sizeBytes += chunk.length;
      if (sizeBytes - told >= 16 << 20) {
        progress(sizeBytes - told);
        told = sizeBytes;
      }
    }
    if (failures[0]) throw failures[0];
    beforeEnd?.(sizeBytes);
    for (const target of targets) target.end();
    await Promise.all(targets.map((target) => finished(target)));
  } catch (error) {
    for (const target of targets) target.destroy();
    // Whoever opened a file closes it after this: nothing is written to it any more then.
    await Promise.allSettled(targets.map((target) => finished(target)));
    throw error;
  }
  if (sizeBytes > told) progress(sizeBytes - told);
  return {
    sizeBytes,
    xxh64: fast.digest().toString(16).padStart(16, '0'),
    sha512: strong?.digest('hex') ?? '',
    ...(more.length > 0 ? { also: Object.fromEntries(more.map(([kind, hash]) => [kind, hash.digest('hex')])) } : {}),
  };
}

const wrote = (target: Writable, chunk: Buffer): Promise<void> =>
  new Promise((resolve, reject) => target.write(chunk, (error) => (error ? reject(error) : resolve())));

/** In short stretches: who is told to stop does not wait for the end of it. */
async function waited(ms: number, stopped: () => boolean): Promise<void> {
  for (let left = ms; left > 1 && !stopped(); left -= 200) await sleep(Math.min(left, 200));
}

const unreadable = () => trouble('The file could not be read.', 'unreadable');
const trouble = (message: string, code: string) => Object.assign(new Error(message), { code });
