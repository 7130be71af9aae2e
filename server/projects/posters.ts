// Pictures of media for the interface: the moment in the file, its place on disk, and whether it can be reached.
import type { RowDataPacket } from 'mysql2/promise';
import { joinPath } from '#core/paths.ts';
import { look } from '#disk/facts.ts';
import { locate, rawPathOf } from '#disk/paths.ts';
import type { PosterStore } from '#disk/posters.ts';
import type { Database } from '../db/connect.ts';

export const MOST_POSTER_BYTES = 512_000_000;
/** Pictures of one strip, spread evenly over the file. */
export const STRIP = 8;

/** The picture at one of the moments of a strip (0 is the beginning); null where there is none. */
export async function posterOf(
  db: Database,
  store: PosterStore,
  { fileId, moment }: { fileId: number; moment: number },
): Promise<Buffer | null> {
  const [[row]] = await db.$pool.query<RowDataPacket[]>(
    `SELECT f.name, f.raw_name AS rawName, f.size_bytes AS bytes, f.modified_us AS modifiedUs, d.path AS folder, d.raw_path AS rawFolder, v.path AS root,
       e.duration_frames AS frames, e.rate_num AS num, e.rate_den AS den, e.width
     FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id AND v.state = 'reachable' AND v.retired_at IS NULL
     LEFT JOIN essence e ON e.file_id = f.id WHERE f.id = ? AND f.gone_at IS NULL`,
    [fileId],
  );
  if (!row || row.rawName || row.rawFolder) return null;
  const path = joinPath(row.folder as string, row.name as string);
  const raw = rawPathOf(row.folder as string, null, row.name as string, null);
  const place = locate(row.root as string, { path, raw }) as string;
  // What a link leads to is not the file that was read.
  const facts = look(place);
  if (facts.is !== 'file' || facts.sizeBytes !== Number(row.bytes)) return null;
  const seconds = row.frames && row.num ? (Number(row.frames) * Number(row.den)) / Number(row.num) : 0;
  const at = Math.max(0, Math.min(STRIP - 1, moment));
  return store.get({
    key: `${fileId}-${Number(row.modifiedUs)}-${at}`,
    media: place,
    seconds: (seconds * at) / STRIP,
    height: 90,
  });
}
