// Writes an archive: a bag (RFC 8493) in one top folder. Copies every file with its sums, relinks the documents inside,
// writes the tag files, reads everything back from the medium, and only then gives the bag its name. One file that is
// not what was staged ends the work: an archive is whole or it is not.
import { createHash } from 'node:crypto';
import { eq } from 'drizzle-orm';
import {
  BAG_DECLARATION,
  bagInfoText,
  FAST_SUMS,
  MANIFEST,
  manifestText,
  PAYLOAD,
  payloadOxum,
  TAG_MANIFEST,
} from '#core/fixity/bagit.ts';
import { HELD_WORDS, type HeldReason, HELD_REASONS } from '#core/plan/plan.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { codeOf } from '#disk/facts.ts';
import { locate } from '#disk/paths.ts';
import { type ArchiveSink, folderCarrier } from '../carriers/carrier.ts';
import { inTransaction } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archives } from '../db/schema/archives.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers, volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../ledger/ledger.ts';
import { stateOf, tooSmall } from '../stores/stores.ts';
import { relinkedDocument } from './archive-documents.ts';
import type { JobContext } from '../runtime/context.ts';
import { endJob } from '../runtime/queue.ts';

type Archive = typeof archives.$inferSelect;
export type ArchiveFile = typeof archiveFiles.$inferSelect;
interface Writing {
  context: JobContext;
  archive: Archive;
  carrier: typeof carriers.$inferSelect;
  sink: ArchiveSink;
}

/** Room for tag files and relinked documents, beside the payload. */
const OVERHEAD_BYTES = 16_000_000;

export async function runArchive(context: JobContext): Promise<void> {
  const writing = await open(context);
  try {
    await write(writing);
  } catch (thrown) {
    const error = context.reasonOf(thrown);
    // Ended for good, not killed: nothing half-written stays. A killed run leaves it for the next to go on with.
    if (endsForGood(error)) await throwAway(writing);
    throw error;
  }
}

/** Throws away what a failed or cancelled job had written, and says so in the catalogue. Its originals were not touched. */
export async function throwAway({ context, archive, sink }: Writing): Promise<void> {
  sink.discard();
  await context.db.update(archives).set({ state: 'ended early' }).where(eq(archives.id, archive.id));
  await context.db.update(archiveCopies).set({ state: 'ended early' }).where(eq(archiveCopies.archiveId, archive.id));
}

const endsForGood = (error: unknown) => (error as Error).name !== 'LeaseLost';

async function open(context: JobContext): Promise<Writing> {
  const { db, job } = context;
  const archiveId = Number(job.params.archiveId);
  const [archive] = await db.select().from(archives).where(eq(archives.id, archiveId));
  const [copy] = await db.select().from(archiveCopies).where(eq(archiveCopies.archiveId, archiveId));
  const [carrier] = copy ? await db.select().from(carriers).where(eq(carriers.id, copy.carrierId)) : [];
  if (!archive || !carrier) throw new Error('The archive of this job is not in the catalogue.');
  if (archive.state === 'ended early')
    throw new Refused(
      `Writing ${archive.name} was ended early and thrown away. The originals were not touched. Stage it again.`,
    );
  if (stateOf(carrier).state !== 'reachable')
    throw new Refused(
      `${carrier.name} cannot be reached, or another carrier is in its place. Nothing was written. Connect it and stage the archive again.`,
    );
  const sink = folderCarrier(carrier.path, carrier.capacityBytes).sink(
    archive.folder,
    `archive-${archive.id}`,
    context.pools.content,
  );
  return { context, archive, carrier, sink };
}

async function write(writing: Writing): Promise<void> {
  const { context, archive, sink } = writing;
  const files = await context.db
    .select()
    .from(archiveFiles)
    .where(eq(archiveFiles.archiveId, archive.id))
    .orderBy(archiveFiles.id);
  if (sink.isSealed() && files.every((file) => file.state === 'read back')) return settle(writing, files);
  if (!sink.isBegun()) {
    // Begun on another carrier, or thrown away by hand: nothing that the journal says was copied can be trusted.
    for (const file of files) file.state = 'waiting';
    refuseWhereNoRoom(writing);
  }
  const originals = files.filter((file) => file.role !== 'document');
  const total = 2 * originals.reduce((sum, file) => sum + file.sizeBytes, 0);
  const before = originals.filter((file) => file.state !== 'waiting').reduce((sum, file) => sum + file.sizeBytes, 0);
  context.phase('copying', 'bytes', total, before);
  await copyAll(writing, originals);
  for (const file of files.filter((f) => f.role === 'document')) await writeDocument(writing, file, files);
  await writeTags(writing, files);
  context.rename('reading back');
  await readBackAll(writing, files);
  await context.checkLease();
  sink.seal();
  await settle(writing, files);
}

function refuseWhereNoRoom({ archive, carrier, sink }: Writing): void {
  const place = folderCarrier(carrier.path, carrier.capacityBytes);
  if (place.has(archive.folder))
    throw new Refused(
      `${carrier.name} has a folder ${archive.folder} already, and nothing is ever written over. Stage the archive again under another name.`,
    );
  const needed = archive.bytes + OVERHEAD_BYTES;
  const free = place.freeBytes();
  if (free < needed) throw new Refused(tooSmall(carrier.name, needed, free));
  sink.discard();
}

/** Copies what is waiting, as many at a time as there are threads. */
async function copyAll(writing: Writing, files: ArchiveFile[]): Promise<void> {
  const roots = await rootsOf(writing.context, files);
  await inParallel(
    writing.context.pools.content.size,
    files.filter((file) => file.state === 'waiting'),
    (file) => copyOne(writing, file, roots),
  );
}

async function copyOne({ context, sink }: Writing, file: ArchiveFile, roots: Map<number, string>): Promise<void> {
  context.check();
  const root = roots.get(file.volumeId);
  if (!root) throw notAsStaged(file, 'unreachable');
  try {
    const from = locate(root, { path: file.path, raw: file.rawPath });
    const result = await sink.copyIn(from, `${PAYLOAD}/${file.payloadPath}`, {
      expected: file,
      sha512: true,
      progress: (bytes) => context.add(bytes),
      stop: context.stop,
    });
    Object.assign(file, {
      state: 'copied',
      payloadBytes: result.sizeBytes,
      sha512: result.sha512,
      xxh128: result.xxh128,
    });
    await context.db
      .update(archiveFiles)
      .set({ state: 'copied', payloadBytes: result.sizeBytes, sha512: result.sha512, xxh128: result.xxh128 })
      .where(eq(archiveFiles.id, file.id));
  } catch (error) {
    context.check();
    const code = codeOf(error);
    if (code === 'ENOSPC')
      throw new Refused(
        `The carrier is full, ${size(file.sizeBytes)} of ${file.path} did not fit. What was written was thrown away; the originals were not touched. Choose a larger carrier.`,
      );
    if (code === 'ENOENT') throw notAsStaged(file, 'gone');
    if (code === 'ELOOP') throw notAsStaged(file, 'not a file');
    if (code === 'EACCES' || code === 'EPERM') throw notAsStaged(file, 'not permitted');
    if ((HELD_REASONS as readonly string[]).includes(code)) throw notAsStaged(file, code as HeldReason);
    throw error;
  }
}

const notAsStaged = (file: ArchiveFile, reason: HeldReason) =>
  new Refused(
    `${file.path} cannot go into the archive: ${HELD_WORDS[reason]}. Nothing was sealed, and what was written was thrown away; the originals were not touched. Read the volume again and stage the archive anew.`,
  );

async function rootsOf({ db }: JobContext, files: ArchiveFile[]): Promise<Map<number, string>> {
  const ids = new Set(files.map((file) => file.volumeId));
  const all = (await db.select().from(volumes)).filter((volume) => ids.has(volume.id));
  return new Map(
    all.filter((volume) => stateOf(volume).state === 'reachable').map((volume) => [volume.id, volume.path]),
  );
}

async function writeDocument({ context, sink }: Writing, file: ArchiveFile, all: ArchiveFile[]): Promise<void> {
  const original = all.find((f) => f.role === 'original document' && f.fileId === file.fileId)!;
  const text = await relinkedDocument(context.db, {
    text: sink.readText(`${PAYLOAD}/${original.payloadPath}`),
    fileId: file.fileId,
    at: file.payloadPath,
    files: all,
  });
  sink.writeText(`${PAYLOAD}/${file.payloadPath}`, text);
  const sums = await sink.readBack(`${PAYLOAD}/${file.payloadPath}`, {
    sha512: true,
    progress: () => {},
    stop: context.stop,
  });
  const facts = { state: 'copied' as const, payloadBytes: sums.sizeBytes, sha512: sums.sha512, xxh128: sums.xxh128 };
  Object.assign(file, facts);
  await context.db.update(archiveFiles).set(facts).where(eq(archiveFiles.id, file.id));
}

async function writeTags({ context, archive, carrier, sink }: Writing, files: ArchiveFile[]): Promise<void> {
  const { db } = context;
  const [project] = await db.select().from(projects).where(eq(projects.id, archive.projectId));
  const names = new Map(
    (await db.select({ id: volumes.id, name: volumes.name }).from(volumes)).map((v) => [v.id, v.name]),
  );
  const bytes = files.reduce((sum, file) => sum + (file.payloadBytes ?? 0), 0);
  const contents = {
    format: 'keramion-archive 1',
    project: project!.name,
    archive: archive.name,
    files: files.map((file) => ({
      path: `${PAYLOAD}/${file.payloadPath}`,
      role: file.role,
      sizeBytes: file.payloadBytes,
      original: {
        volume: names.get(file.volumeId) ?? '',
        path: file.path,
        sizeBytes: file.sizeBytes,
        modified: new Date(file.modifiedUs / 1000).toISOString(),
      },
    })),
  };
  const tags: [name: string, text: string][] = [
    ['bagit.txt', BAG_DECLARATION],
    [
      'bag-info.txt',
      bagInfoText([
        ['External-Identifier', archive.folder],
        ['External-Description', `Archive of the project ${project!.name}`],
        ['Bagging-Date', (context.job.startedAt ?? context.now()).toISOString().slice(0, 10)],
        ['Bag-Software-Agent', 'Keramion'],
        ['Payload-Oxum', payloadOxum(bytes, files.length)],
        ['Keramion-Carrier', carrier.name],
      ]),
    ],
    [MANIFEST, manifestText(files.map((file) => ({ path: `${PAYLOAD}/${file.payloadPath}`, hash: file.sha512! })))],
    [FAST_SUMS, manifestText(files.map((file) => ({ path: `${PAYLOAD}/${file.payloadPath}`, hash: file.xxh128! })))],
    ['keramion-archive.json', `${JSON.stringify(contents, null, 2)}\n`],
  ];
  for (const [name, text] of tags) sink.writeText(name, text);
  const tagManifest = manifestText(tags.map(([name, text]) => ({ path: name, hash: sha512(text) })));
  sink.writeText(TAG_MANIFEST, tagManifest);
  archive.manifestSha512 = sha512(tagManifest);
  await db.update(archives).set({ manifestSha512: archive.manifestSha512 }).where(eq(archives.id, archive.id));
  for (const [name, text] of [...tags, [TAG_MANIFEST, tagManifest] as const]) {
    const sums = await sink.readBack(name, { sha512: true, progress: () => {}, stop: context.stop });
    if (sums.sha512 !== sha512(text)) throw differs(carrier.name, name, 1);
  }
}

export const sha512 = (text: string): string => createHash('sha512').update(text).digest('hex');

async function readBackAll({ context, carrier, sink }: Writing, files: ArchiveFile[]): Promise<void> {
  const different: string[] = [];
  await inParallel(context.pools.content.size, files, async (file) => {
    context.check();
    const counts = file.role !== 'document';
    const sums = await sink.readBack(`${PAYLOAD}/${file.payloadPath}`, {
      sha512: false,
      progress: (bytes) => counts && context.add(bytes),
      stop: context.stop,
    });
    if (sums.xxh128 !== file.xxh128 || sums.sizeBytes !== file.payloadBytes) different.push(file.payloadPath);
    else {
      file.state = 'read back';
      await context.db.update(archiveFiles).set({ state: 'read back' }).where(eq(archiveFiles.id, file.id));
    }
  });
  if (different.length > 0) throw differs(carrier.name, different[0]!, different.length);
}

const differs = (carrier: string, example: string, files: number) =>
  new Refused(
    `${counted(files, 'file')} on ${carrier} read back differently from what was written, for example ${example}. The carrier may be failing. Nothing was sealed and the originals were not touched. Use another carrier.`,
  );

async function settle({ context, archive, carrier }: Writing, files: ArchiveFile[]): Promise<void> {
  const { db, job } = context;
  const bytes = files.reduce((sum, file) => sum + (file.payloadBytes ?? 0), 0);
  const now = context.now();
  await inTransaction(db, async (tx) => {
    await tx
      .update(archives)
      .set({ state: 'sealed', sealedAt: now, files: files.length, bytes })
      .where(eq(archives.id, archive.id));
    await tx
      .update(archiveCopies)
      .set({ state: 'good', writtenAt: now, readBackAt: now })
      .where(eq(archiveCopies.archiveId, archive.id));
    await writeReceipt(tx, {
      at: now,
      who: job.who,
      action: 'archive sealed',
      title: job.title,
      projectId: archive.projectId,
      jobId: job.id,
      stepId: job.stepId,
      files: files.length,
      bytes,
      held: 0,
      facts: {
        archiveId: archive.id,
        folder: archive.folder,
        carrier: carrier.name,
        tagManifestSha512: archive.manifestSha512,
      },
      itemsSha256: itemsHash(files.map((file) => `${file.sha512}  ${PAYLOAD}/${file.payloadPath}`)),
    });
    await endJob(tx, job, { state: 'done' });
  });
}

/** Runs `work` over a list, `width` at a time; the first error ends it once what runs has ended. */
export async function inParallel<T>(
  width: number,
  list: readonly T[],
  work: (item: T) => Promise<void>,
): Promise<void> {
  let next = 0;
  let failure: { error: unknown } | null = null;
  await Promise.all(
    Array.from({ length: Math.min(width, list.length) }, async () => {
      while (next < list.length && !failure) {
        try {
          await work(list[next++]!);
        } catch (error) {
          failure ??= { error };
        }
      }
    }),
  );
  if (failure) throw (failure as { error: unknown }).error;
}
