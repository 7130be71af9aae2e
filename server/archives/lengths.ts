// What the catalogue knows of a file that may be cut: what the project's documents use of it, and what it says of itself.
// Shaping asks for many at once, the sealing of an archive for those that became parts.
import { sql } from 'drizzle-orm';
import type { ArchiveScope } from '#core/archive/selection.ts';
import type { FileFacts, FileUse, StillUse } from '#core/archive/lengths.ts';
import type { Stills } from '#core/documents/stills.ts';
import type { ProjectId } from '#core/model.ts';
import { reachByMedia, type ScopedUse } from '#core/reach/scope.ts';
import type { FrameRange, Rate } from '#core/time/rates.ts';
import { listed } from '#core/wording/amounts.ts';
import { idList } from '../db/conditions.ts';
import type { Db } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { DOCUMENT_THERE } from '../db/naming.ts';
import { Refused } from '../runtime/refused.ts';
import { Facts } from './facts.ts';

export interface Lengths {
  file: FileFacts;
  uses: (FileUse & { documentFileId: number; target: string })[];
  /** Of a still: its uses; empty for every other file. */
  stills: StillUse[];
}

interface Row {
  mediaId: number;
  fileId: number;
  documentFileId: number;
  document: string;
  target: string;
  ord: number;
  stills: unknown;
  used: number;
  ranges: unknown;
  spans: unknown;
  startFrame: number | null;
  durationFrames: number | null;
  rateNum: number | null;
  rateDen: number | null;
  format: string | null;
  width: number | null;
  sampleRate: number | null;
  ownNum: number | null;
  ownDen: number | null;
  ownStart: number | null;
  ownFrames: number | null;
}

const parsed = <T>(json: unknown): T => (typeof json === 'string' ? JSON.parse(json) : json) as T;

type Wanted = { fileIds: readonly number[] } & Pick<ArchiveScope, 'versions' | 'timelines'>;

/** By file. A document that names a file and uses nothing of it asks for nothing of it. */
export const lengthsOf = (
  db: Db,
  projectId: ProjectId,
  { facts = new Facts(), ...wanted }: Wanted & { facts?: Facts },
): Promise<Map<number, Lengths>> =>
  facts.byId(JSON.stringify(['lengths', wanted.versions, wanted.timelines]), wanted.fileIds, (fileIds) =>
    askLengths(db, projectId, { ...wanted, fileIds }),
  );

async function askLengths(
  db: Db,
  projectId: ProjectId,
  { fileIds, versions, timelines }: Wanted,
): Promise<Map<number, Lengths>> {
  const found = new Map<number, Lengths>();
  const counted = versions === 'newest' ? sql`AND o.superseded_by IS NULL` : sql``;
  for (const ids of inSlices(fileIds, 2000)) {
    const [rows] = (await db.execute(sql`
      SELECT t.file_id AS fileId, m.id AS mediaId, o.file_id AS documentFileId, o.name AS document, t.target, t.ord, m.stills, m.used,
        m.ranges, m.spans, m.start_frame AS startFrame, m.duration_frames AS durationFrames, m.rate_num AS rateNum, m.rate_den AS rateDen,
        e.format, e.width, e.sample_rate AS sampleRate, e.rate_num AS ownNum, e.rate_den AS ownDen, e.start_frame AS ownStart, e.duration_frames AS ownFrames
      FROM media_targets t JOIN media m ON m.id = t.media_id ${DOCUMENT_THERE} JOIN files f ON f.id = t.file_id
      LEFT JOIN essence e ON e.file_id = f.id AND e.trouble IS NULL AND e.read_size_bytes = f.size_bytes AND e.read_modified_us = f.modified_us
      WHERE t.file_id IN ${idList(ids)} AND m.project_id = ${projectId} ${counted} ORDER BY t.file_id, m.id`)) as unknown as [
      Row[],
    ];
    const rates = new Map(rows.map((row) => [Number(row.mediaId), rateIn(row)]));
    const asked =
      timelines.length === 0
        ? null
        : await spansByTimelines(db, [...rates.keys()], { names: timelines, rateOf: (id) => rates.get(id) ?? null });
    for (const row of rows) {
      const known = found.get(Number(row.fileId)) ?? { file: factsIn(row), uses: [], stills: [] };
      found.set(Number(row.fileId), known);
      const spans = asked ? spansAsked(asked, Number(row.mediaId)) : row.used ? spansIn(row) : [];
      const use = { ...useIn(row), spans };
      known.uses.push({ ...use, documentFileId: Number(row.documentFileId), target: row.target });
      const stills = parsed<Stills | null>(row.stills);
      if (stills) known.stills.push({ ...use, ord: row.ord, stills });
    }
  }
  return found;
}

function factsIn(row: Row): FileFacts {
  const isSound = row.width === null;
  const rate = isSound ? [row.sampleRate, 1] : [row.ownNum, row.ownDen];
  return {
    // A sequence of stills is no file that could be cut.
    format: row.stills === null ? (row.format ?? '') : 'stills',
    frames: row.ownFrames === null ? null : Number(row.ownFrames),
    start: row.ownStart === null ? null : Number(row.ownStart),
    rate: rate[0] && rate[1] ? { num: rate[0], den: rate[1] } : null,
    isSound,
  };
}

/** Null: the whole of it; none where they use nothing of it. */
const spansAsked = (asked: ReadonlyMap<number, FrameRange[] | null>, mediaId: number): FrameRange[] | null =>
  asked.has(mediaId) ? asked.get(mediaId)! : [];

const rateIn = ({ rateNum, rateDen }: Row): Rate | null => (rateNum && rateDen ? { num: rateNum, den: rateDen } : null);

function useIn(row: Row): Omit<FileUse, 'spans'> {
  return {
    rate: rateIn(row),
    start: row.startFrame === null ? null : Number(row.startFrame),
    duration: row.durationFrames === null ? null : Number(row.durationFrames),
    relinks: /\.otio$/i.test(row.document),
  };
}

/** Of a document that was read before spans were kept: from its first used frame to its last. */
function spansIn(row: Row): FrameRange[] | null {
  const spans = parsed<[number, number][] | null>(row.spans);
  if (spans) return spans.map(([start, duration]) => ({ start, duration }));
  const ranges = parsed<[number, number][] | null>(row.ranges);
  const [first, last] = [ranges?.[0], ranges?.at(-1)];
  return first && last ? [{ start: first[0], duration: last[0] + last[1] - first[0] }] : null;
}

/** Files that timelines of these names use, of a project's documents. */
export async function usedByTimelines(
  db: Db,
  projectId: ProjectId,
  { timelines: names, versions }: Pick<ArchiveScope, 'timelines' | 'versions'>,
): Promise<Set<number>> {
  const counted = versions === 'newest' ? sql`AND o.superseded_by IS NULL` : sql``;
  const [rows] = (await db.execute(sql`
    SELECT DISTINCT t.file_id AS id FROM timelines l JOIN documents o ON o.id = l.document_id ${counted} JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL
    JOIN uses u ON u.timeline_id = l.id JOIN media_targets t ON t.media_id = u.media_id
    WHERE o.project_id = ${projectId} AND l.name IN ${[...names, '']} AND t.file_id IS NOT NULL`)) as unknown as [
    { id: number }[],
  ];
  return new Set(rows.map((row) => Number(row.id)));
}

/** What timelines of these names use of media, in frames of its rate; media they do not use is not told. */
async function spansByTimelines(
  db: Db,
  mediaIds: readonly number[],
  { names, rateOf }: { names: readonly string[]; rateOf: (mediaId: number) => Rate | null },
): Promise<Map<number, FrameRange[] | null>> {
  const all: ScopedUse[] = [];
  for (const ids of inSlices(mediaIds, 2000)) {
    const [rows] = (await db.execute(sql`
      SELECT u.media_id AS mediaId, u.timeline_id AS timelineId, u.start_frame AS start, u.duration_frames AS duration, u.rate_num AS num, u.rate_den AS den, u.reference
      FROM uses u JOIN timelines l ON l.id = u.timeline_id WHERE u.media_id IN ${idList(ids)} AND l.name IN ${[...names, '']}`)) as unknown as [
      {
        mediaId: number;
        timelineId: number;
        start: number;
        duration: number;
        num: number;
        den: number;
        reference: number;
      }[],
    ];
    for (const { mediaId, timelineId, start, duration, num, den, reference } of rows)
      all.push({
        ...{ mediaId: Number(mediaId), timelineId, rate: { num, den } },
        range: { start: Number(start), duration: Number(duration) },
        // Read before references were told apart: all of one media go together.
        reference: reference < 0 ? 0 : reference,
      });
  }
  const reached = reachByMedia(all, rateOf);
  return new Map([...reached].map(([id, { spans }]) => [id, spans]));
}

/** Names of the timelines of a project's documents that count, each once. */
export async function timelineNames(db: Db, projectId: ProjectId): Promise<string[]> {
  const [rows] = (await db.execute(sql`
    SELECT DISTINCT l.name FROM timelines l JOIN documents o ON o.id = l.document_id AND o.superseded_by IS NULL JOIN files g ON g.id = o.file_id AND g.gone_at IS NULL
    WHERE o.project_id = ${projectId} ORDER BY l.name LIMIT 500`)) as unknown as [{ name: string }[]];
  return rows.map((row) => row.name);
}

/** A sequence of stills of a document, and the file of each that is known, by its place in it. */
export interface SequenceUse {
  stills: Stills;
  use: FileUse;
  files: Map<number, number>;
}

/** The sequences that a document names. */
export async function sequencesOf(db: Db, documentFileId: number): Promise<SequenceUse[]> {
  const [rows] = (await db.execute(sql`
    SELECT m.id AS mediaId, m.stills, m.start_frame AS startFrame, m.duration_frames AS durationFrames, m.rate_num AS rateNum, m.rate_den AS rateDen,
      o.name AS document, t.ord, t.file_id AS fileId
    FROM documents o JOIN media m ON m.document_id = o.id AND m.stills IS NOT NULL JOIN media_targets t ON t.media_id = m.id AND t.file_id IS NOT NULL
    WHERE o.file_id = ${documentFileId} ORDER BY m.id, t.ord`)) as unknown as [Row[]];
  const found = new Map<number, SequenceUse>();
  for (const row of rows) {
    const known = found.get(row.mediaId) ?? {
      stills: parsed<Stills>(row.stills),
      use: { ...useIn(row), spans: null },
      files: new Map<number, number>(),
    };
    found.set(row.mediaId, known);
    known.files.set(row.ord, Number(row.fileId));
  }
  return [...found.values()];
}

/** Throws Refused where a project has no timeline of one of these names. */
export async function checkTimelines(db: Db, projectId: ProjectId, names: readonly string[]): Promise<void> {
  if (names.length === 0) return;
  const known = await timelineNames(db, projectId);
  const unknown = names.filter((name) => !known.includes(name));
  if (unknown.length > 0)
    throw new Refused(
      `There is no timeline named ${listed(unknown)}. Known are: ${known.join(', ') || 'none'}. Nothing was added.`,
    );
}
