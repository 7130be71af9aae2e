// Which parts of a file the timelines of documents show, in its own timecode where it has one.
import { sql } from 'drizzle-orm';
import { isSameRate, type Rate, union } from '#core/time/rates.ts';
import { labelText } from '#core/time/timecode.ts';
import type { Db } from '../db/connect.ts';
import { DOCUMENT_THERE } from '../db/naming.ts';

export interface PartUsed {
  from: string;
  to: string;
}

export interface PartsUsed {
  /** A timeline uses all of it, or a document leaves open which part. */
  isWhole: boolean;
  parts: PartUsed[];
  /** The same as shares of its length; empty where that is not known. */
  shares: { from: number; to: number }[];
}

interface Row {
  ranges: unknown;
  startFrame: number | null;
  num: number | null;
  den: number | null;
  ownStart: number | null;
  ownFrames: number | null;
  ownNum: number | null;
  ownDen: number | null;
  dropFrame: number | null;
  width: number | null;
}

/** Null where no timeline uses it, or none says how it counts. */
export async function partsUsed(db: Db, fileId: number): Promise<PartsUsed | null> {
  const [rows] = (await db.execute(sql`
    SELECT m.ranges, m.start_frame AS startFrame, m.rate_num AS num, m.rate_den AS den,
      e.start_frame AS ownStart, e.duration_frames AS ownFrames, e.rate_num AS ownNum, e.rate_den AS ownDen, e.drop_frame AS dropFrame, e.width
    FROM media_targets t JOIN media m ON m.id = t.media_id AND m.used AND m.stills IS NULL ${DOCUMENT_THERE}
    LEFT JOIN essence e ON e.file_id = t.file_id AND e.trouble IS NULL
    WHERE t.file_id = ${fileId} AND o.superseded_by IS NULL`)) as unknown as [Row[]];
  if (rows.length === 0) return null;
  const [first] = rows as [Row];
  // Sound is counted by its samples: where it begins and how long it is says nothing in frames.
  const isPicture = first.width !== null;
  const rate = (isPicture ? rateOf(first.ownNum, first.ownDen) : null) ?? rateOf(first.num, first.den);
  const known = rows.map(({ ranges }) =>
    typeof ranges === 'string'
      ? (JSON.parse(ranges) as [number, number][] | null)
      : (ranges as [number, number][] | null),
  );
  if (known.some((ranges) => ranges === null)) return { isWhole: true, parts: [], shares: [] };
  // Documents that count at another rate than the file would name frames that are not those.
  const others = rows.map(({ num, den }) => rateOf(num, den));
  if (!rate || !others.every((one) => one !== null && isSameRate(one, rate))) return null;
  const own = isPicture ? Number(first.ownStart ?? 0) : 0;
  const all = union(
    rows.flatMap(({ startFrame }, i) => {
      // A document that counts from zero counts from the file's first frame.
      const shift = Number(startFrame ?? 0) === 0 ? own : 0;
      return known[i]!.map(([start, duration]) => ({ start: start + shift, duration }));
    }),
  );
  const label = (frame: number) => labelText(frame, rate, Boolean(first.dropFrame));
  const length = isPicture ? Number(first.ownFrames ?? 0) : 0;
  const share = (frame: number) => Math.min(1, Math.max(0, (frame - own) / length));
  return {
    isWhole: false,
    parts: all.map(({ start, duration }) => ({ from: label(start), to: label(start + duration) })),
    shares: length > 0 ? all.map(({ start, duration }) => ({ from: share(start), to: share(start + duration) })) : [],
  };
}

const rateOf = (num: number | null, den: number | null): Rate | null =>
  num && den ? { num: Number(num), den: Number(den) } : null;
