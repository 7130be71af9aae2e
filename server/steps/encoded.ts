// Media that goes into a package encoded anew. It is made before anything is written, in a folder of this machine that only this work
// has, so that its size is known; what cannot be encoded, or does not decode to the same, goes in as it is, and why is kept with it. What is
// there of it when the work goes on is not made again.
import { and, eq, inArray } from 'drizzle-orm';
import { type Encoding, encodingWork } from '#core/archive/encoding.ts';
import type { Expectation } from '#core/model.ts';
import { size } from '#core/wording/amounts.ts';
import { CannotEncode, encode, estimateEncoded, heldOpen } from '#disk/encode.ts';
import { sumFile } from '#disk/content/content.ts';
import type { FileFacts } from '#disk/facts.ts';
import { ScratchFolder, scratchFreeBytes, scratchMarks, scratchPlace } from '#disk/scratch.ts';
import type { ArchiveFile } from '../archives/bag.ts';
import { essenceOf } from '../archives/encodings.ts';
import { addEncodingPace } from '../archives/rates.ts';
import { ofSource } from '../carriers/copying.ts';
import type { Database } from '../db/connect.ts';
import { archiveFiles } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import type { JobContext } from '../runtime/context.ts';
import { Refused } from '../runtime/refused.ts';

type Source = Expectation & Pick<ArchiveFile, 'fileId' | 'volumeId' | 'path' | 'rawPath'>;

async function placeOf(context: JobContext, source: Source): Promise<string | Buffer> {
  const root = await context.root(source.volumeId);
  if (!root) throw Object.assign(new Error('Its volume cannot be reached.'), { code: 'unreachable' });
  return ofSource(() => root.place(source));
}

/** About how many bytes it will be; why it cannot be made, in words. Throws what the disk says. */
export async function triedEncoding(context: JobContext, source: Source, encoding: Encoding): Promise<number | string> {
  const place = await placeOf(context, source);
  try {
    return await held(place, source, (media) => estimateEncoded({ media, encoding, isToEnd: () => context.isToEnd }));
  } catch (error) {
    context.check();
    if (error instanceof CannotEncode) return error.message;
    throw error;
  }
}

/** What the system says of opening it becomes a word for what is held. */
async function held<T>(place: string | Buffer, source: Source, use: (media: string) => Promise<T>): Promise<T> {
  try {
    return await heldOpen(place, source, use);
  } catch (error) {
    return ofSource(() => {
      throw error;
    });
  }
}

/** Of a row of the archive: the file as it was, with its own size. */
const sourceOf = (file: ArchiveFile): Source => ({ ...file, sizeBytes: file.ofBytes! });

const nameOf = ({ fileId, encoding }: ArchiveFile): string => `${fileId}-${encoding}`;

const scratchOf = ({ job }: JobContext): ScratchFolder => new ScratchFolder(job.mark);

interface Making {
  archiveId: number;
  /** It cannot go in at all: says why, and whether the work goes on without it. */
  fail: (error: unknown, file: ArchiveFile) => Promise<void>;
  /** It goes in as it is. */
  asItIs: (file: ArchiveFile, why: string) => Promise<void>;
}

/** Makes what is not made yet of an archive. False where nothing was to do. */
export async function makeEncoded(context: JobContext, { archiveId, fail, asItIs }: Making): Promise<boolean> {
  const rows = await context.db
    .select()
    .from(archiveFiles)
    .where(
      and(eq(archiveFiles.archiveId, archiveId), eq(archiveFiles.role, 'encoded'), eq(archiveFiles.measured, false)),
    )
    .orderBy(archiveFiles.id);
  if (rows.length === 0) return false;
  refuseTooLarge(rows);
  context.phase(
    'encoding anew',
    'bytes',
    rows.reduce((sum, file) => sum + file.ofBytes!, 0),
  );
  let before = 0;
  for (const file of rows) {
    await context.checkIn();
    try {
      const known = (await essenceOf(context.db, [file.fileId])).get(file.fileId) ?? null;
      const began = performance.now();
      const { sizeBytes } = await made(context, file, (part) => context.set(before + part * file.ofBytes!));
      const took = { work: encodingWork(known, file.ofBytes!), seconds: (performance.now() - began) / 1000 };
      const { xxh64 } = await sumOf(context, file);
      await context.transaction(async (tx) => {
        await tx.update(archiveFiles).set({ sizeBytes, xxh64, measured: true }).where(eq(archiveFiles.id, file.id));
        await addEncodingPace(tx, file.encoding!, took);
      });
    } catch (error) {
      context.check();
      if (error instanceof CannotEncode && !error.isRoom) await asItIs(file, error.message);
      else if (error instanceof CannotEncode) throw noRoom(file.sizeBytes);
      else await fail(error, file);
    }
    before += file.ofBytes!;
    context.set(before);
  }
  return true;
}

const noRoom = (bytes: number) =>
  new Refused(
    `There is no room left for what is encoded anew: about ${size(bytes)} is needed in ${scratchPlace()} of the machine that does it, and ${size(scratchFreeBytes())} is free. Nothing was sealed; the originals were not touched. Make room there, or start the worker with TMPDIR naming a folder that has it.`,
  );

function refuseTooLarge(rows: readonly ArchiveFile[]): void {
  const needed = rows.reduce((sum, file) => sum + file.sizeBytes, 0);
  if (needed > scratchFreeBytes()) throw noRoom(needed);
}

async function made(context: JobContext, file: ArchiveFile, onPart?: (part: number) => void): Promise<FileFacts> {
  const scratch = scratchOf(context);
  const name = nameOf(file);
  const source = sourceOf(file);
  const place = await placeOf(context, source);
  const known = (await essenceOf(context.db, [file.fileId])).get(file.fileId);
  await held(place, source, (media) =>
    encode({
      ...{ media, to: scratch.beginning(name), encoding: file.encoding!, onPart },
      frames: known && !known.isSound ? known.frames : null,
      isToEnd: () => context.isToEnd,
    }),
  );
  context.check();
  return scratch.made(name);
}

const sumOf = (context: JobContext, file: ArchiveFile) =>
  sumFile(context.pools.content, scratchOf(context).place(nameOf(file)), { sha512: false, stop: context.stop });

/** What this run made itself, or has looked through. */
const seen = new WeakMap<JobContext, Set<string>>();

/** It is what was proved: a machine that went down may have lost what it had not written to its disk yet. */
async function isAsProved(context: JobContext, file: ArchiveFile): Promise<boolean> {
  const names = seen.get(context) ?? new Set();
  seen.set(context, names);
  if (scratchOf(context).facts(nameOf(file))?.sizeBytes !== file.sizeBytes) return false;
  if (!names.has(nameOf(file)) && (await sumOf(context, file)).xxh64 !== file.xxh64) return false;
  names.add(nameOf(file));
  return true;
}

/** Where it lies now, and what it is there; made again where another machine goes on with the work. */
export async function encodedAt(context: JobContext, file: ArchiveFile): Promise<{ place: string; facts: FileFacts }> {
  const scratch = scratchOf(context);
  if (await isAsProved(context, file))
    return { place: scratch.place(nameOf(file)), facts: scratch.facts(nameOf(file))! };
  try {
    return { facts: await made(context, file), place: scratch.place(nameOf(file)) };
  } catch (error) {
    context.check();
    if (!(error instanceof CannotEncode)) throw error;
    if (error.isRoom) throw noRoom(file.sizeBytes);
    // It could be made before: then it is another file by now.
    throw Object.assign(error, { code: 'changed' });
  }
}

/** What work of this house left on this machine that ended on another, or without a word. Of others nothing is known, so theirs stays. */
export async function sweepEncoded(db: Database): Promise<void> {
  const marks = scratchMarks();
  if (marks.length === 0) return;
  const ended = await db
    .select({ mark: jobs.mark })
    .from(jobs)
    .where(and(inArray(jobs.mark, marks), inArray(jobs.state, ['done', 'failed', 'cancelled'])));
  for (const { mark } of ended) new ScratchFolder(mark).remove();
}

/** The work ended: nothing of it stays on this machine. */
export const dropEncoded = (context: JobContext): void => scratchOf(context).remove();
