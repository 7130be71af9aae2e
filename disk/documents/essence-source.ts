// A file on disk as a source of bytes for the readers of its structure: pieces are read as they are asked for, a few
// kept, so that a walk over small heads costs few reads.
import { closeSync, constants, fstatSync, openSync, readSync } from 'node:fs';
import { xxh3 } from '@node-rs/xxhash';
import type { ByteSource } from '#core/essence/bytes.ts';
import { type EssenceReading, readEssence } from '#core/essence/essence.ts';
import { probe, worthAProbe } from './probe.ts';
import { factsOf } from '../facts.ts';

const PAGE = 64 << 10;
const PAGES_KEPT = 16;

export interface EssenceResponse {
  sizeBytes: number;
  modifiedUs: number;
  /** XXH3-128 of its size and of 64 KiB at its beginning, its middle and its end: tells files apart, proves nothing. */
  fingerprint: string | null;
  reading: EssenceReading;
}

/** Reads what a file's own structure says. Throws what the disk says where it cannot be opened. */
export function essenceOf(path: string | Uint8Array): EssenceResponse {
  const fd = openSync(
    typeof path === 'string' ? path : Buffer.from(path),
    constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK,
  );
  try {
    const facts = factsOf(fstatSync(fd));
    const source = fileSource(fd, facts.sizeBytes);
    const reading = readEssence(source);
    const fingerprint = fingerprintOf(source);
    const name = typeof path === 'string' ? path : Buffer.from(path).toString('latin1');
    const isOther =
      (!reading.ok && reading.trouble.code === 'not_known' && worthAProbe(name)) || /\.(heic|heif)$/i.test(name);
    // The very file that is open, whatever its name leads to by then.
    const place = `/proc/${process.pid}/fd/${fd}`;
    return { ...facts, fingerprint, reading: isOther ? probe(place, Buffer.from(source.read(0, 200))) : reading };
  } finally {
    closeSync(fd);
  }
}

function fingerprintOf(source: ByteSource): string {
  const hash = xxh3.Xxh3.withSeed(0n);
  hash.update(`${source.size}\n`);
  const last = Math.max(0, source.size - PAGE);
  for (const at of new Set([0, Math.floor(last / 2), last])) hash.update(source.read(at, PAGE));
  return hash.digest().toString(16).padStart(32, '0');
}

/** An open file, a piece at a time. */
export function fileSource(fd: number, size: number): ByteSource {
  const pages = new Map<number, Buffer>();
  const bytesAt = (at: number, length: number): Buffer => {
    const bytes = Buffer.allocUnsafe(Math.max(0, Math.min(length, size - at)));
    let got = 0;
    while (got < bytes.length) {
      const n = readSync(fd, bytes, got, bytes.length - got, at + got);
      if (n === 0) break;
      got += n;
    }
    return bytes.subarray(0, got);
  };
  const page = (number: number): Buffer => {
    const known = pages.get(number);
    if (known) return known;
    const [oldest] = pages.keys();
    if (pages.size >= PAGES_KEPT && oldest !== undefined) pages.delete(oldest);
    const bytes = bytesAt(number * PAGE, PAGE);
    pages.set(number, bytes);
    return bytes;
  };
  return {
    size,
    read(at, length) {
      const number = Math.floor(at / PAGE);
      if (length > PAGE || Math.floor((at + length - 1) / PAGE) !== number) return bytesAt(at, length);
      const from = at - number * PAGE;
      return page(number).subarray(from, from + length);
    },
  };
}
