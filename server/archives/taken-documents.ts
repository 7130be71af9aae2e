// What the documents in a folder that was taken in say: their timelines, bins and clips, and which of its files are meant by the
// places they name. So it can be searched, and brought back by timeline and bin, like what was archived here.
import { and, asc, eq, gt, isNotNull, sql } from 'drizzle-orm';
import { TakenFiles } from '#core/archive/taken-targets.ts';
import { documentFormat } from '#core/documents/formats/registry.ts';
import type { DocumentModel, DocumentReading, MediaRef } from '#core/documents/model.ts';
import { PAYLOAD } from '#core/fixity/bagit.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { readDocument } from '#disk/documents/documents.ts';
import { withScratch } from '#disk/scratch.ts';
import { readFromCarrier } from '../carriers/copying.ts';
import type { Db } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { noteBins } from './contents.ts';
import { archiveClips, archiveFiles, archiveTimelines, archiveUses } from '../db/schema/archives.ts';
import type { JobContext } from '../runtime/context.ts';
import type { CopyPart } from './copies.ts';

interface Taken {
  id: number;
  fileId: number;
  /** In the folder. */
  path: string;
  sizeBytes: number;
  partId: number;
}

/** Larger documents are kept and not looked into. */
const LARGEST = 256 << 20;
const MOST_BROKEN = 200;

export interface TakenContents {
  documents: number;
  timelines: number;
  /** Documents that could not be read, with the reason; as many as a receipt is read for. */
  broken: { path: string; why: string }[];
}

/** Reads every document of what was taken in, and keeps what it says. What an earlier run of the work kept is written anew. */
export async function noteTakenDocuments(
  context: JobContext,
  part: CopyPart,
  archiveId: number,
): Promise<TakenContents> {
  const all = await takenFiles(context.db, archiveId);
  const files = new TakenFiles(all);
  const told: TakenContents = { documents: 0, timelines: 0, broken: [] };
  await context.transaction(async (tx) => {
    await tx.execute(
      sql`DELETE u FROM archive_uses u JOIN archive_timelines t ON t.id = u.timeline_id WHERE t.archive_id = ${archiveId}`,
    );
    await tx.delete(archiveTimelines).where(eq(archiveTimelines.archiveId, archiveId));
    await tx.delete(archiveClips).where(eq(archiveClips.archiveId, archiveId));
    await noteBins(tx, archiveId);
  });
  for (const file of all) {
    // Of what lies elsewhere the documents are read there.
    if (file.partId !== part.partId || documentFormat(nameOf(file.path)) === null || file.sizeBytes > LARGEST) continue;
    context.check();
    const reading = await read(context, part, file);
    if (!reading.ok) {
      if (told.broken.length < MOST_BROKEN)
        told.broken.push({ path: file.path, why: `${reading.trouble.detail} (${reading.trouble.where})` });
      continue;
    }
    told.documents++;
    told.timelines += reading.document.timelines.length;
    await keep(context, { archiveId, file, files, document: reading.document });
  }
  return told;
}

async function takenFiles(db: Db, archiveId: number): Promise<Taken[]> {
  const all: Taken[] = [];
  for (let last = 0; ;) {
    const rows = await db
      .select({
        ...{ id: archiveFiles.id, fileId: archiveFiles.fileId, path: archiveFiles.payloadPath },
        ...{ sizeBytes: archiveFiles.sizeBytes, partId: archiveFiles.partId },
      })
      .from(archiveFiles)
      .where(and(eq(archiveFiles.archiveId, archiveId), gt(archiveFiles.id, last), isNotNull(archiveFiles.sha512)))
      .orderBy(asc(archiveFiles.id))
      .limit(10_000);
    all.push(...rows);
    if (rows.length < 10_000) return all;
    last = rows.at(-1)!.id;
  }
}

const read = (context: JobContext, part: CopyPart, { path, sizeBytes }: Taken): Promise<DocumentReading> =>
  withScratch(async (to) => {
    const from = { carrier: part.place, of: part.folder, at: `${PAYLOAD}/${path}`, strong: false };
    await readFromCarrier(context.pools.carriers, { from, to }, { stop: context.stop });
    const request = { path: to, name: nameOf(path) };
    return (await readDocument(context.pools.documents, request, { sizeBytes, modifiedUs: 0 })).reading;
  });

interface Kept {
  archiveId: number;
  file: Taken;
  files: TakenFiles<Taken>;
  document: DocumentModel;
}

/** What it says, with the files that are meant; its uses by the file, each once. */
async function keep(context: JobContext, { archiveId, file, files, document }: Kept): Promise<void> {
  const meant = new Map(document.media.map((one) => [one.key, filesOf(one, folderOf(file.path), files)]));
  const binNames = new Map(document.bins.map((bin) => [bin.key, bin]));
  const pathOf = (key: number | null): string => {
    const names: string[] = [];
    for (let bin = key === null ? undefined : binNames.get(key); bin && names.length < 64;) {
      names.unshift(bin.name);
      bin = bin.parent === null ? undefined : binNames.get(bin.parent);
    }
    return names.join('/').slice(0, 4000);
  };
  const own = { archiveId, documentFileId: file.fileId };
  await context.transaction(async (tx) => {
    for (const timeline of document.timelines) {
      const media = [...new Set(timeline.uses.map((use) => use.media))];
      const ids = new Set(media.flatMap((key) => (meant.get(key) ?? []).map((one) => one.id)));
      if (ids.size === 0) continue;
      const [{ insertId: timelineId }] = await tx.insert(archiveTimelines).values({
        ...{ ...own, name: timeline.name.slice(0, 1020), durationFrames: timeline.durationFrames },
        ...{ rateNum: timeline.rate.num, rateDen: timeline.rate.den },
        missing: media.filter((key) => (meant.get(key) ?? []).length === 0).length,
      });
      for (const some of inSlices([...ids], 1000))
        await tx.insert(archiveUses).values(some.map((archiveFileId) => ({ timelineId, archiveFileId })));
    }
    const clips = document.clips.map((clip) => ({
      ...{ ...own, bin: pathOf(clip.bin), name: clip.name.slice(0, 1020) },
      archiveFileId: (clip.media === null ? undefined : meant.get(clip.media)?.[0]?.id) ?? null,
    }));
    for (const some of inSlices(clips, 1000)) await tx.insert(archiveClips).values(some);
    await noteBins(tx, archiveId);
  });
}

/** Of stills all that are there; of media inside the document nothing, as the document itself is there. */
function filesOf({ target, stills, bundled }: MediaRef, folder: string, files: TakenFiles<Taken>): Taken[] {
  if (target === null || bundled) return [];
  const found = files.meant(target, folder);
  if (!found) return [];
  return stills ? files.sequence(found) : [found];
}
