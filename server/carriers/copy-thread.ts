// Moves bytes between disks and carriers inside a worker thread: one reading of the source for all sums and all carriers.
// Source of sums: SHA-512 (FIPS 180-4); XXH64 as media hash lists have it.
import { createHash } from 'node:crypto';
import { createReadStream, fstatSync, fsyncSync } from 'node:fs';
import { once } from 'node:events';
import type { Writable } from 'node:stream';
import { finished } from 'node:stream/promises';
import { Xxh64 } from '@node-rs/xxhash';
import type { Expectation } from '#core/model.ts';
import { factsOf, isUnchanged } from '#disk/facts.ts';
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

export type CopyRequest =
  /** An open file to carriers. */
  | { do: 'write'; from: number; expected: Expectation; to: readonly To[] }
  /** A small text to one carrier. */
  | { do: 'write text'; text: string; to: To }
  /** Reads back, from the medium. */
  | { do: 'sum'; carrier: CarrierPlace; of: Pack | string; at: string; strong: boolean }
  /** A file of a carrier to an open, empty file. */
  | { do: 'read'; carrier: CarrierPlace; of: string; at: string; to: number; strong: boolean };

export interface CopyResult {
  sizeBytes: number;
  xxh64: string;
  /** Empty where only the fast sum was asked for: SHA-512 reads at a tenth of a disk's speed. */
  sha512: string;
}

serve<CopyRequest, CopyResult>(async (asked) => {
  const { request } = asked;
  switch (request.do) {
    case 'write':
      return writeFile(asked, request);
    case 'write text': {
      const carrier = await openCarrier(request.to.carrier);
      try {
        const stream = await carrier.write(request.to.pack, request.to.at);
        return await pump([Buffer.from(request.text, 'utf8')], [stream], asked);
      } finally {
        await carrier.close();
      }
    }
    case 'sum': {
      const carrier = await openCarrier(request.carrier);
      try {
        return await pump(await carrier.read(request.of, request.at), [], asked);
      } finally {
        await carrier.close();
      }
    }
    case 'read': {
      const carrier = await openCarrier(request.carrier);
      try {
        const target = new HoleWriter(openHandle(request.to), async () => fsyncSync(request.to));
        return await pump(await carrier.read(request.of, request.at), [target], asked);
      } finally {
        await carrier.close();
      }
    }
  }
});

async function writeFile(
  asked: Asked<CopyRequest>,
  { from, expected, to }: Extract<CopyRequest, { do: 'write' }>,
): Promise<CopyResult> {
  const before = fstatSync(from);
  if (!before.isFile()) throw trouble('It is not a plain file.', 'not a file');
  if (!isUnchanged(factsOf(before), expected)) throw trouble('The file changed after it was chosen.', 'changed');
  const carriers: Carrier[] = [];
  const streams: Writable[] = [];
  try {
    for (const target of to) {
      const carrier = await openCarrier(target.carrier);
      carriers.push(carrier);
      streams.push(await carrier.write(target.pack, target.at));
    }
    const source = createReadStream('', { fd: from, start: 0, autoClose: false, highWaterMark: 4 << 20 });
    // Nothing gets its name before it is known that the source stayed the same: streams end after this look.
    return await pump(source, streams, asked, (sizeBytes) => {
      const after = fstatSync(from);
      if (!isUnchanged(factsOf(after), factsOf(before)) || sizeBytes !== after.size)
        throw trouble('The file changed while it was read.', 'changed');
    });
  } finally {
    for (const stream of streams) stream.destroy();
    for (const carrier of carriers) await carrier.close();
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
  const failed = targets.map((target) => once(target, 'error').then(([error]) => Promise.reject(error as Error)));
  for (const failure of failed) failure.catch(() => undefined);
  let sizeBytes = 0;
  let told = 0;
  try {
    for await (const chunk of source) {
      if (stopped()) throw trouble('The work was stopped.', 'stopped');
      fast.update(chunk);
      strong?.update(chunk);
      for (const target of targets) if (!target.write(chunk)) await Promise.race([once(target, 'drain'), ...failed]);
      sizeBytes += chunk.length;
      if (sizeBytes - told >= 16 << 20) {
        progress(sizeBytes - told);
        told = sizeBytes;
      }
    }
    beforeEnd?.(sizeBytes);
    for (const target of targets) target.end();
    await Promise.all(targets.map((target) => finished(target)));
  } catch (error) {
    for (const target of targets) target.destroy();
    throw error;
  }
  if (sizeBytes > told) progress(sizeBytes - told);
  return {
    sizeBytes,
    xxh64: fast.digest().toString(16).padStart(16, '0'),
    sha512: strong?.digest('hex') ?? '',
  };
}

const trouble = (message: string, code: string) => Object.assign(new Error(message), { code });
