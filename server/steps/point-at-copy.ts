// After something was handed over as a folder: the project's documents get a new version that names the copies there. The old
// version is never touched, and what did not go along stays where it was named.
import { eq } from 'drizzle-orm';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { isUnchanged } from '#disk/facts.ts';
import { payloadAt } from '../archives/bag.ts';
import { archiveFiles } from '../db/schema/archives.ts';
import { Refused } from '../runtime/refused.ts';
import { askToRead } from '../site/work.ts';
import { pointedDocument } from './archive-documents.ts';
import { type NewVersion, pointDocuments } from './move-documents.ts';
import type { Writing } from './package-model.ts';

/** @param at where the package lies */
export async function pointAtCopy(
  { context, archive, scope }: Writing,
  at: { volumeId: number; folder: string },
): Promise<{ versions: NewVersion[]; left: string[] }> {
  const { db } = context;
  context.rename('pointing the project at it');
  const files = await db
    .select()
    .from(archiveFiles)
    .where(eq(archiveFiles.archiveId, archive.id))
    .orderBy(archiveFiles.id);
  const own = new Map(files.filter((file) => file.role === 'document').map((file) => [file.fileId, file]));
  const done = await pointDocuments(context, [...own.keys()], async (fileId, { text, facts, toPlace }) => {
    const file = own.get(fileId)!;
    // One that was saved since is not what was handed over: its new version would be without what was done meanwhile.
    if (!isUnchanged(facts, file)) throw Object.assign(new Error('It was saved meanwhile.'), { code: 'changed' });
    const { timelines } = scope;
    const lead = {
      to: (written: string, payloadPath: string) =>
        toPlace(written, { volumeId: at.volumeId, path: joinPath(at.folder, payloadAt({ payloadPath })) }),
      out: () => null,
    };
    const projectId = archive.projectId as ProjectId;
    return pointedDocument(db, { projectId, timelines, text, fileId, at: file.payloadPath, files }, lead);
  });
  if (done.versions.length > 0) {
    const volumes = [at.volumeId, ...done.versions.map((version) => version.volumeId)] as VolumeId[];
    // They wait until this work lets go of the volumes.
    await askToRead(db, [...new Set(volumes)], { who: context.job.who, now: context.now() }).catch((error: unknown) => {
      if (!(error instanceof Refused)) throw error;
    });
  }
  return done;
}
