// Writing a package: a bag (RFC 8493) on one or more carriers, with one reading of every original. Each file is copied with its
// sums and read back from the medium of every carrier; documents are relinked inside; and only when everything read back does
// the bag get its name, carrier by carrier. A package is whole or it is not. The steps that archive and hand over run it.
import { and, eq, inArray, notInArray, sql } from 'drizzle-orm';
import { isDocumentPlace } from '#core/archive/selection.ts';
import { grouped } from '#core/grouped.ts';
import { HELD_WORDS } from '#core/plan/plan.ts';
import { counted } from '#core/wording/amounts.ts';
import { codeOf, isUnchanged, look } from '#disk/facts.ts';
import type { Held } from '#disk/remove.ts';
import { type ArchiveFile, payloadAt } from '../archives/bag.ts';
import { ofSource, writeToCarriers } from '../carriers/copying.ts';
import { isSequential } from '../carriers/kinds.ts';
import { isOneFile } from '../carriers/packers.ts';
import { archiveFiles, copyFiles } from '../db/schema/archives.ts';
import { stepItems, type steps } from '../db/schema/plans.ts';
import type { JobContext } from '../runtime/context.ts';
import { endingOf } from '../runtime/endings.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import type { Ending } from '../runtime/queue.ts';
import { ask, isLeftOut } from '../runtime/questions.ts';
import { Refused } from '../runtime/refused.ts';
import {
  besideEachOther,
  COPYING,
  finishItems,
  type Item,
  type ItemWork,
  type Outcome,
  runItems,
} from '../runtime/run-items.ts';
import { partIn, staysWhole, weighParts } from './archive-parts.ts';
import { dropEncoded, encodedAt, makeEncoded } from './encoded.ts';
import {
  bytesOf,
  inOwnParts,
  keepSums,
  notAsPlanned,
  noteFiles,
  openFor,
  openWriting,
  type Purpose,
  READ_ROLES,
  readBack,
  type Target,
  throwFor,
  type Writing,
} from './package-model.ts';
import { noteWeight, openTargets, placesOf, takeOverBegun } from './package-targets.ts';
import { notePositions } from './positions.ts';
import { discard, lastWords, seal, takeOut } from './seal-package.ts';

async function prepare(writing: Writing): Promise<void> {
  const { context, archive, purpose } = writing;
  const isWeighed = await weighParts(context, { archiveId: archive.id, scope: writing.scope }, async (error, file) => {
    await outOrThrow(writing, error, file);
  });
  const isMade = await makeEncoded(context, {
    archiveId: archive.id,
    fail: async (error, file) => void (await outOrThrow(writing, error, file)),
    asItIs: (file, why) => staysWhole(context, [file], why),
  });
  if (isWeighed || isMade) await noteWeight(writing);
  await openTargets(writing);
  const done = await doneBytes(writing);
  context.phase(purpose.kind.phase, 'bytes', 2 * (await plannedBytes(writing)), 2 * done);
  if (archive.state === 'ended early')
    throw new Refused(`Writing ${archive.name} was ended early and thrown away. The originals were not touched.`);
}

const ownFilesOf = (writing: Writing) => and(inOwnParts(writing), inArray(archiveFiles.role, READ_ROLES));

async function plannedBytes(writing: Writing): Promise<number> {
  return bytesOf(writing.context.db, ownFilesOf(writing)!);
}

async function doneBytes(writing: Writing): Promise<number> {
  const { context, step } = writing;
  const done = context.db
    .select({ id: stepItems.fileId })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), eq(stepItems.state, 'done')));
  return bytesOf(context.db, and(ownFilesOf(writing), inArray(archiveFiles.fileId, done))!);
}

/** Copies a batch to every carrier and reads it back from each. */
async function writeItems(writing: Writing, items: readonly Item[]): Promise<Outcome[]> {
  const { context, archive } = writing;
  const rows = await rowsOf(writing, items);
  const byFile = grouped(rows, (row) => row.fileId);
  const withoutOriginal = await documentsAlone(writing, items);
  const elsewhere = await heldElsewhere(writing, items);
  const written = await writtenOn(writing, rows);
  for (const item of items) await context.root(item.volumeId);
  const held = new Map<number, Held>();
  const notes = new Notes(writing);
  const isWound = writing.targets.some(({ place }) => isSequential(place));
  const isInTurn = isOneFile(archive.packer) || isWound;
  const inTurn = isInTurn ? oneByOne() : atOnce;
  const unproven: ArchiveFile[][] = [];
  let nextNight: Date | null = null;
  const threads = context.pools.carriers.size;
  // Where it is to go at a pace, as many as there are threads share that; what is written in turn is only read back beside the next.
  const beside = writing.mostPerSecond !== undefined || isInTurn ? threads : besideEachOther(threads, items);
  await inParallel(beside, items, async (item) => {
    nextNight ??= writing.hours ? context.nextNight(writing.hours) : null;
    if (nextNight) return;
    if (elsewhere.has(item.fileId)) {
      const why = await stillSame(writing, item);
      return void (why && held.set(item.id, why));
    }
    const files = byFile.get(item.fileId) ?? (withoutOriginal.has(item.fileId) ? [] : null);
    if (!files) throw notAsPlanned(item.path, 'not archived');
    const why = await inTurn(() => copyAll(writing, item, { files, written, notes }));
    if (why) return void held.set(item.id, why);
    // A tape is not wound back after every file.
    if (isWound) unproven.push(files);
    else await prove(writing, files, notes);
  });
  for (const files of unproven) await prove(writing, files, notes);
  await notes.flush();
  // What is written so far is kept, and not read again.
  if (nextNight) await context.putOffUntil(nextNight, 'waits for the next night');
  await refuseManyGaps(writing, held);
  return items.map((item) => ({ item, result: held.get(item.id) ?? { done: true } }));
}

/** Reads files back from every copy. */
async function prove(writing: Writing, files: readonly ArchiveFile[], notes: Notes): Promise<void> {
  for (const file of files) {
    const open = openFor(writing, file);
    await inParallel(open.length, open, (target) => readBack(writing, target, file));
    await notes.readBack(file);
  }
}

type Turn = <T>(work: () => Promise<T>) => Promise<T>;
const atOnce: Turn = (work) => work();

/** One file is written entry by entry; what is written is read back while the next is written. */
function oneByOne(): Turn {
  let before: Promise<unknown> = Promise.resolve();
  return (work) => {
    const own = before.then(work);
    before = own.catch(() => undefined);
    return own;
  };
}

/** An item's files to every copy that does not have them yet; why none of it goes in, where the work goes on without it. */
async function copyAll(
  writing: Writing,
  item: Item,
  {
    files,
    written,
    notes,
  }: { files: readonly ArchiveFile[]; written: ReadonlyMap<number, ReadonlySet<number>>; notes: Notes },
): Promise<Held | null> {
  for (const file of files) {
    try {
      const done = written.get(file.id) ?? new Set();
      const missing = openFor(writing, file).filter((target) => !done.has(target.copyPartId) || file.sha512 === null);
      if (missing.length > 0) await copyOne(writing, item, { file, missing });
    } catch (error) {
      const why = await outOrThrow(writing, error, file);
      notes.forget(files);
      await takeOut(writing, files);
      return why;
    }
    await notes.written(file);
  }
  return null;
}

const rowsOf = (writing: Writing, items: readonly Item[]): Promise<ArchiveFile[]> =>
  writing.context.db
    .select()
    .from(archiveFiles)
    .where(
      and(
        ownFilesOf(writing),
        inArray(
          archiveFiles.fileId,
          items.map((item) => item.fileId),
        ),
      ),
    );

/** Files that the archive it builds on has already. */
async function heldElsewhere({ context, archive, parts }: Writing, items: readonly Item[]): Promise<Set<number>> {
  if (archive.baseId === null) return new Set();
  const rows = await context.db
    .select({ id: archiveFiles.fileId })
    .from(archiveFiles)
    .where(
      and(
        eq(archiveFiles.archiveId, archive.id),
        notInArray(
          archiveFiles.partId,
          parts.map((part) => part.id),
        ),
        inArray(
          archiveFiles.fileId,
          items.map((item) => item.fileId),
        ),
      ),
    );
  return new Set(rows.map((row) => row.id));
}

/** Throws where it is not the file that was planned. */
async function refuseOther(context: JobContext, item: Item): Promise<void> {
  const root = await context.root(item.volumeId);
  if (!root) throw notAsPlanned(item.path, 'unreachable');
  const facts = ofSource(() => look(root.place(item)));
  const code = facts.is === 'file' ? (isUnchanged(facts, item) ? null : 'changed') : 'gone';
  if (code) throw Object.assign(new Error(`${item.path} is ${code}.`), { code });
}

/** It is the very file that lies in the archive this one builds on; why it stays out, where the work goes on without it. */
async function stillSame(writing: Writing, item: Item): Promise<Held | null> {
  const { context } = writing;
  context.check();
  try {
    await refuseOther(context, item);
    return null;
  } catch (error) {
    return outOrThrow(writing, error, { ...item, payloadPath: '' });
  }
}

/** By file, the copies it is written to already. */
async function writtenOn({ context }: Writing, files: readonly ArchiveFile[]): Promise<Map<number, Set<number>>> {
  const ids = files.map((file) => file.id);
  if (ids.length === 0) return new Map();
  const rows = await context.db.select().from(copyFiles).where(inArray(copyFiles.archiveFileId, ids));
  const byFile = grouped(rows, (row) => row.archiveFileId);
  return new Map([...byFile].map(([id, own]) => [id, new Set(own.map((row) => row.copyPartId))]));
}

/** What would take long to write again is written down at once; small files together, in the order they were written. */
const LARGE_BYTES = 64 << 20;

class Notes {
  /** Written, and not written down yet. */
  private fresh: ArchiveFile[] = [];
  /** Read back as well. */
  private readonly files = new Set<ArchiveFile>();
  constructor(private readonly writing: Writing) {}

  /** With a large one all that were written before it: what is written anew is the last there is. */
  async written(file: ArchiveFile): Promise<void> {
    this.fresh.push(file);
    if (file.payloadBytes! < LARGE_BYTES) return;
    const files = this.fresh;
    this.fresh = [];
    await noteFiles(this.writing, files, 'written');
  }

  forget(files: readonly ArchiveFile[]): void {
    this.fresh = this.fresh.filter((file) => !files.includes(file));
  }

  async readBack(file: ArchiveFile): Promise<void> {
    this.files.add(file);
    if (file.payloadBytes! >= LARGE_BYTES) await this.flush();
  }

  async flush(): Promise<void> {
    const files = [...this.files];
    this.files.clear();
    this.fresh = this.fresh.filter((file) => !files.includes(file));
    if (files.length > 0) await noteFiles(this.writing, files, 'read back');
  }
}

/** Documents that go in as they are written anew, without the original beside them. */
async function documentsAlone({ context, archive, scope }: Writing, items: readonly Item[]): Promise<Set<number>> {
  if (scope.originals) return new Set();
  const rows = await context.db
    .select({ id: archiveFiles.fileId })
    .from(archiveFiles)
    .where(
      and(
        eq(archiveFiles.archiveId, archive.id),
        eq(archiveFiles.role, 'document'),
        inArray(
          archiveFiles.fileId,
          items.map((item) => item.fileId),
        ),
      ),
    );
  return new Set(rows.map((row) => row.id));
}

type Troubled = Pick<ArchiveFile, 'fileId' | 'volumeId' | 'payloadPath' | 'path' | 'sizeBytes'>;

/**
 * Why a file stays out, where the work goes on without it: as it was shaped, or as somebody answered. Where nobody has yet, they
 * are asked, and what is written is kept meanwhile. Throws for every other trouble.
 */
async function outOrThrow(writing: Writing, error: unknown, file: Troubled): Promise<Held> {
  const { context, scope } = writing;
  const why = await ofItsSource(writing, error, file);
  if (!why) return throwFor(writing, error, file);
  if (scope.goOn || (await isLeftOut(context, file.fileId))) return why;
  context.check();
  const { fileId, path, sizeBytes } = file;
  return ask(context, { fileId, path, sizeBytes, reason: why.reason });
}

/**
 * What its source says of a file that cannot go in; null for every other trouble. Without its documents, which people go on
 * saving, nobody could open the rest.
 */
async function ofItsSource(
  { context }: Writing,
  error: unknown,
  { volumeId, payloadPath }: Pick<Troubled, 'volumeId' | 'payloadPath'>,
): Promise<Held | null> {
  if (error instanceof Refused || isDocumentPlace(payloadPath)) return null;
  const reason = (['gone', 'not a file', 'not permitted', 'changed', 'unreadable'] as const).find(
    (one) => one === codeOf(error),
  );
  // Where its whole volume went away nothing is said of the file.
  return reason && (await context.isVolumeThere(volumeId)) ? { done: false, reason } : null;
}

const FEW_GAPS = 20;

/** So many that something else is wrong than files: nobody wants an archive of the rest. */
async function refuseManyGaps({ context, step }: Writing, more: ReadonlyMap<number, Held>): Promise<void> {
  if (more.size === 0) return;
  const [row] = await context.db
    .select({ n: sql`COUNT(*)`.mapWith(Number) })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), eq(stepItems.state, 'held')));
  const gaps = row!.n + more.size;
  if (gaps <= FEW_GAPS && gaps * 2 <= step.files) return;
  const [why] = more.values();
  throw new Refused(
    `${counted(gaps, 'file')} could not go in, the last because ${HELD_WORDS[why!.reason]}. Nothing was sealed, and what was written was thrown away; the originals were not touched. Read the volume again and add it to the plan anew.`,
  );
}

async function copyOne(
  writing: Writing,
  item: Item,
  { file, missing }: { file: ArchiveFile; missing: readonly Target[] },
): Promise<void> {
  const { context, scope } = writing;
  context.check();
  const root = await context.root(item.volumeId);
  if (!root) throw notAsPlanned(item.path, 'unreachable');
  const encoded = file.role === 'encoded' ? await ofUnchanged(writing, item, file) : null;
  const result = await writeToCarriers(
    context.pools.carriers,
    {
      ...(encoded
        ? { from: encoded.place, expected: encoded.facts, part: null }
        : { from: ofSource(() => root.place(item)), expected: item, part: partIn(file, scope) }),
      to: missing.map(({ place, pack }) => ({ carrier: place, pack, at: payloadAt(file) })),
      mostPerSecond: writing.mostPerSecond,
    },
    { progress: (bytes) => context.add(bytes), stop: context.stop },
  );
  // What was weighed is what is written: names, places and lists say the same range.
  if ((file.role === 'part' || encoded) && result.sizeBytes !== file.sizeBytes)
    throw Object.assign(new Error('It weighs otherwise than before.'), { code: 'changed' });
  // What lies there of it is what was proved.
  if (encoded && result.xxh64 !== file.xxh64)
    throw Object.assign(new Error('It is not what was encoded.'), { code: 'changed' });
  keepSums(file, result);
}

/** What was encoded of a file that is still as it was. */
async function ofUnchanged({ context }: Writing, item: Item, file: ArchiveFile) {
  await refuseOther(context, item);
  return encodedAt(context, file);
}

async function conclude(writing: Writing, ending: Ending): Promise<void> {
  await sealOrDiscard(writing, ending);
  dropEncoded(writing.context);
  if (ending.state === 'done') writing.followed = await writing.purpose.afterwards?.(writing);
}

async function sealOrDiscard(writing: Writing, ending: Ending): Promise<void> {
  if (ending.state === 'done')
    try {
      await seal(writing);
      await notePositions(writing);
    } catch (thrown) {
      // Throws on where the lease or the database is gone: then what was written is kept for the next run.
      endingOf(writing.context, thrown);
      await discard(writing);
      dropEncoded(writing.context);
      throw thrown;
    }
  else {
    await takeOverBegun(writing, await placesOf(writing));
    await discard(writing);
  }
}

const workOf = (writing: Writing): ItemWork => ({
  kind: writing.purpose.kind,
  projectId: writing.purpose.projectId,
  ...COPYING,
  prepare: () => prepare(writing),
  act: (items) => writeItems(writing, items),
  // Nothing of an original is in anybody's hands: what is begun is simply not done.
  finishOrUndo: async (items) => items.map((item) => ({ item, result: null })),
  conclude: (ending) => conclude(writing, ending),
  lastWords: async (tx, { held }, ending) =>
    writing.purpose.concluded(tx, writing, {
      ...(await lastWords(writing, tx, { ending, held })),
      ...writing.followed,
    }),
});

export const writePackage = (context: JobContext, step: typeof steps.$inferSelect, purpose: Purpose): Promise<void> =>
  withWriting(context, step, { purpose, run: (writing) => runItems(context, step, workOf(writing)) });

/** Ends it without writing any more: what has no name yet is thrown away. */
export const giveUpPackage = (context: JobContext, step: typeof steps.$inferSelect, purpose: Purpose): Promise<void> =>
  withWriting(context, step, {
    purpose,
    run: (writing) =>
      finishItems(context, step, {
        work: workOf(writing),
        ending: { state: 'failed', trouble: context.givenUp },
      }),
  });

async function withWriting(
  context: JobContext,
  step: typeof steps.$inferSelect,
  { purpose, run }: { purpose: Purpose; run: (writing: Writing) => Promise<void> },
): Promise<void> {
  const writing = await openWriting(context, step, purpose);
  try {
    await run(writing);
  } finally {
    for (const { carrier } of writing.targets) await carrier.close();
  }
}
