// Writing a package: a bag (RFC 8493) on one or more carriers, with one reading of every original. Each file is copied with its
// sums and read back from the medium of every carrier; documents are relinked inside; and only when everything read back does
// the bag get its name, carrier by carrier. A package is whole or it is not. The steps that archive and hand over run it.
import { and, eq, inArray, type SQL, sql } from 'drizzle-orm';
import { type ArchiveScope, DOCUMENTS } from '#core/archive/selection.ts';
import { grouped } from '#core/grouped.ts';
import type { ProjectId } from '#core/model.ts';
import { liesIn } from '#core/paths.ts';
import { HELD_REASONS, HELD_WORDS, type HeldReason } from '#core/plan/plan.ts';
import type { StepKind } from '#core/steps/kind.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { readSmall } from '#disk/beside.ts';
import { codeOf, isMissing, isUnchanged, look } from '#disk/facts.ts';
import type { Held } from '#disk/remove.ts';
import { sha512 } from '#disk/sums.ts';
import { type ArchiveFile, type Gap, payloadAt, type TagFiles, tagFiles } from '../archives/bag.ts';
import { ofSource, writeToCarriers } from '../carriers/copying.ts';
import { type Carrier, CarrierAway, type Pack, PackGone } from '../carriers/kind.ts';
import { type CarrierPlace, openCarrier } from '../carriers/kinds.ts';
import { isOneFile, packedName } from '../carriers/packers.ts';
import type { Database, Transaction } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { stepItems, type steps } from '../db/schema/plans.ts';
import { siteMark } from '../db/site-mark.ts';
import type { JobContext } from '../runtime/context.ts';
import { endingOf } from '../runtime/endings.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { type Ending, noteProgress } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { finishItems, type Item, type ItemWork, type Outcome, runItems } from '../runtime/run-items.ts';
import { tooSmall } from '../stores/look.ts';
import { relinkedDocument } from './archive-documents.ts';
import { partIn, weighParts } from './archive-parts.ts';

/** Room for tag files and relinked documents, beside the payload. */
const OVERHEAD_BYTES = 16_000_000;
/** What an entry has around it where the whole is one file, and its line in the index. */
const ENTRY_BYTES = 4_096;

/** One copy that is being written. */
interface Target extends Destination {
  carrier: Carrier;
  pack: Pack;
  /** It has its name already: an earlier run placed it. */
  placed: boolean;
}

/** Where a copy is to go, by the part of it that is written down. */
export interface Destination {
  copyPartId: number;
  copyId: number;
  name: string;
  place: CarrierPlace;
  /** What may be written there, of what it says is free. */
  room(saidFreeBytes: number): Promise<number>;
}

/** What a package is for. */
export interface Purpose {
  kind: StepKind;
  projectId: ProjectId;
  scope: ArchiveScope;
  /** Who gets it; null for an archive of the house, which says where everything was. */
  handedTo: string | null;
  destinations(context: JobContext, part: typeof archiveParts.$inferSelect): Promise<Destination[]>;
  /** What becomes of it, with the last of the work; `facts` are its receipt's. */
  concluded(tx: Transaction, writing: Writing, facts: Record<string, unknown>): Promise<Record<string, unknown>>;
}

export interface Writing {
  context: JobContext;
  step: typeof steps.$inferSelect;
  purpose: Purpose;
  scope: ArchiveScope;
  archive: typeof archives.$inferSelect;
  part: typeof archiveParts.$inferSelect;
  targets: Target[];
}

async function open(context: JobContext, step: typeof steps.$inferSelect, purpose: Purpose): Promise<Writing> {
  const { db, job } = context;
  const archiveId = Number(job.params.archiveId);
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  const [part] = await db.select().from(archiveParts).where(eq(archiveParts.archiveId, archiveId));
  if (!archive || !part) throw new Error('The archive of this job is not in the catalogue.');
  return { context, step, purpose, scope: purpose.scope, archive, part, targets: [] };
}

/** Opens the carriers, takes over what earlier runs began, and refuses what cannot go well before anything is written. */
async function prepare(writing: Writing): Promise<void> {
  const { context, archive, part, purpose } = writing;
  const own = { site: await siteMark(context.db), job: context.job.mark, lease: context.job.lease! };
  const isWeighed = await weighParts(context, archive.id, async (error, file) => {
    if (!(await staysOut(writing, error, file))) await throwFor(writing, error, file);
  });
  if (isWeighed) await noteWeight(writing);
  for (const to of await purpose.destinations(context, part)) {
    const carrier = await openCarrier(to.place).catch((error: unknown) => {
      if (!(error instanceof CarrierAway)) throw error;
      throw new Refused(
        `${to.name} cannot be reached, or another is in its place. Nothing was sealed; the originals were not touched. Connect it and add it to the plan again.`,
      );
    });
    const target: Target = { ...to, carrier, pack: { folder: part.folder, ...own, item: part.id }, placed: false };
    writing.targets.push(target);
    await beginOn(writing, target);
  }
  const done = await doneBytes(writing);
  context.phase(purpose.kind.phase, 'bytes', 2 * (await plannedBytes(writing)), 2 * done);
  if (archive.state === 'ended early')
    throw new Refused(`Writing ${archive.name} was ended early and thrown away. The originals were not touched.`);
}

/** What will be written is known to the byte now. */
async function noteWeight({ context, archive }: Writing): Promise<void> {
  archive.bytes = await sumOf(context.db, eq(archiveFiles.archiveId, archive.id));
  await context.transaction(async (tx) => {
    await tx.update(archives).set({ bytes: archive.bytes }).where(eq(archives.id, archive.id));
    await tx.update(archiveParts).set({ bytes: archive.bytes }).where(eq(archiveParts.archiveId, archive.id));
  });
}

async function beginOn({ context, archive, part, step }: Writing, target: Target): Promise<void> {
  await context.assertLease();
  if (await target.carrier.takeOver(target.pack, () => context.check())) return;
  if (await isPlaced(target, part.manifestSha512)) {
    target.placed = true;
    return;
  }
  if (await target.carrier.has(part.folder))
    throw new Refused(
      `${target.name} has something named ${packedName(part.folder, archive.packer)} already, and nothing is ever written over. Add it to the plan again under another name.`,
    );
  const needed = archive.bytes + OVERHEAD_BYTES + (isOneFile(archive.packer) ? archive.files * ENTRY_BYTES : 0);
  const room = await target.room(await target.carrier.freeBytes());
  if (room < needed) throw new Refused(tooSmall(target.name, needed, room));
  await target.carrier.begin(target.pack);
  // Begun anew here, for the first time or after what was there went away: nothing that was written down of it counts.
  await context.transaction(async (tx) => {
    await tx.delete(copyFiles).where(eq(copyFiles.copyPartId, target.copyPartId));
    await tx
      .update(stepItems)
      .set({ state: 'waiting' })
      .where(and(eq(stepItems.stepId, step.id), eq(stepItems.state, 'done')));
  });
}

/** What has our name, and the very tag manifest that was written down before it got it, is ours. */
async function isPlaced({ carrier, pack }: Target, manifestSha512: string | null): Promise<boolean> {
  if (manifestSha512 === null || !(await carrier.has(pack.folder))) return false;
  try {
    return sha512(await textOf(carrier, pack.folder, 'tagmanifest-sha512.txt')) === manifestSha512;
  } catch {
    return false;
  }
}

async function textOf(carrier: Carrier, of: Pack | string, at: string): Promise<string> {
  const chunks: Buffer[] = [];
  for await (const chunk of (await carrier.read(of, at)) as AsyncIterable<Buffer>) chunks.push(chunk);
  return Buffer.concat(chunks).toString('utf8');
}

/** What is read of originals, by the rows of the archive. */
const READ_ROLES = ['media', 'part', 'original document'] as const;

async function plannedBytes({ context, archive }: Writing): Promise<number> {
  return sumOf(context.db, and(eq(archiveFiles.archiveId, archive.id), inArray(archiveFiles.role, READ_ROLES))!);
}

async function doneBytes({ context, archive, step }: Writing): Promise<number> {
  const done = context.db
    .select({ id: stepItems.fileId })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), eq(stepItems.state, 'done')));
  const own = and(eq(archiveFiles.archiveId, archive.id), inArray(archiveFiles.role, READ_ROLES));
  return sumOf(context.db, and(own, inArray(archiveFiles.fileId, done))!);
}

async function sumOf(db: Database, which: SQL): Promise<number> {
  const [row] = await db
    .select({ bytes: sql`COALESCE(SUM(${archiveFiles.sizeBytes}), 0)`.mapWith(Number) })
    .from(archiveFiles)
    .where(which);
  return row!.bytes;
}

/** Copies a batch to every carrier and reads it back from each. */
async function writeItems(writing: Writing, items: readonly Item[]): Promise<Outcome[]> {
  const { context, archive, targets } = writing;
  const rows = await rowsOf(writing, items);
  const byFile = grouped(rows, (row) => row.fileId);
  const withoutOriginal = await documentsAlone(writing, items);
  const written = await writtenOn(writing, rows);
  const open = targets.filter((target) => !target.placed);
  for (const item of items) await context.root(item.volumeId);
  const held = new Map<number, Held>();
  const notes = new Notes(writing);
  const inTurn = isOneFile(archive.packer) ? oneByOne() : atOnce;
  await inParallel(context.pools.carriers.size, items, async (item) => {
    const files = byFile.get(item.fileId) ?? (withoutOriginal.has(item.fileId) ? [] : null);
    if (!files) throw notAsPlanned(item.path, 'not archived');
    const why = await inTurn(() => copyAll(writing, item, { files, written, notes }));
    if (why) return void held.set(item.id, why);
    for (const file of files) {
      await inParallel(open.length, open, (target) => readBack(writing, target, file));
      await notes.readBack(file);
    }
  });
  await notes.flush();
  await refuseManyGaps(writing, held);
  return items.map((item) => ({ item, result: held.get(item.id) ?? { done: true } }));
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
  const open = writing.targets.filter((target) => !target.placed);
  for (const file of files) {
    try {
      const done = written.get(file.id) ?? new Set();
      const missing = open.filter((target) => !done.has(target.copyPartId) || file.sha512 === null);
      if (missing.length > 0) await copyOne(writing, item, { file, missing });
    } catch (error) {
      const why = await staysOut(writing, error, file);
      if (!why) return throwFor(writing, error, file);
      notes.forget(files);
      await takeOut(writing, files);
      return why;
    }
    await notes.written(file);
  }
  return null;
}

const rowsOf = ({ context, archive }: Writing, items: readonly Item[]): Promise<ArchiveFile[]> =>
  context.db
    .select()
    .from(archiveFiles)
    .where(
      and(
        eq(archiveFiles.archiveId, archive.id),
        inArray(archiveFiles.role, READ_ROLES),
        inArray(
          archiveFiles.fileId,
          items.map((item) => item.fileId),
        ),
      ),
    );

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

async function noteFiles(
  { context, targets }: Writing,
  files: readonly ArchiveFile[],
  state: 'written' | 'read back',
): Promise<void> {
  const readBackAt = state === 'read back' ? context.now() : null;
  const rows = files.flatMap((file) =>
    targets
      .filter((target) => !target.placed)
      .map(({ copyPartId }) => ({ copyPartId, archiveFileId: file.id, state, readBackAt })),
  );
  await context.transaction(async (tx) => {
    await noteProgress(tx, context.job);
    for (const { id, payloadBytes, sha512: strong, xxh64 } of files)
      await tx.update(archiveFiles).set({ payloadBytes, sha512: strong, xxh64 }).where(eq(archiveFiles.id, id));
    if (rows.length > 0) await tx.insert(copyFiles).values(rows).onDuplicateKeyUpdate({ set: { state, readBackAt } });
  });
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

/**
 * What its source says of a file that cannot go in, where the work goes on without it; null for every other trouble. Without
 * its documents, which people go on saving, nobody could open the rest.
 */
async function staysOut(
  { context, scope }: Writing,
  error: unknown,
  { volumeId, payloadPath }: Pick<ArchiveFile, 'volumeId' | 'payloadPath'>,
): Promise<Held | null> {
  if (!scope.goOn || error instanceof Refused || liesIn(payloadPath, DOCUMENTS)) return null;
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

/** Files that could not go in are in no list, and what of them was written is taken out again. */
async function leaveGaps(writing: Writing): Promise<Gap[]> {
  const { context, archive, step } = writing;
  const held = await context.db
    .select({ fileId: stepItems.fileId, path: stepItems.path, reason: stepItems.reason })
    .from(stepItems)
    .where(and(eq(stepItems.stepId, step.id), eq(stepItems.state, 'held')))
    .orderBy(stepItems.id);
  if (held.length === 0) return [];
  const out = and(
    eq(archiveFiles.archiveId, archive.id),
    inArray(
      archiveFiles.fileId,
      held.map((item) => item.fileId),
    ),
  );
  await takeOut(writing, await context.db.select().from(archiveFiles).where(out));
  await context.transaction((tx) => tx.delete(archiveFiles).where(out));
  return held.map(({ path, reason }) => ({ path, why: reason === null ? '' : HELD_WORDS[reason] }));
}

/** What was written of a file that does not go in after all; the last first, as one file can only be cut off at its end. */
async function takeOut({ context, targets }: Writing, rows: readonly ArchiveFile[]): Promise<void> {
  await context.transaction(async (tx) => {
    for (const { id } of rows) await tx.delete(copyFiles).where(eq(copyFiles.archiveFileId, id));
  });
  for (const target of targets.filter((one) => !one.placed))
    for (const file of [...rows].reverse()) {
      await context.assertLease();
      await target.carrier.remove(target.pack, payloadAt(file));
    }
}

async function copyOne(
  { context }: Writing,
  item: Item,
  { file, missing }: { file: ArchiveFile; missing: readonly Target[] },
): Promise<void> {
  context.check();
  const root = await context.root(item.volumeId);
  if (!root) throw notAsPlanned(item.path, 'unreachable');
  const result = await writeToCarriers(
    context.pools.carriers,
    {
      ...{ from: ofSource(() => root.place(item)), expected: item, part: partIn(file) },
      to: missing.map(({ place, pack }) => ({ carrier: place, pack, at: payloadAt(file) })),
    },
    { progress: (bytes) => context.add(bytes), stop: context.stop },
  );
  // What was weighed is what is written: names, places and lists say the same range.
  if (file.role === 'part' && result.sizeBytes !== file.sizeBytes)
    throw Object.assign(new Error('It weighs otherwise than before.'), { code: 'changed' });
  keepSums(file, result);
}

interface Sums {
  sizeBytes: number;
  sha512: string;
  xxh64: string;
}

const keepSums = (file: ArchiveFile, { sizeBytes, sha512: strong, xxh64 }: Sums): void =>
  void Object.assign(file, { payloadBytes: sizeBytes, sha512: strong, xxh64 });

async function readBack(writing: Writing, target: Target, file: ArchiveFile): Promise<void> {
  const { context } = writing;
  const sums = await sumOn(writing, target, payloadAt(file), (bytes) => context.add(bytes / writing.targets.length));
  if (sums.xxh64 !== file.xxh64 || sums.sizeBytes !== file.payloadBytes) throw differs(target.name, file.payloadPath);
}

async function sumOn(
  { context }: Writing,
  target: Target,
  at: string,
  progress?: (bytes: number) => void,
): Promise<Sums> {
  try {
    return await context.pools.carriers.ask(
      { do: 'sum', carrier: target.place, of: target.pack, at, strong: progress === undefined },
      { progress, stop: context.stop },
    );
  } catch (error) {
    context.check();
    const code = codeOf(error);
    if (code === 'ENOENT') await context.assertLease();
    if (['ENOENT', 'EIO', 'not a file', 'ELOOP'].includes(code)) throw differs(target.name, at);
    throw error;
  }
}

/** Why a file did not go in, in a sentence; a pack that is gone means that another worker has it, or had it. */
async function throwFor({ context }: Writing, error: unknown, file: ArchiveFile): Promise<never> {
  context.check();
  const code = codeOf(error);
  if (error instanceof PackGone || code === 'pack_gone') {
    await context.assertLease();
    throw new Refused(
      'What had been written was taken away from where it was written. Nothing was sealed; the originals were not touched. Add it to the plan again.',
    );
  }
  if (code === 'carrier_away')
    throw new Refused(
      'Where it was written was taken away meanwhile. Nothing was sealed; the originals were not touched.',
    );
  if (code === 'ENOSPC' || code === 'EDQUOT')
    throw new Refused(
      `There was no room left: ${size(file.sizeBytes)} of ${file.path} did not fit. What was written was thrown away; the originals were not touched. Choose another place for it.`,
    );
  // What could be cut when it was weighed, and cannot now, is another file.
  const reason = code === 'cannot_cut' ? 'changed' : HELD_REASONS.find((one) => one === code);
  if (reason) throw notAsPlanned(file.path, reason);
  throw error;
}

const notAsPlanned = (path: string, reason: HeldReason) =>
  new Refused(
    `${path} cannot go in: ${HELD_WORDS[reason]}. Nothing was sealed, and what was written was thrown away; the originals were not touched. Read the volume again and add it to the plan anew.`,
  );

const differs = (carrier: string, example: string) =>
  new Refused(
    `${example} on ${carrier} read back differently from what was written. The disk may be failing. Nothing was sealed and the originals were not touched. Use another one.`,
  );

/** Documents and tag files, a last look at everything that lies in the bag, and then its name. */
async function seal(writing: Writing): Promise<void> {
  const { context, archive, part } = writing;
  const gaps = await leaveGaps(writing);
  const files = await context.db
    .select()
    .from(archiveFiles)
    .where(eq(archiveFiles.archiveId, archive.id))
    .orderBy(archiveFiles.id);
  const open = writing.targets.filter((target) => !target.placed);
  if (open.length === 0) return;
  context.rename('writing the lists');
  for (const file of files.filter((one) => one.role === 'document')) await writeDocument(writing, file, files);
  const tags = await tagsOf(writing, { files, gaps });
  for (const target of open) await writeTags(writing, target, { tags, files });
  await context.transaction((tx) =>
    tx.update(archiveParts).set({ manifestSha512: tags.manifestSha512 }).where(eq(archiveParts.id, part.id)),
  );
  for (const target of open) {
    await context.assertLease();
    await target.carrier.place(target.pack).catch((error: unknown) => {
      if (codeOf(error) !== 'EEXIST') throw error;
      throw new Refused(
        `${target.name} has something named ${packedName(part.folder, archive.packer)} by now, and nothing is ever written over. The originals were not touched. Add it to the plan again under another name.`,
      );
    });
    target.placed = true;
  }
}

/** The same on every carrier: where one has its lists already, those, whatever became of the project's facts meanwhile. */
async function tagsOf(
  { context, archive, purpose, scope, targets }: Writing,
  { files, gaps }: { files: readonly ArchiveFile[]; gaps: readonly Gap[] },
): Promise<TagFiles> {
  const fresh = await tagFiles(context.db, archive, {
    files,
    at: context.job.startedAt ?? context.now(),
    shape: scope,
    gaps,
    handedTo: purpose.handedTo,
  });
  const placed = targets.find((target) => target.placed);
  if (!placed) return fresh;
  const texts: [string, string][] = [];
  for (const [name] of fresh.texts) texts.push([name, await textOf(placed.carrier, placed.pack.folder, name)]);
  return { texts, manifestSha512: sha512(texts.at(-1)![1]) };
}

async function writeDocument(writing: Writing, file: ArchiveFile, all: readonly ArchiveFile[]): Promise<void> {
  const { context, scope, targets } = writing;
  const open = targets.filter((target) => !target.placed);
  const text = await relinkedDocument(context.db, {
    projectId: writing.archive.projectId as ProjectId,
    timelines: scope.timelines,
    scope,
    text: await originalText(writing, file, all),
    fileId: file.fileId,
    at: file.payloadPath,
    files: all,
  });
  let result: Sums | null = null;
  for (const { place, pack } of open)
    result = await context.pools.carriers
      .ask({ do: 'write text', text, to: { carrier: place, pack, at: payloadAt(file) } }, { stop: context.stop })
      .catch((error: unknown) => throwFor(writing, error, file));
  keepSums(file, result!);
  for (const target of open) await readBack(writing, target, file);
  await noteFiles(writing, [file], 'read back');
}

/** A document as it was: from beside where it is written anew, or where none of it lies there from its volume. */
async function originalText({ context, targets }: Writing, file: ArchiveFile, all: readonly ArchiveFile[]) {
  const original = all.find((one) => one.role === 'original document' && one.fileId === file.fileId);
  const [first] = targets.filter((target) => !target.placed);
  if (original) return textOf(first!.carrier, first!.pack, payloadAt(original));
  const root = await context.root(file.volumeId);
  if (!root) throw notAsPlanned(file.path, 'unreachable');
  const isSame = () => {
    const facts = look(root.place({ path: file.path, raw: file.rawPath }));
    if (facts.is !== 'file') throw notAsPlanned(file.path, 'gone');
    if (!isUnchanged(facts, file)) throw notAsPlanned(file.path, 'changed');
  };
  try {
    isSame();
    const text = readSmall(root, file.path);
    isSame();
    return text;
  } catch (error) {
    if (isMissing(error)) throw notAsPlanned(file.path, 'gone');
    throw error;
  }
}

async function writeTags(
  writing: Writing,
  target: Target,
  { tags, files }: { tags: TagFiles; files: readonly ArchiveFile[] },
): Promise<void> {
  const { context } = writing;
  for (const [at, text] of tags.texts) {
    await context.pools.carriers
      .ask({ do: 'write text', text, to: { carrier: target.place, pack: target.pack, at } }, { stop: context.stop })
      .catch((error: unknown) => throwFor(writing, error, files[0]!));
    if ((await sumOn(writing, target, at)).sha512 !== sha512(text)) throw differs(target.name, at);
  }
  const expected = new Map([
    ...files.map((file) => [payloadAt(file), file.payloadBytes] as const),
    ...tags.texts.map(([name, text]) => [name, Buffer.byteLength(text)] as const),
  ]);
  for await (const { at, sizeBytes } of target.carrier.list(target.pack)) {
    if (sizeBytes === null || expected.get(at) !== sizeBytes)
      throw new Refused(
        `${at} lies in it on ${target.name} and was not written there by this work. Nothing was sealed; the originals were not touched. Look who else writes there.`,
      );
    expected.delete(at);
  }
  const [missing] = expected.keys();
  if (missing !== undefined) throw differs(target.name, missing);
}

/** Throws away what has no name yet, unless the work only waits for its next worker. */
async function discard(writing: Writing): Promise<void> {
  for (const { carrier, pack, placed } of writing.targets) {
    if (placed) continue;
    await writing.context.assertLease();
    await carrier.discard(pack);
  }
}

async function conclude(writing: Writing, ending: Ending): Promise<void> {
  if (ending.state === 'done')
    try {
      await seal(writing);
    } catch (thrown) {
      // Throws on where the lease or the database is gone: then what was written is kept for the next run.
      endingOf(writing.context, thrown);
      await discard(writing);
      throw thrown;
    }
  else await discard(writing);
}

/** What was taken of the originals: of those that went in as parts, those. */
const takenBytes = (files: readonly { role: string; payloadBytes: number | null }[]): number =>
  files.reduce((sum, file) => sum + (file.role === 'document' ? 0 : (file.payloadBytes ?? 0)), 0);

/** Files of the project, each once: a relinked document is the same one again. */
const ownFiles = (files: readonly { role: string }[]): number =>
  files.filter((file) => file.role !== 'document').length;

/** The archive and its copies as they are now. A copy that got its name is whole, whatever became of the others. */
async function lastWords(
  writing: Writing,
  tx: Transaction,
  { ending, held }: { ending: Ending; held: number },
): Promise<Record<string, unknown>> {
  const { context, archive, part, targets } = writing;
  const now = context.now();
  const placed = targets.filter((target) => target.placed);
  const copies = await tx.select().from(archiveCopies).where(eq(archiveCopies.archiveId, archive.id));
  for (const copy of copies) {
    const isGood = placed.some((target) => target.copyId === copy.id);
    const state = isGood ? ('good' as const) : ('ended early' as const);
    await tx
      .update(archiveCopies)
      .set({ state, ...(isGood ? { writtenAt: now, readBackAt: now } : {}) })
      .where(eq(archiveCopies.id, copy.id));
    await tx
      .update(copyParts)
      .set({ state, ...(isGood ? { readBackAt: now } : {}) })
      .where(eq(copyParts.copyId, copy.id));
  }
  const files = await tx.select().from(archiveFiles).where(eq(archiveFiles.archiveId, archive.id));
  const bytes = files.reduce((sum, file) => sum + (file.payloadBytes ?? 0), 0);
  await tx
    .update(archives)
    .set(
      placed.length > 0
        ? { state: 'sealed', sealedAt: now, files: ownFiles(files), bytes, gaps: held, jobId: context.job.id }
        : { state: 'ended early', jobId: context.job.id },
    )
    .where(eq(archives.id, archive.id));
  await tx.update(archiveParts).set({ files: files.length, bytes }).where(eq(archiveParts.id, part.id));
  const [row] = await tx.select().from(archiveParts).where(eq(archiveParts.id, part.id));
  return {
    archiveId: archive.id,
    folder: part.folder,
    carriers: placed.map((target) => target.name),
    ...(ending.state === 'done' ? { tagManifestSha512: row!.manifestSha512, bytes: takenBytes(files) } : {}),
  };
}

const workOf = (writing: Writing): ItemWork => ({
  kind: writing.purpose.kind,
  projectId: writing.purpose.projectId,
  batch: 20,
  prepare: () => prepare(writing),
  act: (items) => writeItems(writing, items),
  // Nothing of an original is in anybody's hands: what is begun is simply not done.
  finishOrUndo: async (items) => items.map((item) => ({ item, result: null })),
  conclude: (ending) => conclude(writing, ending),
  lastWords: async (tx, { held }, ending) =>
    writing.purpose.concluded(tx, writing, await lastWords(writing, tx, { ending, held })),
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
  const writing = await open(context, step, purpose);
  try {
    await run(writing);
  } finally {
    for (const { carrier } of writing.targets) await carrier.close();
  }
}
