// A document's contents as rows: bins, media, clips, timelines, uses. Written whole, replaced whole.
import { eq, inArray } from 'drizzle-orm';
import type { DocumentModel } from '#core/documents/model.ts';
import type { Transaction } from './connect.ts';
import { inSlices } from './holdings.ts';
import { bins, clips, media, mediaTargets, timelines, uses } from './schema.ts';

export interface Contents {
  documentId: number;
  projectId: number;
  model: DocumentModel;
}

const fit = (text: string, length: number) => (text.length > length ? `${text.slice(0, length - 1)}…` : text);

export async function forgetContents(tx: Transaction, documentId: number): Promise<void> {
  const mediaIds = tx.select({ id: media.id }).from(media).where(eq(media.documentId, documentId));
  const timelineIds = tx.select({ id: timelines.id }).from(timelines).where(eq(timelines.documentId, documentId));
  await tx.delete(mediaTargets).where(inArray(mediaTargets.mediaId, mediaIds));
  await tx.delete(uses).where(inArray(uses.timelineId, timelineIds));
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
  const mediaIds = await writeMedia(tx, { documentId, projectId, model });
  for (const some of inSlices(model.clips, 1000))
    await tx.insert(clips).values(
      some.map((clip) => ({
        documentId,
        binId: clip.bin === null ? null : binIds[clip.bin]!,
        mediaId: clip.media === null ? null : mediaIds[clip.media]!,
        name: fit(clip.name, 1020),
      })),
    );
  for (const timeline of model.timelines) {
    const [{ insertId: timelineId }] = await tx.insert(timelines).values({
      documentId,
      binId: timeline.bin === null ? null : binIds[timeline.bin]!,
      name: fit(timeline.name, 1020),
      durationFrames: timeline.durationFrames,
      rateNum: timeline.rate.num,
      rateDen: timeline.rate.den,
    });
    for (const some of inSlices(timeline.uses, 1000))
      await tx.insert(uses).values(
        some.map((use) => ({
          timelineId,
          mediaId: mediaIds[use.media]!,
          startFrame: use.range.start,
          durationFrames: use.range.duration,
          rateNum: use.rate.num,
          rateDen: use.rate.den,
        })),
      );
  }
}

async function writeMedia(tx: Transaction, { documentId, projectId, model }: Contents): Promise<number[]> {
  const used = new Set(model.timelines.flatMap((timeline) => timeline.uses.map((use) => use.media)));
  const ids: number[] = [];
  for (const some of inSlices(model.media, 500)) {
    for (const item of some) {
      const [{ insertId }] = await tx.insert(media).values({
        documentId,
        projectId,
        name: fit(item.name, 1020),
        place: item.targets.length === 0 ? 'nowhere' : 'unknown',
        targets: item.targets.length,
        found: 0,
        startFrame: item.available?.range.start ?? null,
        durationFrames: item.available?.range.duration ?? null,
        rateNum: item.available?.rate.num ?? null,
        rateDen: item.available?.rate.den ?? null,
        used: used.has(item.key),
      });
      ids[item.key] = insertId;
    }
    const targets = some.flatMap((item) =>
      item.targets.map((target, ord) => ({ mediaId: ids[item.key]!, ord, target: fit(target, 4096) })),
    );
    for (const part of inSlices(targets, 1000)) await tx.insert(mediaTargets).values(part);
  }
  return ids;
}
