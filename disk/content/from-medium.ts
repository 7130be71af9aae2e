// A file's bytes from its medium, not from what the system's memory still has of them: around it (O_DIRECT, open(2)) where the
// file system can; elsewhere memory is asked to forget the file first. Called where copies are read back.
import { constants } from 'node:fs';
import { type FileHandle, open } from 'node:fs/promises';
import { Readable } from 'node:stream';
import { codeOf } from '../facts.ts';
import { dropFromMemory } from './content.ts';
import { BLOCK, giveMemory, STRETCH, takeMemory } from './page-memory.ts';

/** Handed on in pieces short enough that their memory is used again for later ones. */
const PIECE = 256 << 10;
const PLAIN = constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK;

interface Range {
  at: number;
  length: number;
}

/** A stream, whose pieces are whoever's reads it. Throws the system's code, or 'not a file'. */
export async function fromMedium(place: string, range?: Range): Promise<Readable> {
  return Readable.from(copied(await passingFromMedium(place, range)), { objectMode: false, highWaterMark: 1 });
}

/**
 * Long pieces, each of which is good until the next is asked for: then its memory is used again. For whoever sums or writes one
 * piece before the next. Throws as `fromMedium`.
 */
export async function passingFromMedium(
  place: string,
  range: Range = { at: 0, length: Infinity },
): Promise<AsyncIterable<Buffer>> {
  const handle = await opened(place);
  if (!(await handle.stat()).isFile()) {
    await handle.close();
    throw Object.assign(new Error('It is no plain file.'), { code: 'not a file' });
  }
  return stretches(handle, place, range);
}

async function* copied(all: AsyncIterable<Buffer>): AsyncGenerator<Buffer> {
  for await (const stretch of all)
    for (let i = 0; i < stretch.length; i += PIECE) yield Buffer.from(stretch.subarray(i, i + PIECE));
}

async function opened(place: string): Promise<FileHandle> {
  try {
    return await open(place, PLAIN | constants.O_DIRECT);
  } catch (error) {
    if (codeOf(error) !== 'EINVAL') throw error;
    await dropFromMemory(place);
    return open(place, PLAIN);
  }
}

async function* stretches(first: FileHandle, place: string, { at, length }: Range): AsyncGenerator<Buffer> {
  let handle = first;
  // One is read while the other is used.
  const memory = [takeMemory(), takeMemory()];
  const readAt = async (from: number, into: Buffer): Promise<Buffer> => {
    try {
      return into.subarray(0, (await handle.read(into, 0, STRETCH, from)).bytesRead);
    } catch (error) {
      // Some file systems say so only when they are asked to read.
      if (codeOf(error) !== 'EINVAL' || handle !== first) throw error;
      await dropFromMemory(place);
      handle = await open(place, PLAIN);
      return into.subarray(0, (await handle.read(into, 0, STRETCH, from)).bytesRead);
    }
  };
  const end = at + length;
  const begin = Math.floor(at / BLOCK) * BLOCK;
  let next: Promise<Buffer> | null = begin < end ? readAt(begin, memory[0]!) : null;
  try {
    for (let from = begin, turn = 1; next; turn = 1 - turn) {
      const got = await next;
      const until = from + got.length;
      const isEnd = got.length < STRETCH || until >= end;
      next = isEnd ? null : readAt(until, memory[turn]!);
      const [skip, stop] = [Math.max(0, at - from), Math.min(got.length, end - from)];
      if (skip < stop) yield got.subarray(skip, stop);
      from = until;
    }
  } finally {
    await next?.catch(() => undefined);
    giveMemory(...memory);
    await first.close();
    if (handle !== first) await handle.close();
  }
}
