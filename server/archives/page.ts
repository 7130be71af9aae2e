// One archive on its page: what it holds, where each part of it lies and how sure that is, how it was shaped, and what was
// done with it.
import type { Encoding } from '#core/archive/encoding.ts';
import { and, asc, desc, eq, gt, inArray, ne, or, sql } from 'drizzle-orm';
import { z } from 'zod';
import { type StayedOut, stayedOutOf } from '../ledger/ledger.ts';
import { hasPart } from '../db/conditions.ts';
import type { Db } from '../db/connect.ts';
import { archiveFiles, archiveParts, archives } from '../db/schema/archives.ts';
import { essence, files } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { steps } from '../db/schema/plans.ts';
import { receipts } from '../db/schema/receipts.ts';
import { volumes } from '../db/schema/stores.ts';
import { type CopyPart, copyPartsOf } from './copies.ts';

/** A part of a copy as it is shown. */
export type PartRow = Pick<
  CopyPart,
  | 'copyId'
  | 'number'
  | 'folder'
  | 'bytes'
  | 'carrierId'
  | 'carrier'
  | 'keptAt'
  | 'carrierState'
  | 'state'
  | 'readBackMs'
> & {
  files: number;
  /** Files of it that did not read back as they were sealed. */
  damaged: string[];
  /** Of an earlier archive that this one builds on, its folder. */
  ofBase: string | null;
};

/** Where everything it holds lies, copy by copy; what ended early lies nowhere. */
export async function partRows(db: Db, archiveId: number): Promise<PartRow[]> {
  const parts = (await copyPartsOf(db, archiveId)).filter(
    (part) => part.state !== 'ended early' && part.state !== 'let go',
  );
  const damaged = await damagedFiles(db, archiveId);
  const counts = await filesIn(
    db,
    parts.map((part) => part.partId),
  );
  return parts
    .sort((a, b) => a.copyId - b.copyId || a.number - b.number)
    .map(({ place: _place, ...part }) => ({
      ...part,
      state: part.isReplaced ? 'replaced' : part.state,
      files: counts.get(part.partId) ?? 0,
      damaged: damaged.filter((one) => one.copyPartId === part.copyPartId).map((one) => one.path),
      ofBase: part.isOwn ? null : part.archive,
    }));
}

/** Files of the project in each part: a relinked document is the same one again. */
async function filesIn(db: Db, partIds: readonly number[]): Promise<Map<number, number>> {
  if (partIds.length === 0) return new Map();
  const rows = await db
    .select({ id: archiveFiles.partId, files: sql`COUNT(*)`.mapWith(Number) })
    .from(archiveFiles)
    .innerJoin(
      archiveParts,
      and(eq(archiveParts.id, archiveFiles.partId), eq(archiveParts.archiveId, archiveFiles.archiveId)),
    )
    .where(and(inArray(archiveFiles.partId, [...partIds]), ne(archiveFiles.role, 'document')))
    .groupBy(archiveFiles.partId);
  return new Map(rows.map((row) => [row.id, row.files]));
}

const MOST_DAMAGED = 200;

async function damagedFiles(db: Db, archiveId: number): Promise<{ copyPartId: number; path: string }[]> {
  const [rows] = (await db.execute(sql`
    SELECT DISTINCT c.copy_part_id AS copyPartId, f.payload_path AS path FROM copy_parts p
    JOIN copy_files c ON c.copy_part_id = p.id AND c.state = 'damaged' JOIN archive_files f ON f.id = c.archive_file_id
    WHERE p.state = 'damaged' AND p.part_id IN (SELECT DISTINCT part_id FROM archive_files WHERE archive_id = ${archiveId})
    ORDER BY f.payload_path LIMIT ${MOST_DAMAGED}`)) as unknown as [{ copyPartId: number; path: string }[]];
  return rows.map((row) => ({ copyPartId: Number(row.copyPartId), path: row.path }));
}

export interface ContentRow {
  id: number;
  at: string;
  role: string;
  bytes: number;
  fileId: number;
  volume: string;
  path: string;
  frames: { from: number; to: number } | null;
  whyWhole: string | null;
  /** It was encoded anew: how. */
  encoding: Encoding | null;
  /** There may be a small picture of it. */
  hasPicture: boolean;
  /** The original is still where it was. */
  isThere: boolean;
}

export const PAGE = 500;

/** What has a word in its name or former place, or in the name of a clip, a bin or a timeline of it. */
const isSaidBy = (archiveId: number, word: string) =>
  or(
    hasPart(archiveFiles.payloadPath, word),
    hasPart(archiveFiles.path, word),
    sql`${archiveFiles.id} IN (SELECT c.archive_file_id FROM archive_clips c WHERE c.archive_id = ${archiveId} AND c.archive_file_id IS NOT NULL
      AND (${hasPart(sql`c.name`, word)} OR ${hasPart(sql`c.bin`, word)}))`,
    sql`${archiveFiles.id} IN (SELECT u.archive_file_id FROM archive_timelines t JOIN archive_uses u ON u.timeline_id = t.id
      WHERE t.archive_id = ${archiveId} AND ${hasPart(sql`t.name`, word)})`,
  );

/** What it holds, in the order it was written, a page at a time; `word`: only what is said by it. */
export async function contentRows(
  db: Db,
  archiveId: number,
  { word, after }: { word: string; after: number },
): Promise<{ rows: ContentRow[]; more: number | null }> {
  const rows = await db
    .select({ file: archiveFiles, volume: volumes.name, goneAt: files.goneAt, there: files.id, width: essence.width })
    .from(archiveFiles)
    .leftJoin(volumes, eq(volumes.id, archiveFiles.volumeId))
    .leftJoin(files, eq(files.id, archiveFiles.fileId))
    .leftJoin(essence, eq(essence.fileId, archiveFiles.fileId))
    .where(
      and(
        eq(archiveFiles.archiveId, archiveId),
        gt(archiveFiles.id, after),
        word === '' ? undefined : isSaidBy(archiveId, word),
      ),
    )
    .orderBy(asc(archiveFiles.id))
    .limit(PAGE + 1);
  return {
    more: rows.length > PAGE ? rows[PAGE - 1]!.file.id : null,
    rows: rows.slice(0, PAGE).map(({ file, volume, goneAt, there, width }) => ({
      hasPicture: width !== null && ['media', 'part', 'encoded'].includes(file.role),
      ...{ id: file.id, at: file.payloadPath, role: file.role, fileId: file.fileId, path: file.path },
      bytes: file.payloadBytes ?? file.sizeBytes,
      // What was taken in was on no volume of the house.
      volume: file.volumeId === 0 ? '' : (volume ?? 'a volume that is not known any more'),
      frames: file.partFrom === null ? null : { from: file.partFrom, to: file.partTo! },
      whyWhole: file.whyWhole,
      encoding: file.encoding,
      isThere: there !== null && goneAt === null,
    })),
  };
}

/** How it was asked for, as the step that wrote it keeps it; null where that is not known. */
export async function shapeOf(db: Db, jobId: number | null): Promise<unknown> {
  if (jobId === null) return null;
  const [row] = await db
    .select({ what: steps.what })
    .from(jobs)
    .innerJoin(steps, eq(steps.id, jobs.stepId))
    .where(eq(jobs.id, jobId));
  return row?.what ?? null;
}

export interface ArchiveReceipt {
  id: number;
  atMs: number;
  who: string;
  action: string;
  title: string;
}

/** What was done with it, the latest first. */
export async function receiptsOfArchive(
  db: Db,
  { archiveId, projectId }: { archiveId: number; projectId: number },
): Promise<ArchiveReceipt[]> {
  const rows = await db
    .select()
    .from(receipts)
    // Its facts are looked into only where it may be about this project: there are very many receipts.
    .where(
      sql`(${receipts.projectId} = ${projectId} OR ${receipts.projectId} IS NULL) AND JSON_VALUE(${receipts.facts}, '$.archiveId') = ${archiveId}`,
    )
    .orderBy(desc(receipts.id))
    .limit(50);
  return rows.map(({ id, at, who, action, title }) => ({ id, atMs: at.getTime(), who, action, title }));
}

const takenIn = z.object({
  carrier: z.string(),
  folder: z.string(),
  checked: z.number(),
  sameInOtherArchives: z.object({ files: z.number(), bytes: z.number() }).optional(),
});
export type TakenIn = z.infer<typeof takenIn> & { stayedOut: StayedOut[] };

/** How it was found, where it was not written here; as its receipt says. */
export async function takenInFacts(
  db: Db,
  { id, projectId }: { id: number; projectId: number },
): Promise<TakenIn | null> {
  const [row] = await db
    .select({ facts: receipts.facts })
    .from(receipts)
    .where(
      and(
        eq(receipts.projectId, projectId),
        eq(receipts.action, 'taken in'),
        sql`JSON_VALUE(${receipts.facts}, '$.archiveId') = ${id}`,
      ),
    );
  const taken = takenIn.safeParse(row?.facts);
  return taken.success ? { ...taken.data, stayedOut: stayedOutOf(row!.facts) } : null;
}

export async function archiveById(db: Db, archiveId: number): Promise<typeof archives.$inferSelect | null> {
  const [row] = await db
    .select()
    .from(archives)
    .where(and(eq(archives.id, archiveId), eq(archives.purpose, 'archive')));
  return row ?? null;
}
