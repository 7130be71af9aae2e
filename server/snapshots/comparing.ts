// A snapshot beside the document as it was last read: which parts of which media each timeline took then, and takes now.
import { and, asc, eq } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { compared, type Contents, milliseconds, type PartOf, type TimelineChange } from '#core/snapshots/contents.ts';
import type { Db } from '../db/connect.ts';
import { documents, media, timelines, uses } from '../db/schema/documents.ts';
import { snapshotContents, snapshots } from '../db/schema/snapshots.ts';

/** Null where it is not known what the snapshot took, or what the document says now. */
export async function comparedWithNow(
  db: Db,
  projectId: ProjectId,
  snapshotId: number,
): Promise<TimelineChange[] | null> {
  const [own] = await db
    .select({ fileId: snapshots.fileId, contents: snapshotContents.contents })
    .from(snapshots)
    .innerJoin(snapshotContents, eq(snapshotContents.snapshotId, snapshots.id))
    .where(and(eq(snapshots.id, snapshotId), eq(snapshots.projectId, projectId), eq(snapshots.state, 'kept')));
  const now = own && (await contentsNow(db, own.fileId));
  return now ? compared(own.contents, now) : null;
}

async function contentsNow(db: Db, fileId: number): Promise<Contents | null> {
  const [document] = await db
    .select({ id: documents.id })
    .from(documents)
    .where(and(eq(documents.fileId, fileId), eq(documents.state, 'read')));
  if (!document) return null;
  const named = await db
    .select({ id: media.id, name: media.name })
    .from(media)
    .where(eq(media.documentId, document.id))
    .orderBy(asc(media.id));
  const places = new Map(named.map(({ id }, at) => [id, at]));
  const rows = await db
    .select({
      ...{ timelineId: timelines.id, name: timelines.name, mediaId: uses.mediaId },
      ...{ start: uses.startFrame, duration: uses.durationFrames, num: uses.rateNum, den: uses.rateDen },
    })
    .from(timelines)
    .leftJoin(uses, eq(uses.timelineId, timelines.id))
    .where(eq(timelines.documentId, document.id))
    .orderBy(asc(timelines.id), asc(uses.id));
  const found = new Map<number, { name: string; parts: Map<string, PartOf> }>();
  for (const { timelineId, name, mediaId, start, duration, num, den } of rows) {
    const own = found.get(timelineId) ?? { name, parts: new Map<string, PartOf>() };
    found.set(timelineId, own);
    const at = mediaId === null ? undefined : places.get(mediaId);
    if (at === undefined) continue;
    const part: PartOf = [at, ...milliseconds(start!, duration!, { num: num!, den: den! })];
    own.parts.set(part.join(), part);
  }
  return {
    media: named.map((one) => one.name),
    timelines: [...found.values()].map(({ name, parts }) => ({ name, parts: [...parts.values()] })),
  };
}
