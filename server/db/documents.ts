// A document's contents as rows: bins, media, clips, timelines, uses. Written whole, replaced whole.
import { eq, inArray, sql } from 'drizzle-orm';
import { type DocumentModel, fit, MEDIA_NAME_LETTERS } from '#core/documents/model.ts';
import { type Reach, reachByMedia, type ScopedUse } from '#core/reach/scope.ts';
import type { Rate } from '#core/time/rates.ts';
import { numberRows } from './conditions.ts';
import type { Transaction } from './connect.ts';
import { inSlices } from './holdings.ts';
import { insertMany } from './insert-many.ts';
import { bins, clips, media, mediaTargets, timelines, uses } from './schema/documents.ts';

export interface Contents {
  documentId: number;
  projectId: number;
  model: DocumentModel;
}

export async function forgetContents(tx: Transaction, documentId: number): Promise<void> {
  // By their numbers: a deletion that asks for them in a query looks at every row there is.
  const mediaIds = (await tx.select({ id: media.id }).from(media).where(eq(media.documentId, documentId))).map(
    (m) => m.id,
  );
  const timelineIds = (
    await tx.select({ id: timelines.id }).from(timelines).where(eq(timelines.documentId, documentId))
  ).map((t) => t.id);
  for (const some of inSlices(mediaIds)) await tx.delete(mediaTargets).where(inArray(mediaTargets.mediaId, some));
  for (const some of inSlices(timelineIds)) await tx.delete(uses).where(inArray(uses.timelineId, some));
  await tx.delete(media).where(eq(media.documentId, documentId));
  await tx.delete(timelines).where(eq(timelines.documentId, documentId));
  await tx.delete(clips).where(eq(clips.documentId, documentId));
  await tx.delete(bins).where(eq(bins.documentId, documentId));
}

export async function writeContents(tx: Transaction, { documentId, projectId, model }: Contents): Promise<void> {
  const binIds: number[] = [];
  for (const bin of model.bins) {
    const parentId = bin.parent === null ? null : binIds[bin.parent]!;
    const [{ insertId }] = await tx.insert(bins).values({ documentId, parentId, name: fit(bin.name, 1000) });
    binIds[bin.key] = insertId;
  }
  const timelineIds: number[] = [];
  const all: ScopedUse[] = [];
  for (const timeline of model.timelines) {
    const [{ insertId }] = await tx.insert(timelines).values({
      documentId,
      binId: timeline.bin === null ? null : binIds[timeline.bin]!,
      name: fit(timeline.name, 1020),
      durationFrames: timeline.durationFrames,
      rateNum: timeline.rate.num,
      rateDen: timeline.rate.den,
      uses: timeline.uses.length,
    });
    timelineIds.push(insertId);
    for (const use of timeline.uses) all.push({ ...use, mediaId: use.media, timelineId: insertId });
  }
  const reached = reachByMedia(all, (key) => model.media[key]?.available?.rate ?? null);
  const mediaIds = await writeMedia(tx, { documentId, projectId, model }, reached);
  await insertMany(
    tx,
    clips,
    model.clips.map((clip) => ({
      documentId,
      binId: clip.bin === null ? null : binIds[clip.bin]!,
      mediaId: clip.media === null ? null : mediaIds[clip.media]!,
      name: fit(clip.name, 1020),
    })),
  );
  for (const [i, timeline] of model.timelines.entries())
    for (const some of inSlices(timeline.uses)) {
      // Whole numbers alone, as text: there may be hundreds of thousands, and the builder makes objects of every one.
      const rows = some.map(({ media: key, range, rate, enabled, sound, reference }) => [
        timelineIds[i]!,
        mediaIds[key]!,
        range.start,
        range.duration,
        rate.num,
        rate.den,
        Number(enabled),
        Number(sound),
        reference ?? -1,
      ]);
      await tx.execute(
        sql`INSERT INTO uses (timeline_id, media_id, start_frame, duration_frames, rate_num, rate_den, enabled, sound, reference) VALUES ${numberRows(rows)}`,
      );
    }
}

/** Gives the number of every piece of media by its key. */
async function writeMedia(
  tx: Transaction,
  { documentId, projectId, model }: Contents,
  reached: ReadonlyMap<number, Reach>,
): Promise<number[]> {
  // Media that the document says no length of is counted as its uses are.
  const counted = new Map<number, Rate>();
  for (const { uses: inTimeline } of model.timelines)
    for (const use of inTimeline) if (!counted.has(use.media)) counted.set(use.media, use.rate);
  await insertMany(
    tx,
    media,
    model.media.map((item) => {
      const rate = item.available?.rate ?? counted.get(item.key);
      const reach = reached.get(item.key);
      return {
        documentId,
        projectId,
        name: fit(item.name, MEDIA_NAME_LETTERS),
        // What is bundled is there as long as the document is.
        place: item.bundled ? ('bundled' as const) : item.target === null ? ('nowhere' as const) : ('unknown' as const),
        targets: item.target === null ? 0 : (item.stills?.count ?? 1),
        stills: item.stills,
        found: item.bundled ? (item.stills?.count ?? 1) : 0,
        startFrame: item.available?.range.start ?? null,
        durationFrames: item.available?.range.duration ?? null,
        rateNum: rate?.num ?? null,
        rateDen: rate?.den ?? null,
        reel: item.reel,
        pictureWidth: item.picture?.width ?? null,
        pictureHeight: item.picture?.height ?? null,
        ranges: reach ? (reach.ranges?.map((range): [number, number] => [range.start, range.duration]) ?? null) : [],
        spans: reach ? (reach.spans?.map((range): [number, number] => [range.start, range.duration]) ?? null) : [],
        timelineIds: reach?.timelineIds ?? [],
        used: reach !== undefined,
      };
    }),
  );
  const rows = await tx.select({ id: media.id }).from(media).where(eq(media.documentId, documentId)).orderBy(media.id);
  if (rows.length !== model.media.length) throw new Error('A document was written twice at the same time.');
  const ids: number[] = [];
  for (const [i, item] of model.media.entries()) ids[item.key] = rows[i]!.id;
  const targets = model.media.flatMap((item) =>
    item.bundled || item.target === null ? [] : [{ mediaId: ids[item.key]!, ord: 0, target: fit(item.target, 4096) }],
  );
  await insertMany(tx, mediaTargets, targets);
  return ids;
}
