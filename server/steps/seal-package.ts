// The end of a package: its documents relinked, its lists, a last look at everything that lies in it, and then its name, carrier
// by carrier; and what is written down of it afterwards.
import { and, eq, inArray, sql } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { HELD_WORDS } from '#core/plan/plan.ts';
import { readSmall } from '#disk/beside.ts';
import { codeOf, isMissing, isUnchanged, look } from '#disk/facts.ts';
import { sha512 } from '#disk/sums.ts';
import { noteContents } from '../archives/contents.ts';
import { type ArchiveFile, type Gap, payloadAt, type TagFiles, tagFiles } from '../archives/bag.ts';
import { packedName } from '../carriers/packers.ts';
import type { Transaction } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { stepItems } from '../db/schema/plans.ts';
import type { Ending } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { relinkedDocument } from './archive-documents.ts';
import {
  type Bench,
  differs,
  inOwnParts,
  keepSums,
  notAsPlanned,
  noteFiles,
  openFor,
  type Part,
  partsOf,
  readBack,
  sumOn,
  type Sums,
  type Target,
  textOf,
  throwFor,
  type Writing,
} from './package-model.ts';

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
export async function takeOut(writing: Writing, rows: readonly ArchiveFile[]): Promise<void> {
  const { context } = writing;
  await context.transaction(async (tx) => {
    for (const { id } of rows) await tx.delete(copyFiles).where(eq(copyFiles.archiveFileId, id));
  });
  for (const file of [...rows].reverse())
    for (const target of openFor(writing, file)) {
      await context.assertLease();
      await target.carrier.remove(target.pack, payloadAt(file));
    }
}

/** Documents and tag files, a last look at everything that lies in the bag, and then its name. */
export async function seal(writing: Writing): Promise<void> {
  const { context, archive, parts } = writing;
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
  for (const part of parts) await sealPart(writing, part, { files, gaps });
  await placeAll(writing);
}

/** No part gets its name before all of them are whole. */
export async function placeAll({ context, archive, targets }: Bench): Promise<void> {
  for (const target of targets) {
    if (target.placed) continue;
    await context.assertLease();
    await target.carrier.place(target.pack).catch((error: unknown) => {
      if (codeOf(error) !== 'EEXIST') throw error;
      throw new Refused(
        `${target.name} has something named ${packedName(target.part.folder, archive.packer)} by now, and nothing is ever written over. The originals were not touched. Add it to the plan again under another name.`,
      );
    });
    target.placed = true;
  }
}

interface Contents {
  /** All of the archive, also what lies in its other parts or in an earlier archive. */
  files: readonly ArchiveFile[];
  gaps: readonly Gap[];
}

async function sealPart(writing: Writing, part: Part, contents: Contents): Promise<void> {
  const { context, targets } = writing;
  const open = targets.filter((target) => !target.placed && target.part.id === part.id);
  if (open.length === 0) return;
  const tags = await tagsOf(writing, part, contents);
  const files = contents.files.filter((file) => file.partId === part.id);
  for (const target of open) await writeTags(writing, target, { tags, files });
  await context.transaction((tx) =>
    tx.update(archiveParts).set({ manifestSha512: tags.manifestSha512 }).where(eq(archiveParts.id, part.id)),
  );
}

/** The same on every carrier: where one has its lists already, those, whatever became of the project's facts meanwhile. */
async function tagsOf(
  { context, archive, purpose, scope, targets, parts }: Writing,
  part: Part,
  { files, gaps }: Contents,
): Promise<TagFiles> {
  const fresh = await tagFiles(context.db, archive, {
    ...{ files, gaps, part, parts },
    at: context.job.startedAt ?? context.now(),
    shape: scope,
    handedTo: purpose.handedTo,
  });
  const placed = targets.find((target) => target.placed && target.part.id === part.id);
  if (!placed) return fresh;
  const texts: [string, string][] = [];
  for (const [name] of fresh.texts) texts.push([name, await textOf(placed.carrier, placed.pack.folder, name)]);
  return { texts, manifestSha512: sha512(texts.at(-1)![1]) };
}

async function writeDocument(writing: Writing, file: ArchiveFile, all: readonly ArchiveFile[]): Promise<void> {
  const { context, scope } = writing;
  const open = openFor(writing, file);
  if (open.length === 0) return;
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
async function originalText(writing: Writing, file: ArchiveFile, all: readonly ArchiveFile[]) {
  const { context } = writing;
  const original = all.find(
    (one) => one.role === 'original document' && one.fileId === file.fileId && one.partId === file.partId,
  );
  const [first] = openFor(writing, file);
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

export async function writeTags(
  writing: Bench,
  target: Target,
  { tags, files }: { tags: Pick<TagFiles, 'texts'>; files: readonly ArchiveFile[] },
): Promise<void> {
  const { context } = writing;
  for (const [at, text] of tags.texts) {
    await context.pools.carriers
      .ask({ do: 'write text', text, to: { carrier: target.place, pack: target.pack, at } }, { stop: context.stop })
      .catch((error: unknown) => throwFor(writing, error, { path: at, sizeBytes: Buffer.byteLength(text) }));
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
export async function discard(writing: Bench): Promise<void> {
  for (const { carrier, pack, placed } of writing.targets) {
    if (placed) continue;
    await writing.context.assertLease();
    await carrier.discard(pack);
  }
}

/** What was taken of the originals: of those that went in as parts, those. */
const takenBytes = (files: readonly { role: string; payloadBytes: number | null }[]): number =>
  files.reduce((sum, file) => sum + (file.role === 'document' ? 0 : (file.payloadBytes ?? 0)), 0);

/** Files of the project, each once: a relinked document is the same one again. */
const ownFiles = (files: readonly { role: string }[]): number =>
  files.filter((file) => file.role !== 'document').length;

/** The archive and its copies as they are now. A copy all of whose parts got their names is whole, whatever became of the others. */
export async function lastWords(
  writing: Writing,
  tx: Transaction,
  { ending, held }: { ending: Ending; held: number },
): Promise<Record<string, unknown>> {
  const { context, archive, targets } = writing;
  const now = context.now();
  const copies = await tx.select().from(archiveCopies).where(eq(archiveCopies.archiveId, archive.id));
  const own = (copyId: number) => targets.filter((target) => target.copyId === copyId);
  const isGood = (copyId: number) => own(copyId).length > 0 && own(copyId).every((target) => target.placed);
  const isSealed = copies.some((copy) => isGood(copy.id));
  for (const copy of copies) {
    const good = isGood(copy.id);
    await tx
      .update(archiveCopies)
      .set({ state: good ? 'good' : 'ended early', ...(good ? { writtenAt: now, readBackAt: now } : {}) })
      .where(eq(archiveCopies.id, copy.id));
    // A part that lies there whole is as good as any, where there is an archive that it is a part of.
    for (const { copyPartId, placed } of own(copy.id))
      await tx
        .update(copyParts)
        .set(placed && isSealed ? { state: 'good', readBackAt: now } : { state: 'ended early' })
        .where(eq(copyParts.id, copyPartId));
    if (own(copy.id).length === 0)
      await tx.update(copyParts).set({ state: 'ended early' }).where(eq(copyParts.copyId, copy.id));
  }
  return { ...(await noteArchive(writing, tx, { isSealed, held })), ...(await factsOf(writing, tx, ending)) };
}

async function noteArchive(
  { context, archive, parts, scope }: Writing,
  tx: Transaction,
  { isSealed, held }: { isSealed: boolean; held: number },
): Promise<Record<string, unknown>> {
  const all = await tx.select().from(archiveFiles).where(eq(archiveFiles.archiveId, archive.id));
  for (const part of parts) {
    const own = all.filter((file) => file.partId === part.id);
    await tx
      .update(archiveParts)
      .set({ files: own.length, bytes: payloadBytes(own) })
      .where(eq(archiveParts.id, part.id));
  }
  const sums = { files: ownFiles(all), bytes: payloadBytes(all) };
  if (isSealed) await takeOverProof(tx, archive);
  if (isSealed && archive.purpose === 'archive') await noteContents(tx, archive, { ...scope, now: context.now() });
  await tx
    .update(archives)
    .set(
      isSealed
        ? { state: 'sealed', sealedAt: context.now(), ...sums, gaps: held, jobId: context.job.id }
        : { state: 'ended early', jobId: context.job.id },
    )
    .where(eq(archives.id, archive.id));
  return { archiveId: archive.id, folder: archive.folder };
}

const payloadBytes = (files: readonly { payloadBytes: number | null }[]): number =>
  files.reduce((sum, file) => sum + (file.payloadBytes ?? 0), 0);

/** What lies in the archive it builds on was read back there: that counts for this one as well. */
const takeOverProof = (tx: Transaction, { id, baseId }: typeof archives.$inferSelect) =>
  baseId === null
    ? undefined
    : tx.execute(sql`
        INSERT INTO copy_files (copy_part_id, archive_file_id, state, read_back_at)
        SELECT c.copy_part_id, f.id, c.state, c.read_back_at FROM archive_files f
        JOIN archive_files b ON b.archive_id = ${baseId} AND b.part_id = f.part_id AND b.file_id = f.file_id AND b.payload_path = f.payload_path
        JOIN copy_files c ON c.archive_file_id = b.id
        WHERE f.archive_id = ${id}`);

/** What the receipt says of where it lies and what it is known by. */
async function factsOf(writing: Writing, tx: Transaction, ending: Ending): Promise<Record<string, unknown>> {
  const { context, archive, targets } = writing;
  const placed = targets.filter((target) => target.placed);
  const carriers = [...new Set(placed.map((target) => target.name))];
  if (ending.state !== 'done') return { carriers };
  const written = await tx.select().from(archiveFiles).where(inOwnParts(writing));
  const now = await partsOf(context.db, archive.id);
  const [only] = now;
  return {
    carriers,
    bytes: takenBytes(written),
    ...(now.length === 1
      ? { tagManifestSha512: only!.manifestSha512 }
      : {
          parts: now.map(({ id, folder, manifestSha512 }) => ({
            ...{ folder, tagManifestSha512: manifestSha512 },
            carriers: placed.filter((target) => target.part.id === id).map((target) => target.name),
          })),
        }),
  };
}
