// What the catalogue knows of a file that may be cut: what the project's documents use of it, and what it says of itself.
// Shaping asks for many at once, the sealing of an archive for those that became parts.
import { sql } from 'drizzle-orm';
import type { ArchiveScope } from '#core/archive/selection.ts';
import { type FileFacts, type FileUse } from '#core/archive/lengths.ts';
import type { ProjectId } from '#core/model.ts';
import type { FrameRange } from '#core/time/rates.ts';
import { idList } from '../db/conditions.ts';
import type { Db } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { DOCUMENT_THERE } from '../db/naming.ts';

export interface Lengths {
  file: FileFacts;
  uses: (FileUse & { documentFileId: number; target: string })[];
}

interface Row {
  fileId: number;
  documentFileId: number;
  document: string;
  target: string;
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

/** By file. A document that names a file and uses nothing of it asks for nothing of it. */
export async function lengthsOf(
  db: Db,
  projectId: ProjectId,
  { fileIds, versions }: { fileIds: readonly number[]; versions: ArchiveScope['versions'] },
): Promise<Map<number, Lengths>> {
  const found = new Map<number, Lengths>();
  const counted = versions === 'newest' ? sql`AND o.superseded_by IS NULL` : sql``;
  for (const ids of inSlices(fileIds, 2000)) {
    const [rows] = (await db.execute(sql`
      SELECT t.file_id AS fileId, o.file_id AS documentFileId, o.name AS document, t.target, m.stills IS NOT NULL AS stills, m.used,
        m.ranges, m.spans, m.start_frame AS startFrame, m.duration_frames AS durationFrames, m.rate_num AS rateNum, m.rate_den AS rateDen,
        e.format, e.width, e.sample_rate AS sampleRate, e.rate_num AS ownNum, e.rate_den AS ownDen, e.start_frame AS ownStart, e.duration_frames AS ownFrames
      FROM media_targets t JOIN media m ON m.id = t.media_id ${DOCUMENT_THERE} JOIN files f ON f.id = t.file_id
      LEFT JOIN essence e ON e.file_id = f.id AND e.trouble IS NULL AND e.read_size_bytes = f.size_bytes AND e.read_modified_us = f.modified_us
      WHERE t.file_id IN ${idList(ids)} AND m.project_id = ${projectId} ${counted} ORDER BY t.file_id, m.id`)) as unknown as [
      Row[],
    ];
    for (const row of rows) {
      const known = found.get(Number(row.fileId)) ?? { file: factsIn(row), uses: [] };
      found.set(Number(row.fileId), known);
      known.uses.push({ ...useIn(row), documentFileId: Number(row.documentFileId), target: row.target });
    }
  }
  return found;
}

function factsIn(row: Row): FileFacts {
  const isSound = row.width === null;
  const rate = isSound ? [row.sampleRate, 1] : [row.ownNum, row.ownDen];
  return {
    // A sequence of stills is no file that could be cut.
    format: Number(row.stills) === 1 ? 'stills' : (row.format ?? ''),
    frames: row.ownFrames === null ? null : Number(row.ownFrames),
    start: row.ownStart === null ? null : Number(row.ownStart),
    rate: rate[0] && rate[1] ? { num: rate[0], den: rate[1] } : null,
    isSound,
  };
}

function useIn(row: Row): FileUse {
  return {
    spans: row.used ? spansIn(row) : [],
    rate: row.rateNum && row.rateDen ? { num: row.rateNum, den: row.rateDen } : null,
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
