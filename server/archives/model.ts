// The project as its documents tell it, for programs that open an archive in many years: bins, clips, timelines, media, and
// where in the archive each piece of media lies. Plain JSON, the same whenever it is asked.
import { and, eq, inArray, isNull } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import type { Db } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { bins, clips, documents, media, mediaTargets, timelines } from '../db/schema/documents.ts';
import { files } from '../db/schema/catalogue.ts';
import type { archiveFiles } from '../db/schema/archives.ts';

/** Where in the payload; `in`: of another part of the archive, or of the one that it builds on. */
interface Place {
  at: string;
  in?: string;
  frames?: { from: number | null; to: number | null };
}

/** Of the documents that went in. `folders`: of parts other than the one that tells it, by their numbers. */
export async function projectModel(
  db: Db,
  projectId: ProjectId,
  {
    archived,
    folders,
  }: { archived: readonly (typeof archiveFiles.$inferSelect)[]; folders: ReadonlyMap<number, string> },
) {
  const places = new Map<number, Place[]>();
  for (const { role, fileId, partId, payloadPath, partFrom, partTo } of archived) {
    if (role !== 'media' && role !== 'part' && role !== 'encoded') continue;
    const frames = role === 'part' ? { frames: { from: partFrom, to: partTo } } : {};
    const folder = folders.get(partId);
    const place = { at: payloadPath, ...(folder === undefined ? {} : { in: folder }), ...frames };
    places.set(fileId, [...(places.get(fileId) ?? []), place]);
  }
  const own = await db
    .select({ id: documents.id, name: documents.name, format: documents.format, fileId: documents.fileId })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(and(eq(documents.projectId, projectId), isNull(files.goneAt)))
    .orderBy(documents.id);
  const inside = new Set(
    archived.filter((file) => !['media', 'part', 'encoded'].includes(file.role)).map((file) => file.fileId),
  );
  const found = [];
  for (const document of own)
    if (inside.has(document.fileId) || places.has(document.fileId))
      found.push(await documentModel(db, document, places));
  return { format: 'keramion-project 1', documents: found };
}

type Places = ReadonlyMap<number, readonly object[]>;

async function documentModel(db: Db, document: { id: number; name: string; format: string }, places: Places) {
  const at = (table: typeof bins | typeof clips | typeof timelines | typeof media) => eq(table.documentId, document.id);
  const [allBins, allClips, allTimelines, allMedia] = await Promise.all([
    db.select().from(bins).where(at(bins)).orderBy(bins.id),
    db.select().from(clips).where(at(clips)).orderBy(clips.id),
    db.select().from(timelines).where(at(timelines)).orderBy(timelines.id),
    db.select().from(media).where(at(media)).orderBy(media.id),
  ]);
  const targets = [];
  for (const ids of inSlices(
    allMedia.map((item) => item.id),
    2000,
  ))
    targets.push(
      ...(await db
        .select()
        .from(mediaTargets)
        .where(inArray(mediaTargets.mediaId, ids))
        .orderBy(mediaTargets.mediaId, mediaTargets.ord)),
    );
  const byMedia = new Map<number, object[]>();
  for (const { mediaId, fileId } of targets)
    if (fileId !== null) byMedia.set(mediaId, [...(byMedia.get(mediaId) ?? []), ...(places.get(fileId) ?? [])]);
  return {
    name: document.name,
    format: document.format,
    bins: allBins.map(({ id, parentId, name }) => ({ id, parent: parentId, name })),
    timelines: allTimelines.map(({ id, binId, name, durationFrames, rateNum, rateDen }) => ({
      ...{ id, bin: binId, name, frames: durationFrames, rate: [rateNum, rateDen] },
    })),
    media: allMedia.map((item) => ({
      ...{ id: item.id, name: item.name, reel: item.reel },
      ...{ start: item.startFrame, frames: item.durationFrames, rate: item.rateNum && [item.rateNum, item.rateDen] },
      ...{ used: item.used ? (item.ranges ?? 'whole') : [], timelines: item.timelineIds ?? [] },
      files: byMedia.get(item.id) ?? [],
    })),
    clips: allClips.map(({ binId, mediaId, name }) => ({ bin: binId, media: mediaId, name })),
  };
}
