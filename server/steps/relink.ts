// Gives media of documents the files a person chose: each document gets a new version beside the old one, which stays as
// it is. Refused where a document or a chosen file is no longer what the choice was made for.
import { eq, inArray } from 'drizzle-orm';
import { z } from 'zod';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { counted } from '#core/wording/amounts.ts';
import { look } from '#disk/facts.ts';
import { locate } from '#disk/paths.ts';
import { inTransaction } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents, media } from '../db/schema/documents.ts';
import { volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../ledger/ledger.ts';
import type { JobContext } from '../runtime/context.ts';
import { type NewVersion, type Place, relinkOne } from './move-documents.ts';
import { endJob } from '../runtime/queue.ts';
import { readDocuments } from '../readings/read-documents.ts';
import { readVolume } from '../readings/read-volume.ts';

export const RelinkParams = z.object({
  projectId: z.number(),
  choices: z.array(z.object({ mediaId: z.number(), fileId: z.number() })).min(1),
});

export async function runRelink(context: JobContext): Promise<void> {
  const { db, job, pools } = context;
  const { projectId, choices } = RelinkParams.parse(job.params);
  context.phase('writing new versions', 'files', choices.length);
  const places = await placesOf(context, choices);
  const rows = await db
    .select({ mediaId: media.id, documentId: media.documentId, projectId: media.projectId, name: media.name })
    .from(media)
    .where(inArray(media.id, [...places.keys()]));
  const byDocument = new Map<number, Map<number, Place>>();
  for (const { mediaId, documentId } of rows)
    byDocument.set(documentId, (byDocument.get(documentId) ?? new Map()).set(mediaId, places.get(mediaId)!));
  if (rows.length !== choices.length || rows.some((row) => row.projectId !== projectId))
    throw new Refused(
      'The documents were read anew since, so the choice no longer fits. Nothing was written; choose again.',
    );
  const versions: NewVersion[] = [];
  const names: string[] = [];
  const before = await Promise.all([...byDocument.keys()].map((documentId) => expectUnchanged(context, documentId)));
  for (const [documentId, chosen] of byDocument) {
    await context.checkLease();
    // Written and read already by an earlier run of this very job, which was killed before it could say so.
    const done = before.find((one) => one.documentId === documentId)!.newer;
    const version = done === null ? await relinkOne(db, documentId, chosen) : null;
    if (done === null && !version)
      throw new Refused(
        `A document cannot be written anew: it is a bundle, a sound session, its text is not UTF-8, or nothing in it would change. ${names.length > 0 ? `${names.join(', ')} had been written and stays.` : 'Nothing was written.'} Relink it in the program that wrote it.`,
      );
    if (version) versions.push(version);
    names.push(version?.name ?? done!);
    context.add(chosen.size);
  }
  for (const { volumeId, folder } of versions) {
    const options = { stop: context.stop, now: context.now, folder };
    const reading = await readVolume(db, pools.walk, volumeId as VolumeId, options);
    await readDocuments(db, pools.documents, volumeId as VolumeId, { now: context.now, reading });
  }
  await inTransaction(db, async (tx) => {
    await writeReceipt(tx, {
      at: context.now(),
      who: job.who,
      action: 'media relinked',
      title: `${counted(rows.length, 'clip')} relinked in ${names.join(', ')}`.slice(0, 480),
      projectId: projectId as ProjectId,
      jobId: job.id,
      files: rows.length,
      bytes: 0,
      held: 0,
      facts: { newVersions: names },
      itemsSha256: itemsHash(rows.map((row) => `${row.name}\t${JSON.stringify(places.get(row.mediaId))}`)),
    });
    await endJob(tx, job, { state: 'done' });
  });
}

/** Where the chosen files lie; refused where one is not there any more. */
async function placesOf(
  { db }: JobContext,
  choices: readonly { mediaId: number; fileId: number }[],
): Promise<Map<number, Place>> {
  const found = await db
    .select({ file: files, folder: folders.path, rawFolder: folders.rawPath, volume: volumes })
    .from(files)
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(
      inArray(
        files.id,
        choices.map((choice) => choice.fileId),
      ),
    );
  const places = new Map<number, Place>();
  for (const { mediaId, fileId } of choices) {
    const row = found.find((each) => each.file.id === fileId);
    if (!row || row.file.rawName || row.rawFolder)
      throw new Refused(
        'A chosen file is no longer known, or its name is not text. Nothing was written; choose again.',
      );
    const place = joinPath(row.folder, row.file.name);
    const facts = look(locate(row.volume.path, { path: place }));
    if (facts.is !== 'file' || facts.sizeBytes !== row.file.sizeBytes || facts.modifiedUs !== row.file.modifiedUs)
      throw new Refused(
        `${row.file.name} on ${row.volume.name} is not what was chosen any more. Nothing was written; read the volume again and choose anew.`,
      );
    places.set(mediaId, { volumeId: row.volume.id, path: place });
  }
  return places;
}

/**
 * The document must be the one that was read: what it names could be something else by now. Where a newer version counts,
 * that is refused too, unless it is a run of this job before that wrote it; then its name is given.
 */
async function expectUnchanged(
  { db, job }: JobContext,
  documentId: number,
): Promise<{ documentId: number; newer: string | null }> {
  const [row] = await db
    .select({ document: documents, name: files.name, folder: folders.path, volume: volumes })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(eq(documents.id, documentId));
  if (!row) throw new Refused('The document is no longer known. Nothing was written.');
  if (row.volume.readOnly) throw new Refused(`${row.volume.name} can only be read. Nothing was written.`);
  const facts = look(locate(row.volume.path, { path: joinPath(row.folder, row.name) }));
  const { readSizeBytes, readModifiedUs, state, supersededBy } = row.document;
  const same = facts.is === 'file' && facts.sizeBytes === readSizeBytes && facts.modifiedUs === readModifiedUs;
  if (!same || state !== 'read')
    throw new Refused(
      `${row.name} was changed since it was read. Nothing was written; read ${row.volume.name} again first.`,
    );
  if (supersededBy === null) return { documentId, newer: null };
  const [newer] = await db
    .select({ name: documents.name, readAt: documents.readAt })
    .from(documents)
    .where(eq(documents.id, supersededBy));
  const isOurs = job.attempts > 1 && newer !== undefined && job.startedAt !== null && newer.readAt >= job.startedAt;
  if (!isOurs)
    throw new Refused(
      `${newer?.name ?? 'A newer version'} counts in the stead of ${row.name} by now. Nothing was written; choose again for that one.`,
    );
  return { documentId, newer: newer.name };
}
