// A project's bins, clips and timelines as its page shows them, from its living documents.
import { and, eq, inArray, isNull, type SQL, sql } from 'drizzle-orm';
import type { Kind, ProjectId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { partsOf, type Reach, reachByMedia, type ScopedUse } from '#core/reach/scope.ts';
import { timecode } from '#core/time/rates.ts';
import type { Database } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { hasPart, idList } from '../db/conditions.ts';
import { isBorrowed, isLent, lentTo } from '../db/naming.ts';
import { files } from '../db/schema/catalogue.ts';
import { bins, clips, media, mediaTargets, timelines, uses } from '../db/schema/documents.ts';
import { livingDocuments } from '../readings/read-documents.ts';

export interface BinRow {
  binId: number;
  parentId: number | null;
  name: string;
  clips: number;
  missing: number;
}

export interface ClipRow {
  clipId: number;
  mediaId: number | null;
  name: string;
  /** 'archived': not on any volume, but in an archive that was read back. */
  state: 'found' | 'missing' | 'outside' | 'archived';
  kind: Kind | null;
  bytes: number;
  length: string | null;
  /** Parts of the whole, from 0 to 1, that the timelines of the scope use. */
  used: { from: number; to: number }[];
  /** Timelines of the scope that use it. */
  timelines: { timelineId: number; name: string }[];
  where: string | null;
  /** Its first file, and the folder that lies in. */
  fileId: number | null;
  folderId: number | null;
  ending: string;
  /** Whose it is, where that is another project. */
  borrowedFrom: string | null;
  /** Projects besides this one whose documents name it. */
  lentTo: string[];
}

export interface TimelineRow {
  timelineId: number;
  name: string;
  length: string;
  uses: number;
  bytes: number;
}

/** A file of the media is in a sealed archive, read back. */
const IN_ARCHIVE = sql`EXISTS (SELECT 1 FROM media_targets t JOIN archive_files a ON a.file_id = t.file_id JOIN archives r ON r.id = a.archive_id AND r.state = 'sealed' WHERE t.media_id = ${media.id})`;

export async function projectBins(
  db: Database,
  projectId: ProjectId,
): Promise<{ bins: BinRow[]; loose: number; documentIds: number[] }> {
  const documentIds = await livingDocuments(db, projectId);
  if (documentIds.length === 0) return { bins: [], loose: 0, documentIds };
  const all = await db
    .select()
    .from(bins)
    .where(inArray(bins.documentId, documentIds))
    .orderBy(sql`FIELD(${bins.documentId}, ${sql.raw(documentIds.join(','))})`, bins.id);
  const counts = await db
    .select({
      binId: clips.binId,
      n: sql`COUNT(*)`.mapWith(Number),
      missing:
        sql`COALESCE(SUM(${clips.mediaId} IS NOT NULL AND ${media.found} < GREATEST(${media.targets}, 1) AND NOT ${IN_ARCHIVE}), 0)`.mapWith(
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
    .orderBy(sql`FIELD(${timelines.documentId}, ${sql.raw(documentIds.join(','))})`, timelines.id);
  if (all.length === 0) return [];
  // From what every piece of media keeps of its timelines: single uses can be millions.
  const held = await db
    .select({ timelineIds: media.timelineIds, bytes: sql`COALESCE(SUM(${files.sizeBytes}), 0)`.mapWith(Number) })
    .from(media)
    .leftJoin(mediaTargets, eq(mediaTargets.mediaId, media.id))
    .leftJoin(files, and(eq(files.id, mediaTargets.fileId), isNull(files.goneAt)))
    .where(and(inArray(media.documentId, [...documentIds]), media.used))
    .groupBy(media.id);
  const bytes = new Map<number, number>();
  for (const item of held) for (const id of item.timelineIds ?? []) bytes.set(id, (bytes.get(id) ?? 0) + item.bytes);
  return all.map((t) => ({
    timelineId: t.id,
    name: t.name,
    length: timecode(t.durationFrames, { num: t.rateNum, den: t.rateDen }),
    uses: t.uses,
    bytes: bytes.get(t.id) ?? 0,
  }));
}

/** Which uses count: of chosen timelines, or of all; switched off ones too, or not; picture, sound, or both. */
export interface Scope {
  timelineIds: readonly number[];
  enabledOnly: boolean;
  only: 'picture' | 'sound' | null;
}

export const WHOLE_PROJECT: Scope = { timelineIds: [], enabledOnly: false, only: null };

export const SHOWS = ['all', 'used', 'unused', 'missing', 'borrowed', 'lent', 'first', 'second', 'both'] as const;
export type Show = (typeof SHOWS)[number];

/** Those of these numbers that are timelines of the documents, in the order they were given. */
export async function timelinesAmong(
  db: Database,
  documentIds: readonly number[],
  ids: readonly number[],
): Promise<number[]> {
  const asked = ids.filter((id) => Number.isSafeInteger(id) && id > 0).slice(0, 200);
  if (asked.length === 0 || documentIds.length === 0) return [];
  const rows = await db
    .select({ id: timelines.id })
    .from(timelines)
    .where(and(inArray(timelines.id, asked), inArray(timelines.documentId, [...documentIds])));
  const known = new Set(rows.map((row) => row.id));
  return asked.filter((id) => known.has(id));
}

export interface ClipFilter {
  projectId: ProjectId;
  documentIds: readonly number[];
  /** null: clips in no bin; 'all': every clip. */
  bin: number | null | 'all';
  /** Used and unused are told of the scope; first, second and both of the two timelines it names. */
  show: Show;
  scope: Scope;
  /** Parts of names; every one must be in it. */
  text: string;
  kind: Kind | null;
  /** Only these clips; none named: all. */
  clipIds?: readonly number[];
  /** Rows at the most, by name; MOST_CLIPS where it is left out. */
  most?: number;
}

export const MOST_CLIPS = 10_000;

const MISSING = sql`${media.found} < GREATEST(${media.targets}, 1)`;

const isWhole = ({ timelineIds, enabledOnly, only }: Scope) =>
  timelineIds.length === 0 && !enabledOnly && only === null;

function usesIn(scope: Scope, timelineIds: readonly number[] = scope.timelineIds): SQL {
  const parts = [sql`u.media_id = ${media.id}`];
  if (timelineIds.length > 0) parts.push(sql`u.timeline_id IN ${[...timelineIds]}`);
  if (scope.enabledOnly) parts.push(sql`u.enabled`);
  if (scope.only !== null) parts.push(sql`u.sound = ${scope.only === 'sound'}`);
  return sql`EXISTS (SELECT 1 FROM uses u WHERE ${sql.join(parts, sql` AND `)})`;
}

function shownOf({ show, scope, projectId }: ClipFilter): SQL | undefined {
  const used = isWhole(scope) ? sql`${media.used} = 1` : usesIn(scope);
  const [first, second] = scope.timelineIds;
  const by = (id: number | undefined) => (id === undefined ? sql`FALSE` : usesIn(scope, [id]));
  switch (show) {
    case 'all':
      return undefined;
    case 'used':
      return used;
    case 'unused':
      // What cannot be looked at all is told as missing, not as unused.
      return sql`${media.id} IS NOT NULL AND NOT (${used})`;
    case 'missing':
      return sql`${MISSING} AND NOT ${IN_ARCHIVE}`;
    case 'borrowed':
      return isBorrowed(projectId);
    case 'lent':
      return isLent(projectId);
    case 'first':
      return sql`${by(first)} AND NOT ${by(second)}`;
    case 'second':
      return sql`${by(second)} AND NOT ${by(first)}`;
    case 'both':
      return sql`${by(first)} AND ${by(second)}`;
  }
}

/** A clip with its media as the database hands it over. */
interface ClipWithMedia {
  clipId: number;
  clipName: string;
  archived: number | null;
  media: Media | null;
}

/** What its row shows of a piece of media. */
type Media = Omit<typeof media.$inferSelect, 'documentId' | 'projectId' | 'reel' | 'incomplete'>;

const parsed = <T>(json: unknown): T => (typeof json === 'string' ? JSON.parse(json) : json) as T;

/** Ten thousand rows at once: taken as they come, because the query builder takes as long again to make objects of them. */
async function clipsWithMedia(db: Database, where: SQL | undefined, most: number): Promise<ClipWithMedia[]> {
  const [rows] = (await db.execute(sql`
    SELECT ${clips.id} AS clipId, ${clips.name} AS clipName, ${MISSING} AND ${IN_ARCHIVE} AS archived,
      ${media.id} AS id, ${media.name} AS name, ${media.place} AS place, ${media.targets} AS targets, ${media.found} AS found,
      ${media.startFrame} AS startFrame, ${media.durationFrames} AS durationFrames, ${media.rateNum} AS rateNum, ${media.rateDen} AS rateDen,
      ${media.ranges} AS ranges, ${media.timelineIds} AS timelineIds, ${media.used} AS used
    FROM ${clips} LEFT JOIN ${media} ON ${media.id} = ${clips.mediaId} WHERE ${where} ORDER BY ${clips.name}, ${clips.id} LIMIT ${most}`)) as unknown as [
    (Media & Omit<ClipWithMedia, 'media'>)[],
  ];
  return rows.map(({ clipId, clipName, archived, ...item }) => {
    if (item.id === null) return { clipId, clipName, archived, media: null };
    item.used = Boolean(item.used);
    item.ranges = parsed(item.ranges);
    item.timelineIds = parsed(item.timelineIds);
    return { clipId, clipName, archived, media: item };
  });
}

export async function projectClips(db: Database, filter: ClipFilter): Promise<ClipRow[]> {
  const { documentIds, bin, scope, projectId } = filter;
  if (documentIds.length === 0) return [];
  const inBin = bin === 'all' ? undefined : bin === null ? sql`${clips.binId} IS NULL` : eq(clips.binId, bin);
  const words = filter.text.split(/\s+/).filter((word) => word !== '');
  const rows = await clipsWithMedia(
    db,
    and(
      inArray(clips.documentId, [...documentIds]),
      filter.clipIds?.length ? inArray(clips.id, [...filter.clipIds]) : undefined,
      inBin,
      shownOf(filter),
      ...words.map((word) => hasPart(clips.name, word)),
      filter.kind === null
        ? undefined
        : sql`EXISTS (SELECT 1 FROM media_targets t JOIN files f ON f.id = t.file_id AND f.kind = ${filter.kind} WHERE t.media_id = ${media.id})`,
    ),
    filter.most ?? MOST_CLIPS,
  );
  const items = new Map(rows.flatMap((row) => (row.media ? [[row.media.id, row.media] as const] : [])));
  const [places, names, lent, reach] = await Promise.all([
    placesOf(db, [...items.keys()]),
    timelineNames(db, documentIds),
    lentTo(db, [...items.keys()], projectId),
    isWhole(scope) ? null : reachOf(db, items, scope),
  ]);
  return rows.map(({ clipId, clipName, media: item, archived }) => {
    const place = item ? places.get(item.id) : undefined;
    const timelineIds = !item ? [] : reach ? (reach.get(item.id)?.timelineIds ?? []) : (item.timelineIds ?? []);
    return {
      clipId,
      mediaId: item?.id ?? null,
      name: clipName || item?.name || '',
      state: stateOf(item, archived === 1),
      kind: place?.kind ?? null,
      bytes: place?.bytes ?? 0,
      length: item ? lengthOf(item, place) : null,
      used: item ? usedParts(item, { place, reach: reach?.get(item.id) ?? null, whole: isWhole(scope) }) : [],
      timelines: timelineIds.flatMap((id) => {
        const name = names.get(id);
        return name === undefined ? [] : [{ timelineId: id, name }];
      }),
      where: place?.where ?? null,
      fileId: place?.fileId ?? null,
      folderId: place?.folderId ?? null,
      ending: place?.ending ?? '',
      borrowedFrom: place?.owner && place.owner.projectId !== projectId ? place.owner.name : null,
      lentTo: item ? (lent.get(item.id) ?? []) : [],
    };
  });
}

function stateOf(item: Media | null, archived: boolean): ClipRow['state'] {
  if (!item) return 'missing';
  if (item.place === 'outside') return 'outside';
  if (item.found >= Math.max(1, item.targets)) return 'found';
  return archived ? 'archived' : 'missing';
}

/** As the document has it; where it says none, as the file itself. */
function lengthOf(item: Media, place: Place | undefined): string | null {
  const frames = item.durationFrames ?? ownOf(item, place)?.durationFrames;
  return frames && item.rateNum && item.rateDen ? timecode(frames, { num: item.rateNum, den: item.rateDen }) : null;
}

/** What its own structure says, where it counts as the document does. */
function ownOf(item: Media, place: Place | undefined): Place['essence'] {
  const own = place?.essence ?? null;
  return own && own.rateNum === item.rateNum && own.rateDen === item.rateDen ? own : null;
}

function usedParts(
  item: Media,
  { place, reach, whole }: { place: Place | undefined; reach: Reach | null; whole: boolean },
): { from: number; to: number }[] {
  if (whole ? !item.used : !reach) return [];
  const ranges = whole ? (item.ranges?.map(([start, duration]) => ({ start, duration })) ?? null) : reach!.ranges;
  // An edit list does not say what its media have; their own structure does.
  const told = item.startFrame !== null ? item : (ownOf(item, place) ?? item);
  return partsOf(ranges, told);
}

/** What the timelines of a scope use, from single uses. */
async function reachOf(db: Database, items: ReadonlyMap<number, Media>, scope: Scope): Promise<Map<number, Reach>> {
  const all: ScopedUse[] = [];
  for (const ids of inSlices([...items.keys()], 2000)) {
    const rows = await db
      .select()
      .from(uses)
      .where(
        and(
          inArray(uses.mediaId, ids),
          scope.timelineIds.length > 0 ? inArray(uses.timelineId, [...scope.timelineIds]) : undefined,
          scope.enabledOnly ? eq(uses.enabled, true) : undefined,
          scope.only === null ? undefined : eq(uses.sound, scope.only === 'sound'),
        ),
      );
    for (const row of rows)
      all.push({
        mediaId: row.mediaId,
        timelineId: row.timelineId,
        range: { start: row.startFrame, duration: row.durationFrames },
        rate: { num: row.rateNum, den: row.rateDen },
      });
  }
  return reachByMedia(all, (id) => {
    const item = items.get(id);
    return item?.rateNum && item.rateDen ? { num: item.rateNum, den: item.rateDen } : null;
  });
}

interface Place {
  bytes: number;
  where: string;
  fileId: number;
  folderId: number;
  kind: Kind;
  ending: string;
  owner: { projectId: number; name: string } | null;
  essence: Pick<Media, 'startFrame' | 'durationFrames' | 'rateNum' | 'rateDen'> | null;
}

type PlaceRow = Omit<Place, 'where' | 'ending' | 'owner' | 'essence'> &
  NonNullable<Place['essence']> & {
    mediaId: number;
    name: string;
    folder: string;
    volume: string;
    ownerId: number | null;
    owner: string | null;
    width: number | null;
  };

async function placesOf(db: Database, mediaIds: readonly number[]): Promise<Map<number, Place>> {
  const places = new Map<number, Place>();
  for (const ids of inSlices(mediaIds, 2000)) {
    const [rows] = (await db.execute(sql`
      SELECT t.media_id AS mediaId, f.id AS fileId, f.folder_id AS folderId, f.kind, f.size_bytes AS bytes, f.name, d.path AS folder, v.name AS volume,
        p.id AS ownerId, p.name AS owner, e.start_frame AS startFrame, e.duration_frames AS durationFrames, e.width, e.rate_num AS rateNum, e.rate_den AS rateDen
      FROM media_targets t JOIN files f ON f.id = t.file_id AND f.gone_at IS NULL JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id
      LEFT JOIN projects p ON p.id = f.project_id AND f.kind <> 'library' LEFT JOIN essence e ON e.file_id = f.id
      WHERE t.media_id IN ${idList(ids)}`)) as unknown as [PlaceRow[]];
    for (const row of rows) {
      const known = places.get(row.mediaId);
      if (known) known.bytes += row.bytes;
      else
        places.set(row.mediaId, {
          bytes: row.bytes,
          where: joinPath(row.volume, row.folder),
          fileId: row.fileId,
          folderId: row.folderId,
          kind: row.kind,
          ending: row.name.split('.').at(-1) ?? '',
          owner: row.ownerId === null ? null : { projectId: row.ownerId, name: row.owner! },
          // Sound is counted in samples, which no document does.
          essence: row.width === null ? null : row,
        });
    }
  }
  return places;
}

/** Names of the timelines of these documents, by their numbers. */
async function timelineNames(db: Database, documentIds: readonly number[]): Promise<Map<number, string>> {
  const rows = await db
    .select({ id: timelines.id, name: timelines.name })
    .from(timelines)
    .where(inArray(timelines.documentId, [...documentIds]));
  return new Map(rows.map((row) => [row.id, row.name]));
}
