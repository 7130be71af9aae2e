// A project's bins, clips and timelines as its page shows them, from its living documents.
import { eq, inArray } from 'drizzle-orm';
import { sql } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { coverInRate, type FrameRange, type Rate, timecode, union } from '#core/time/rates.ts';
import type { Database } from '../db/connect.ts';
import { bins, clips, files, folders, media, mediaTargets, timelines, uses, volumes } from '../db/schema.ts';
import { livingDocuments } from '../jobs/read-documents.ts';

export interface BinRow {
  binId: number;
  parentId: number | null;
  name: string;
  clips: number;
  missing: number;
}

export interface ClipRow {
  clipId: number;
  name: string;
  state: 'found' | 'missing' | 'outside';
  bytes: number;
  length: string | null;
  /** Parts of the whole, from 0 to 1, that timelines use. */
  used: { from: number; to: number }[];
  timelines: string[];
  where: string | null;
  ending: string;
}

export interface TimelineRow {
  timelineId: number;
  name: string;
  length: string;
  uses: number;
  bytes: number;
}

export async function projectBins(
  db: Database,
  projectId: ProjectId,
): Promise<{ bins: BinRow[]; loose: number; documentIds: number[] }> {
  const documentIds = await livingDocuments(db, projectId);
  if (documentIds.length === 0) return { bins: [], loose: 0, documentIds };
  const all = await db.select().from(bins).where(inArray(bins.documentId, documentIds)).orderBy(bins.id);
  const counts = await db
    .select({
      binId: clips.binId,
      n: sql`COUNT(*)`.mapWith(Number),
      missing:
        sql`COALESCE(SUM(${clips.mediaId} IS NOT NULL AND ${media.found} < GREATEST(${media.targets}, 1)), 0)`.mapWith(
          Number,
        ),
    })
    .from(clips)
    .leftJoin(media, eq(media.id, clips.mediaId))
    .where(inArray(clips.documentId, documentIds))
    .groupBy(clips.binId);
  const byBin = new Map(counts.map((row) => [row.binId, row]));
  return {
    bins: all.map((bin) => ({
      binId: bin.id,
      parentId: bin.parentId,
      name: bin.name,
      clips: byBin.get(bin.id)?.n ?? 0,
      missing: byBin.get(bin.id)?.missing ?? 0,
    })),
    loose: byBin.get(null)?.n ?? 0,
    documentIds,
  };
}

export async function projectTimelines(db: Database, documentIds: readonly number[]): Promise<TimelineRow[]> {
  if (documentIds.length === 0) return [];
  const all = await db
    .select()
    .from(timelines)
    .where(inArray(timelines.documentId, [...documentIds]))
    .orderBy(timelines.id);
  const ids = all.map((t) => t.id);
  if (ids.length === 0) return [];
  const [rows] = (await db.execute(sql`
    SELECT x.timeline_id AS id, SUM(x.n) AS uses, SUM(x.bytes) AS bytes FROM (
      SELECT u.timeline_id, u.media_id, COUNT(DISTINCT u.id) AS n,
        (SELECT COALESCE(SUM(f.size_bytes), 0) FROM media_targets t JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL WHERE t.media_id = u.media_id) AS bytes
      FROM uses u WHERE u.timeline_id IN ${ids} GROUP BY u.timeline_id, u.media_id) x GROUP BY x.timeline_id`)) as unknown as [
    { id: number; uses: string; bytes: string }[],
  ];
  const sums = new Map(rows.map((row) => [Number(row.id), row]));
  return all.map((t) => ({
    timelineId: t.id,
    name: t.name,
    length: timecode(t.durationFrames, { num: t.rateNum, den: t.rateDen }),
    uses: Number(sums.get(t.id)?.uses ?? 0),
    bytes: Number(sums.get(t.id)?.bytes ?? 0),
  }));
}

export interface ClipFilter {
  documentIds: readonly number[];
  /** null: clips in no bin; 'all': every clip. */
  bin: number | null | 'all';
  show: 'all' | 'unused' | 'missing';
}

const MOST_CLIPS = 10_000;

export async function projectClips(db: Database, { documentIds, bin, show }: ClipFilter): Promise<ClipRow[]> {
  if (documentIds.length === 0) return [];
  const inBin = bin === 'all' ? undefined : bin === null ? sql`${clips.binId} IS NULL` : eq(clips.binId, bin);
  const shown =
    show === 'unused'
      ? sql`${media.used} = 0`
      : show === 'missing'
        ? sql`${media.found} < GREATEST(${media.targets}, 1)`
        : undefined;
  const rows = await db
    .select({ clip: clips, media })
    .from(clips)
    .leftJoin(media, eq(media.id, clips.mediaId))
    .where(
      sql.join(
        [inArray(clips.documentId, [...documentIds]), inBin, shown].filter((part) => part !== undefined),
        sql` AND `,
      ),
    )
    .orderBy(clips.name, clips.id)
    .limit(MOST_CLIPS);
  const mediaIds = [...new Set(rows.flatMap((row) => (row.media ? [row.media.id] : [])))];
  const [places, used] = await Promise.all([placesOf(db, mediaIds), usesOf(db, mediaIds)]);
  return rows.map(({ clip, media: item }) => {
    const place = item ? places.get(item.id) : undefined;
    const use = item ? used.get(item.id) : undefined;
    return {
      clipId: clip.id,
      name: clip.name || item?.name || '',
      state:
        !item || item.place === 'outside'
          ? item
            ? 'outside'
            : 'missing'
          : item.found >= Math.max(1, item.targets)
            ? 'found'
            : 'missing',
      bytes: place?.bytes ?? 0,
      length:
        item?.durationFrames && item.rateNum && item.rateDen
          ? timecode(item.durationFrames, { num: item.rateNum, den: item.rateDen })
          : null,
      used: item ? partsOf(item, use?.ranges ?? []) : [],
      timelines: use?.timelines ?? [],
      where: place?.where ?? null,
      ending: place?.ending ?? '',
    };
  });
}

async function placesOf(db: Database, mediaIds: readonly number[]) {
  const places = new Map<number, { bytes: number; where: string; ending: string }>();
  if (mediaIds.length === 0) return places;
  const rows = await db
    .select({
      mediaId: mediaTargets.mediaId,
      bytes: files.sizeBytes,
      name: files.name,
      folder: folders.path,
      volume: volumes.name,
    })
    .from(mediaTargets)
    .innerJoin(files, eq(files.id, mediaTargets.fileId))
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(volumes, eq(volumes.id, files.volumeId))
    .where(sql`${inArray(mediaTargets.mediaId, [...mediaIds])} AND ${files.goneAt} IS NULL`);
  for (const row of rows) {
    const known = places.get(row.mediaId);
    if (known) known.bytes += row.bytes;
    else
      places.set(row.mediaId, {
        bytes: row.bytes,
        where: `${row.volume} / ${row.folder}`,
        ending: row.name.split('.').at(-1) ?? '',
      });
  }
  return places;
}

async function usesOf(db: Database, mediaIds: readonly number[]) {
  const found = new Map<number, { timelines: string[]; ranges: { range: FrameRange; rate: Rate }[] }>();
  if (mediaIds.length === 0) return found;
  const rows = await db
    .select({ use: uses, timeline: timelines.name })
    .from(uses)
    .innerJoin(timelines, eq(timelines.id, uses.timelineId))
    .where(inArray(uses.mediaId, [...mediaIds]))
    .orderBy(timelines.id);
  for (const { use, timeline } of rows) {
    const known = found.get(use.mediaId) ?? { timelines: [], ranges: [] };
    if (!known.timelines.includes(timeline)) known.timelines.push(timeline);
    known.ranges.push({
      range: { start: use.startFrame, duration: use.durationFrames },
      rate: { num: use.rateNum, den: use.rateDen },
    });
    found.set(use.mediaId, known);
  }
  return found;
}

/** Used ranges as parts of the whole of a medium, joined where they overlap. */
function partsOf(
  item: typeof media.$inferSelect,
  used: { range: FrameRange; rate: Rate }[],
): { from: number; to: number }[] {
  const { startFrame, durationFrames, rateNum, rateDen } = item;
  if (startFrame === null || !durationFrames || !rateNum || !rateDen)
    return used.length > 0 ? [{ from: 0, to: 1 }] : [];
  const inOwn = used.map(({ range, rate }) => coverInRate(range, rate, { num: rateNum, den: rateDen }));
  const clamp = (value: number) => Math.min(1, Math.max(0, value));
  return union(inOwn).map((range) => ({
    from: clamp((range.start - startFrame) / durationFrames),
    to: clamp((range.start + range.duration - startFrame) / durationFrames),
  }));
}
