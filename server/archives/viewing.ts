// Viewing copies of what is archived: which there are, asking for those that are not, and what of one a player wants.
import { and, asc, eq, gte, lte, sql } from 'drizzle-orm';
import { grouped } from '#core/grouped.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { archives } from '../db/schema/archives.ts';
import { viewingCopies, viewingParts } from '../db/schema/catalogue.ts';
import { enqueue } from '../runtime/queue.ts';

export const VIEWING = 'make viewing copies';

/** Bytes of each part that is kept. */
export const PART_BYTES = 1 << 20;
/** What all of them may take; from then on none are made, and the page says so. */
export const MOST_BYTES = 20e9;

export interface ViewingRow {
  fileId: number;
  name: string;
  /** 0 where there is none. */
  bytes: number;
  /** Why none could be made; null where none was tried. */
  trouble: string | null;
  /** Its original is where it was, and can be reached: one can be made. */
  canBeMade: boolean;
}

/** Files of picture or sound, by their endings. */
const FILMS = [
  ...['mov', 'mp4', 'm4v', 'mxf', 'mkv', 'avi', 'mts'],
  ...['wav', 'bwf', 'rf64', 'aif', 'aiff', 'flac', 'm4a', 'mp3'],
];

/** Deliveries that an archive holds, with picture or sound, and their viewing copies. */
export async function viewingRows(db: Db, archiveId: number): Promise<ViewingRow[]> {
  const [rows] = (await db.execute(sql`
    SELECT f.id AS fileId, MIN(f.name) AS name, MAX(COALESCE(w.bytes, 0)) AS bytes, MAX(w.trouble) AS trouble,
      MAX(f.gone_at IS NULL AND f.modified_us = r.modified_us AND f.size_bytes = r.size_bytes AND f.raw_name IS NULL AND v.retired_at IS NULL AND v.state = 'reachable') AS canBeMade
    FROM archive_files r JOIN files f ON f.id = r.file_id AND f.kind = 'delivery' JOIN volumes v ON v.id = f.volume_id
    LEFT JOIN viewing_copies w ON w.file_id = f.id AND w.modified_us = r.modified_us
    WHERE r.archive_id = ${archiveId} AND r.role = 'media' AND LOWER(SUBSTRING_INDEX(f.name, '.', -1)) IN ${FILMS} GROUP BY f.id ORDER BY name, f.id LIMIT 50`)) as unknown as [
    { fileId: number; name: string; bytes: number; trouble: string | null; canBeMade: number }[],
  ];
  return rows.map((row) => ({
    ...row,
    ...{ fileId: Number(row.fileId), bytes: Number(row.bytes), canBeMade: Number(row.canBeMade) === 1 },
  }));
}

/** Has those made that there are not, while the originals are there. Gives how many were asked for. */
export async function askForViewing(tx: Transaction, archiveId: number, now: Date): Promise<number> {
  const wanted = (await viewingRows(tx, archiveId)).filter((row) => row.bytes === 0 && row.canBeMade);
  if (wanted.length === 0) return 0;
  const [archive] = await tx.select({ folder: archives.folder }).from(archives).where(eq(archives.id, archiveId));
  const [rows] = (await tx.execute(
    sql`SELECT id, volume_id AS volumeId FROM files WHERE id IN ${wanted.map((row) => row.fileId)}`,
  )) as unknown as [{ id: number; volumeId: number }[]];
  for (const [id, own] of grouped(rows, (row) => Number(row.volumeId)))
    await enqueue(
      tx,
      {
        ...{ kind: VIEWING, title: `Make viewing copies of ${archive!.folder}`, who: 'Keramion' },
        params: { fileIds: own.map((row) => Number(row.id)) },
        stores: [{ store: 'volume', id, mode: 'look' }],
      },
      now,
    );
  return wanted.length;
}

/** How many bytes a viewing copy has; null where there is none. */
export async function viewingBytes(db: Db, fileId: number): Promise<number | null> {
  const [row] = await db
    .select({ bytes: viewingCopies.bytes })
    .from(viewingCopies)
    .where(eq(viewingCopies.fileId, fileId));
  return row && row.bytes > 0 ? row.bytes : null;
}

/** Its bytes from one to another, both included. */
export async function viewingContent(
  db: Db,
  fileId: number,
  { from, to }: { from: number; to: number },
): Promise<Buffer> {
  const first = Math.floor(from / PART_BYTES);
  const parts = await db
    .select({ content: viewingParts.content })
    .from(viewingParts)
    .where(
      and(
        eq(viewingParts.fileId, fileId),
        gte(viewingParts.part, first),
        lte(viewingParts.part, Math.floor(to / PART_BYTES)),
      ),
    )
    .orderBy(asc(viewingParts.part));
  return Buffer.concat(parts.map((part) => part.content)).subarray(
    from - first * PART_BYTES,
    to + 1 - first * PART_BYTES,
  );
}
