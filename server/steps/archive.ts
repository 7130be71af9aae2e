// Writing an archive: a bag (RFC 8493) on one or more carriers, with one reading of every original. Each file is copied
// with its sums and read back from the medium of every carrier; documents are relinked inside; and only when everything
// read back does the bag get its name, carrier by carrier. An archive is whole or it is not: one file that is not what it
// was when the step was added ends the work.
import { and, eq, inArray, type SQL, sql } from 'drizzle-orm';
import { type ArchiveScope, DOCUMENTS, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { CarrierId, ProjectId } from '#core/model.ts';
import { liesIn, nameOf } from '#core/paths.ts';
import { HELD_REASONS, HELD_WORDS, type HeldReason } from '#core/plan/plan.ts';
import { archiveProject as kind } from '#core/steps/archive.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { codeOf } from '#disk/facts.ts';
import type { Held } from '#disk/remove.ts';
import { sha512 } from '#disk/sums.ts';
import { type ArchiveFile, type Gap, payloadAt, type TagFiles, tagFiles } from '../archives/bag.ts';
import { checkTimelines } from '../archives/lengths.ts';
import { placedFiles, projectSelection } from '../archives/selection.ts';
import { carrierRows, carrierRoom } from '../archives/shelf.ts';
import { ofSource, writeToCarriers } from '../carriers/copying.ts';
import { type Carrier, CarrierAway, type Pack, PackGone } from '../carriers/kind.ts';
import { type CarrierPlace, openCarrier, placeOf } from '../carriers/kinds.ts';
import { isOneFile, packedName } from '../carriers/packers.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers } from '../db/schema/stores.ts';
import { siteMark } from '../db/site-mark.ts';
import type { JobContext } from '../runtime/context.ts';
import { endingOf } from '../runtime/endings.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { type Ending, noteProgress } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { finishItems, type Item, type ItemWork, type Outcome, runItems } from '../runtime/run-items.ts';
import { tooSmall } from '../stores/look.ts';
import { addStep, draft } from './adding.ts';
import { relinkedDocument } from './archive-documents.ts';
import { grouped, partIn, stagedParts, stageParts, unweighed, weighParts } from './archive-parts.ts';
import { carriersAway, finding, readingFindings } from './findings.ts';
import { serverStep } from './kind.ts';

/** Room for tag files and relinked documents, beside the payload. */
const OVERHEAD_BYTES = 16_000_000;
/** What an entry has around it where the whole is one file, and its line in the index. */
const ENTRY_BYTES = 4_096;

export interface NewArchive {
  projectId: ProjectId;
  carrierIds: readonly CarrierId[];
  folder: string;
  scope?: ArchiveScope;
  now: Date;
}

/** Adds an archive of a project: media its timelines use, and its documents, as the catalogue knows them now. */
export async function addArchive(
  db: Database,
  { projectId, carrierIds, folder, scope = USUAL_SCOPE, now }: NewArchive,
): Promise<{ files: number; bytes: number }> {
  const ids = [...new Set(carrierIds)];
  if (ids.length === 0) throw new Refused('No carrier is chosen. Nothing was added.');
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const chosen = await db.select().from(carriers).where(inArray(carriers.id, ids));
  if (!project || chosen.length !== ids.length)
    throw new Refused('The project or a carrier is not known. Nothing was added.');
  await checkTimelines(db, projectId, scope.timelines);
  const selection = await projectSelection(db, projectId, scope);
  if (selection.chosen.length === 0)
    throw new Refused(`No timeline of ${project.name} uses media that is found. Nothing was added.`);
  const params = {
    projectId,
    carrierIds: ids,
    folder,
    scope: { ...scope, parts: [...scope.parts], timelines: [...scope.timelines] },
  };
  const names = { project: project.name, carriers: chosen.map((carrier) => carrier.name) };
  return inTransaction(db, async (tx) => {
    const planId = await draft(tx, now);
    for (const { what } of await tx.select({ what: steps.what }).from(steps).where(eq(steps.planId, planId))) {
      if (what.kind !== kind.kind) continue;
      const other = kind.params.parse(what);
      if (other.projectId === projectId && other.carrierIds.some((id) => ids.includes(id)))
        throw new Refused(
          `An archive of ${project.name} on ${chosen.find((carrier) => other.carrierIds.includes(carrier.id as CarrierId))!.name} is in the plan already. Nothing was added.`,
        );
    }
    const stepId = await addStep(tx, { kind, params, names, now });
    for (let i = 0; i < selection.chosen.length; i += 1000)
      await tx.insert(stepItems).values(
        selection.chosen
          .slice(i, i + 1000)
          .map(({ volumeId, fileId, path, rawPath, sizeBytes, modifiedUs, ...file }) => ({
            stepId,
            volumeId,
            fileId,
            path,
            rawPath,
            sizeBytes,
            modifiedUs,
            device: file.device,
            inode: file.inode,
            changedUs: file.changedUs,
          })),
      );
    await stageParts(tx, stepId, { chosen: selection.chosen, now });
    const sum = { files: selection.chosen.length, bytes: selection.chosenBytes };
    await tx.update(steps).set(sum).where(eq(steps.id, stepId));
    return sum;
  });
}

/** The archive as it will be: what is written down of it is the journal of its writing. */
async function writeRows(
  tx: Transaction,
  step: typeof steps.$inferSelect,
  {
    projectId,
    carrierIds,
    folder,
    scope,
  }: { projectId: ProjectId; carrierIds: readonly CarrierId[]; folder: string; scope: ArchiveScope },
): Promise<{ archiveId: number }> {
  const [project] = await tx.select().from(projects).where(eq(projects.id, projectId));
  const placed = await placedFiles(tx, { projectId, scope }, step.id, await stagedParts(tx, step.id));
  // Parts are weighed before anything is written; until then it is told about.
  const sums = { files: placed.length, bytes: placed.reduce((sum, file) => sum + file.sizeBytes, 0) };
  const [{ insertId: archiveId }] = await tx
    .insert(archives)
    .values({ projectId, name: project!.name, folder, state: 'writing', packer: scope.pack, ...sums });
  const [{ insertId: partId }] = await tx.insert(archiveParts).values({ archiveId, ord: 1, folder, ...sums });
  for (const carrierId of carrierIds) {
    const [{ insertId: copyId }] = await tx.insert(archiveCopies).values({ archiveId, state: 'writing' });
    await tx.insert(copyParts).values({ copyId, partId, carrierId, state: 'writing' });
  }
  for (let i = 0; i < placed.length; i += 500)
    await tx.insert(archiveFiles).values(placed.slice(i, i + 500).map((file) => ({ archiveId, partId, ...file })));
  return { archiveId };
}

/** One copy that is being written. */
interface Target {
  copyPartId: number;
  copyId: number;
  name: string;
  capacityBytes: number;
  place: CarrierPlace;
  carrier: Carrier;
  pack: Pack;
  /** It has its name already: an earlier run placed it. */
  placed: boolean;
}

interface Writing {
  context: JobContext;
  step: typeof steps.$inferSelect;
  scope: ArchiveScope;
  archive: typeof archives.$inferSelect;
  part: typeof archiveParts.$inferSelect;
  targets: Target[];
}

async function open(context: JobContext, step: typeof steps.$inferSelect): Promise<Writing> {
  const { db, job } = context;
  const archiveId = Number(job.params.archiveId);
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  const [part] = await db.select().from(archiveParts).where(eq(archiveParts.archiveId, archiveId));
  if (!archive || !part) throw new Error('The archive of this job is not in the catalogue.');
  return { context, step, scope: kind.params.parse(step.what).scope, archive, part, targets: [] };
}

/** Opens the carriers, takes over what earlier runs began, and refuses what cannot go well before anything is written. */
async function prepare(writing: Writing): Promise<void> {
  const { context, archive, part } = writing;
  const rows = await context.db
    .select({ part: copyParts, carrier: carriers })
    .from(copyParts)
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    .where(eq(copyParts.partId, part.id))
    .orderBy(copyParts.id);
  const own = { site: await siteMark(context.db), job: context.job.mark, lease: context.job.lease! };
  const isWeighed = await weighParts(context, archive.id, async (error, file) => {
    if (!(await staysOut(writing, error, file))) await throwFor(writing, error, file);
  });
  if (isWeighed) await noteWeight(writing);
  for (const { part: row, carrier } of rows) {
    const place = placeOf(carrier, context.carrierPath(carrier.id), archive.packer);
    const opened = await openCarrier(place).catch((error: unknown) => {
      if (!(error instanceof CarrierAway)) throw error;
      throw new Refused(
        `${carrier.name} cannot be reached, or another carrier is in its place. Nothing was sealed; the originals were not touched. Connect it and add the archive again.`,
      );
    });
    const target: Target = {
      copyPartId: row.id,
      copyId: row.copyId,
      name: carrier.name,
      capacityBytes: carrier.capacityBytes,
      place,
      carrier: opened,
      pack: { folder: part.folder, ...own, item: part.id },
      placed: false,
    };
    writing.targets.push(target);
    await beginOn(writing, target);
  }
  const done = await doneBytes(writing);
  context.phase(kind.phase, 'bytes', 2 * (await plannedBytes(writing)), 2 * done);
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
      `${target.name} has something named ${packedName(part.folder, archive.packer)} already, and nothing is ever written over. Add the archive again under another name.`,
    );
  const needed = archive.bytes + OVERHEAD_BYTES + (isOneFile(archive.packer) ? archive.files * ENTRY_BYTES : 0);
  const room = await carrierRoom(context.db, target.name, await target.carrier.freeBytes());
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
  const rows = await context.db
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
  const byFile = grouped(rows, (row) => row.fileId);
  const open = targets.filter((target) => !target.placed);
  for (const item of items) await context.root(item.volumeId);
  const held = new Map<number, Held>();
  // One file is written entry by entry.
  await inParallel(isOneFile(archive.packer) ? 1 : context.pools.carriers.size, items, async (item) => {
    const files = byFile.get(item.fileId);
    if (!files) throw notAsPlanned(item.path, 'not archived');
    for (const file of files) {
      try {
        await copyOne(writing, item, { file, open });
      } catch (error) {
        const why = await staysOut(writing, error, file);
        if (!why) return throwFor(writing, error, file);
        await takeOut(writing, files);
        held.set(item.id, why);
        return;
      }
      await inParallel(1, open, (target) => readBack(writing, target, file));
    }
  });
  await refuseManyGaps(writing, held);
  return items.map((item) => ({ item, result: held.get(item.id) ?? { done: true } }));
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
    `${counted(gaps, 'file')} could not go in, the last because ${HELD_WORDS[why!.reason]}. Nothing was sealed, and what was written was thrown away; the originals were not touched. Read the volume again and add the archive anew.`,
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
  writing: Writing,
  item: Item,
  { file, open }: { file: ArchiveFile; open: readonly Target[] },
): Promise<void> {
  const { context } = writing;
  context.check();
  const written = await writtenOn(writing, file);
  const missing = open.filter((target) => !written.has(target.copyPartId) || file.sha512 === null);
  if (missing.length === 0) return;
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
  await noteWritten(context, file, { result, targets: missing });
}

interface Sums {
  sizeBytes: number;
  sha512: string;
  xxh64: string;
}

async function noteWritten(
  context: JobContext,
  file: ArchiveFile,
  { result, targets }: { result: Sums; targets: readonly Target[] },
): Promise<void> {
  const sums = { payloadBytes: result.sizeBytes, sha512: result.sha512, xxh64: result.xxh64 };
  Object.assign(file, sums);
  await context.transaction(async (tx) => {
    await noteProgress(tx, context.job);
    await tx.update(archiveFiles).set(sums).where(eq(archiveFiles.id, file.id));
    for (const { copyPartId } of targets)
      await tx
        .insert(copyFiles)
        .values({ copyPartId, archiveFileId: file.id, state: 'written' })
        .onDuplicateKeyUpdate({ set: { state: 'written', readBackAt: null } });
  });
}

async function writtenOn({ context }: Writing, file: ArchiveFile): Promise<Set<number>> {
  const rows = await context.db
    .select({ id: copyFiles.copyPartId })
    .from(copyFiles)
    .where(eq(copyFiles.archiveFileId, file.id));
  return new Set(rows.map((row) => row.id));
}

async function readBack(writing: Writing, target: Target, file: ArchiveFile): Promise<void> {
  const { context } = writing;
  const sums = await sumOn(writing, target, payloadAt(file), (bytes) => context.add(bytes / writing.targets.length));
  if (sums.xxh64 !== file.xxh64 || sums.sizeBytes !== file.payloadBytes) throw differs(target.name, file.payloadPath);
  const now = context.now();
  await context.transaction((tx) =>
    tx
      .update(copyFiles)
      .set({ state: 'read back', readBackAt: now })
      .where(and(eq(copyFiles.copyPartId, target.copyPartId), eq(copyFiles.archiveFileId, file.id))),
  );
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
      'What had been written of the archive was taken away from its carrier. Nothing was sealed; the originals were not touched. Add the archive again.',
    );
  }
  if (code === 'carrier_away')
    throw new Refused(
      'A carrier was taken away while it was written. Nothing was sealed; the originals were not touched.',
    );
  if (code === 'ENOSPC' || code === 'EDQUOT')
    throw new Refused(
      `The carrier is full, ${size(file.sizeBytes)} of ${file.path} did not fit. What was written was thrown away; the originals were not touched. Choose a larger carrier.`,
    );
  // What could be cut when it was weighed, and cannot now, is another file.
  const reason = code === 'cannot_cut' ? 'changed' : HELD_REASONS.find((one) => one === code);
  if (reason) throw notAsPlanned(file.path, reason);
  throw error;
}

const notAsPlanned = (path: string, reason: HeldReason) =>
  new Refused(
    `${path} cannot go into the archive: ${HELD_WORDS[reason]}. Nothing was sealed, and what was written was thrown away; the originals were not touched. Read the volume again and add the archive anew.`,
  );

const differs = (carrier: string, example: string) =>
  new Refused(
    `${example} on ${carrier} read back differently from what was written. The carrier may be failing. Nothing was sealed and the originals were not touched. Use another carrier.`,
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
        `${target.name} has something named ${packedName(part.folder, archive.packer)} by now, and nothing is ever written over. The originals were not touched. Add the archive again under another name.`,
      );
    });
    target.placed = true;
  }
}

/** The same on every carrier: where one has its lists already, those, whatever became of the project's facts meanwhile. */
async function tagsOf(
  { context, archive, scope, targets }: Writing,
  { files, gaps }: { files: readonly ArchiveFile[]; gaps: readonly Gap[] },
): Promise<TagFiles> {
  const fresh = await tagFiles(context.db, archive, {
    files,
    at: context.job.startedAt ?? context.now(),
    shape: scope,
    gaps,
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
  const original = all.find((one) => one.role === 'original document' && one.fileId === file.fileId)!;
  const text = await relinkedDocument(context.db, {
    projectId: writing.archive.projectId as ProjectId,
    timelines: scope.timelines,
    text: await textOf(open[0]!.carrier, open[0]!.pack, payloadAt(original)),
    fileId: file.fileId,
    at: file.payloadPath,
    files: all,
  });
  let result: Sums | null = null;
  for (const { place, pack } of open)
    result = await context.pools.carriers
      .ask({ do: 'write text', text, to: { carrier: place, pack, at: payloadAt(file) } }, { stop: context.stop })
      .catch((error: unknown) => throwFor(writing, error, file));
  await noteWritten(context, file, { result: result!, targets: open });
  for (const target of open) await readBack(writing, target, file);
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
        `${at} lies in the archive on ${target.name} and was not written there by this work. Nothing was sealed; the originals were not touched. Look who else writes on that carrier.`,
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

const workOf = (writing: Writing, projectId: ProjectId): ItemWork => ({
  kind,
  projectId,
  batch: 20,
  prepare: () => prepare(writing),
  act: (items) => writeItems(writing, items),
  // Nothing of an original is in anybody's hands: what is begun is simply not done.
  finishOrUndo: async (items) => items.map((item) => ({ item, result: null })),
  conclude: (ending) => conclude(writing, ending),
  lastWords: (tx, { held }, ending) => lastWords(writing, tx, { ending, held }),
});

async function withWriting(
  context: JobContext,
  step: typeof steps.$inferSelect,
  run: (writing: Writing) => Promise<void>,
): Promise<void> {
  const writing = await open(context, step);
  try {
    await run(writing);
  } finally {
    for (const { carrier } of writing.targets) await carrier.close();
  }
}

export const archiveProject = serverStep({
  kind,
  async findings(db, step, { projectId, carrierIds, folder, scope }) {
    const findings = [...(await readingFindings(db, step)), ...(await carriersAway(db, step, carrierIds))];
    const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
    const rows = (await carrierRows(db)).filter((row) => carrierIds.includes(row.carrierId));
    for (const row of rows) {
      const { freeBytes } = row;
      if (freeBytes < step.bytes)
        findings.push(
          finding(step, 'carrier too small', 'stop', { carrier: row.name, neededBytes: step.bytes, freeBytes }),
        );
      if (row.layers.some((layer) => layer.folder === folder))
        findings.push(finding(step, 'same name', 'stop', { name: folder, where: row.name }));
    }
    const selection = await projectSelection(db, projectId, scope);
    if (selection.missing > 0)
      findings.push(
        finding(step, 'media missing', 'note', {
          project: project?.name ?? '',
          missing: selection.missing,
          total: selection.mediaTotal,
        }),
      );
    const files = await unweighed(db, step.stepId);
    if (files > 0) findings.push(finding(step, 'not weighed yet', 'note', { files }));
    const renamed = selection.chosen.filter(
      (file) => !file.isDocument && file.parts.length === 0 && nameOf(file.payloadPath) !== file.name,
    );
    if (renamed.length > 0)
      findings.push(
        finding(step, 'renamed in the archive', 'note', {
          files: renamed.length,
          example: nameOf(renamed[0]!.payloadPath),
        }),
      );
    return findings;
  },
  async stores(tx, step, { carrierIds }) {
    const rows = await tx
      .selectDistinct({ id: stepItems.volumeId })
      .from(stepItems)
      .where(eq(stepItems.stepId, step.id));
    return [
      ...rows.map(({ id }) => ({ store: 'volume' as const, id, mode: 'look' as const })),
      ...carrierIds.map((id) => ({ store: 'carrier' as const, id, mode: 'change' as const })),
    ];
  },
  begin: writeRows,
  run: (context, step, { projectId }) =>
    withWriting(context, step, (writing) => runItems(context, step, workOf(writing, projectId))),
  giveUp: (context, step, { projectId }) =>
    withWriting(context, step, (writing) =>
      finishItems(context, step, {
        work: workOf(writing, projectId),
        ending: { state: 'failed', trouble: context.givenUp },
      }),
    ),
});
