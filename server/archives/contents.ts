// What an archive's documents say, kept beside its files when it is sealed; and which of its files are meant where one timeline, a
// bin or single files of it are asked for.
import { and, eq, sql } from 'drizzle-orm';
import type { ArchiveScope } from '#core/archive/selection.ts';
import { grouped } from '#core/grouped.ts';
import type { ProjectId } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { listed } from '#core/wording/amounts.ts';
import { unitsOf } from '#core/units/units.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { insertMany } from '../db/insert-many.ts';
import { archiveClips, archiveFiles, type archives } from '../db/schema/archives.ts';
import { askForPosters } from '../projects/posters.ts';
import { Refused } from '../runtime/refused.ts';
import { binTree } from './bins.ts';
import { noteRanges } from './ranges.ts';
import { askForViewing } from './viewing.ts';

/** Once, with the sealing: from what the catalogue knows of the documents that went in. */
export async function noteContents(
  tx: Transaction,
  { id, projectId }: Pick<typeof archives.$inferSelect, 'id' | 'projectId'>,
  { rest, timelines, now }: Pick<ArchiveScope, 'rest' | 'timelines'> & { now: Date },
): Promise<void> {
  // Of documents that others left, what is still in them.
  const kept = rest === 'leaves' && timelines.length > 0 ? sql`AND l.name IN ${[...timelines]}` : sql``;
  await tx.execute(sql`
    INSERT INTO archive_timelines (archive_id, document_file_id, name, duration_frames, rate_num, rate_den, missing)
    SELECT ${id}, o.file_id, l.name, MAX(l.duration_frames), MAX(l.rate_num), MAX(l.rate_den),
      COUNT(DISTINCT IF(r.id IS NULL, u.media_id, NULL)) - COUNT(DISTINCT IF(r.id IS NULL AND EXISTS (
        SELECT 1 FROM media_targets t2 JOIN archive_files r2 ON r2.file_id = t2.file_id AND r2.archive_id = ${id} WHERE t2.media_id = u.media_id), u.media_id, NULL))
    FROM (SELECT DISTINCT file_id FROM archive_files WHERE archive_id = ${id}) d JOIN documents o ON o.file_id = d.file_id AND o.state = 'read'
    JOIN timelines l ON l.document_id = o.id ${kept} JOIN uses u ON u.timeline_id = l.id
    LEFT JOIN media_targets t ON t.media_id = u.media_id
    LEFT JOIN archive_files r ON r.file_id = t.file_id AND r.archive_id = ${id} AND r.role IN ('media', 'part', 'encoded')
    GROUP BY o.file_id, l.name HAVING COUNT(r.id) > 0`);
  await tx.execute(sql`
    INSERT INTO archive_uses (timeline_id, archive_file_id)
    SELECT DISTINCT a.id, r.id FROM archive_timelines a JOIN documents o ON o.file_id = a.document_file_id
    JOIN timelines l ON l.document_id = o.id AND l.name = a.name JOIN uses u ON u.timeline_id = l.id
    JOIN media_targets t ON t.media_id = u.media_id
    JOIN archive_files r ON r.file_id = t.file_id AND r.archive_id = a.archive_id AND r.role IN ('media', 'part', 'encoded')
    WHERE a.archive_id = ${id}`);
  await noteRanges(tx, id, projectId as ProjectId);
  await noteClips(tx, id, projectId as ProjectId);
  await keepPictures(tx, id, now);
  await askForViewing(tx, id, now);
}

/** Pictures of an archive that are made for its page; others are made when somebody wants to see them. */
const MOST_PICTURES = 640;

/** While its originals are there: afterwards nobody could. */
async function keepPictures(tx: Transaction, archiveId: number, now: Date): Promise<void> {
  const [rows] = (await tx.execute(sql`
    SELECT DISTINCT f.id AS fileId, f.volume_id AS volumeId FROM archive_files r JOIN files f ON f.id = r.file_id AND f.gone_at IS NULL
    JOIN essence e ON e.file_id = f.id AND e.width IS NOT NULL LEFT JOIN posters p ON p.file_id = f.id AND p.moment = 0 AND p.modified_us = f.modified_us
    WHERE r.archive_id = ${archiveId} AND r.role IN ('media', 'part', 'encoded') AND p.file_id IS NULL ORDER BY f.id LIMIT ${MOST_PICTURES}`)) as unknown as [
    { fileId: number; volumeId: number }[],
  ];
  const wanted = rows.map((row) => ({ fileId: Number(row.fileId), volumeId: Number(row.volumeId), moment: 0 }));
  await askForPosters(tx, wanted, now);
}

async function noteClips(tx: Transaction, id: number, projectId: ProjectId): Promise<void> {
  const { pathOf } = await binTree(tx, projectId);
  const [rows] = (await tx.execute(sql`
    SELECT o.file_id AS documentFileId, c.bin_id AS binId, c.name, MIN(r.id) AS archiveFileId
    FROM (SELECT DISTINCT file_id FROM archive_files WHERE archive_id = ${id}) d JOIN documents o ON o.file_id = d.file_id AND o.state = 'read'
    JOIN clips c ON c.document_id = o.id LEFT JOIN media_targets t ON t.media_id = c.media_id
    LEFT JOIN archive_files r ON r.file_id = t.file_id AND r.archive_id = ${id} AND r.role IN ('media', 'part', 'encoded')
    GROUP BY c.id ORDER BY c.id`)) as unknown as [
    { documentFileId: number; binId: number | null; name: string; archiveFileId: number | null }[],
  ];
  const values = rows.map((row) => ({
    archiveId: id,
    ...{ documentFileId: Number(row.documentFileId), name: row.name },
    bin: row.binId === null ? '' : pathOf(Number(row.binId)).join('/').slice(0, 4000),
    archiveFileId: row.archiveFileId === null ? null : Number(row.archiveFileId),
  }));
  await insertMany(tx, archiveClips, values);
  await noteBins(tx, id);
}

/** Brings the bins of an archive up to its clips; of all archives where none is named. */
export async function noteBins(tx: Transaction, archiveId?: number): Promise<void> {
  const own = archiveId === undefined ? sql`TRUE` : sql`archive_id = ${archiveId}`;
  await tx.execute(sql`DELETE FROM archive_bins WHERE ${own}`);
  await tx.execute(
    sql`INSERT INTO archive_bins (archive_id, name) SELECT DISTINCT archive_id, bin FROM archive_clips WHERE ${own} AND bin <> ''`,
  );
}

/** What of an archive is meant; all of it where there is none. */
export interface Only {
  timelines: readonly string[];
  /** Names from the outermost, with '/' between; with all below. */
  bins: readonly string[];
  /** Files of the archive, by their numbers. */
  files: readonly number[];
}

export interface Portion {
  name: string;
  files: number;
  bytes: number;
  /** Of a timeline: media that it uses and that did not go in. */
  missing: number;
}

const OWN_BYTES = sql.raw('COALESCE(r.payload_bytes, r.size_bytes)');

/** Timelines of an archive's documents, with what each uses. */
export async function timelinesIn(db: Db, archiveId: number): Promise<Portion[]> {
  const [rows] = (await db.execute(sql`
    SELECT x.name, COUNT(*) AS files, SUM(x.bytes) AS bytes, MAX(x.missing) AS missing FROM (
      SELECT a.name, r.id, ${OWN_BYTES} AS bytes, MAX(a.missing) AS missing FROM archive_timelines a JOIN archive_uses u ON u.timeline_id = a.id
      JOIN archive_files r ON r.id = u.archive_file_id WHERE a.archive_id = ${archiveId} GROUP BY a.name, r.id) x
    GROUP BY x.name ORDER BY x.name LIMIT 500`)) as unknown as [Portion[]];
  return rows.map(numbers);
}

/** Bins of an archive's documents, each with what lies in it itself. */
export async function binsIn(db: Db, archiveId: number): Promise<Portion[]> {
  const [rows] = (await db.execute(sql`
    SELECT x.bin AS name, COUNT(*) AS files, SUM(x.bytes) AS bytes, 0 AS missing FROM (
      SELECT c.bin, r.id, ${OWN_BYTES} AS bytes FROM archive_clips c JOIN archive_files r ON r.id = c.archive_file_id
      WHERE c.archive_id = ${archiveId} AND c.bin <> '' GROUP BY c.bin, r.id) x
    GROUP BY x.bin ORDER BY x.bin LIMIT 500`)) as unknown as [Portion[]];
  return rows.map(numbers);
}

const numbers = ({ name, files, bytes, missing }: Portion): Portion => ({
  name,
  ...{ files: Number(files), bytes: Number(bytes), missing: Number(missing) },
});

/**
 * The files that are meant: what timelines use and bins hold, what was named; the documents those timelines and bins are in; and
 * what belongs to any of it as a sidecar or another piece. Throws Refused where something is not known.
 */
export async function filesMeant(db: Db, archiveId: number, only: Only): Promise<number[]> {
  await checkKnown(db, archiveId, only);
  const inBins = only.bins.map(
    (name) => sql`c.bin = ${name} OR LEFT(c.bin, CHAR_LENGTH(${`${name}/`})) = ${`${name}/`}`,
  );
  const parts = [
    only.timelines.length > 0 &&
      sql`SELECT u.archive_file_id AS id, a.document_file_id AS document FROM archive_timelines a JOIN archive_uses u ON u.timeline_id = a.id
        WHERE a.archive_id = ${archiveId} AND a.name IN ${[...only.timelines]}`,
    only.bins.length > 0 &&
      sql`SELECT c.archive_file_id AS id, c.document_file_id AS document FROM archive_clips c
        WHERE c.archive_id = ${archiveId} AND c.archive_file_id IS NOT NULL AND (${sql.join(inBins, sql` OR `)})`,
  ].filter((part) => part !== false);
  const ids = new Set(only.files);
  const documentIds = new Set<number>();
  for (const part of parts) {
    const [rows] = (await db.execute(part)) as unknown as [{ id: number; document: number }[]];
    for (const row of rows) {
      ids.add(Number(row.id));
      documentIds.add(Number(row.document));
    }
  }
  const all = await db
    .select({
      ...{ id: archiveFiles.id, fileId: archiveFiles.fileId, volumeId: archiveFiles.volumeId, path: archiveFiles.path },
      ...{ role: archiveFiles.role, sizeBytes: archiveFiles.sizeBytes },
    })
    .from(archiveFiles)
    .where(eq(archiveFiles.archiveId, archiveId))
    .orderBy(archiveFiles.id);
  for (const file of all) if (documentIds.has(file.fileId)) ids.add(file.id);
  return withUnits(all, ids);
}

interface Held {
  id: number;
  fileId: number;
  volumeId: number;
  path: string;
  role: string;
  sizeBytes: number;
}

/** Sidecars and pieces lay beside each other before they went in, whatever they are called there. */
function withUnits(all: readonly Held[], ids: Set<number>): number[] {
  const beside = grouped(
    all.filter((file) => ['media', 'part', 'encoded'].includes(file.role)),
    (file) => `${file.volumeId} ${folderOf(file.path)}`,
  );
  for (const folder of beside.values()) {
    if (!folder.some((file) => ids.has(file.id))) continue;
    const once = [...new Map(folder.map((file) => [file.fileId, file])).values()];
    for (const unit of unitsOf(once.map((file) => ({ ...file, name: nameOf(file.path) })))) {
      // Stills are asked for one by one, by those who use them.
      if (unit.is !== 'spanned' && unit.is !== 'with sidecars') continue;
      const own = new Set(unit.files.map((file) => file.fileId));
      const members = folder.filter((file) => own.has(file.fileId));
      if (!members.some((file) => ids.has(file.id))) continue;
      // Of what was cut, only the ranges that were asked for.
      for (const file of members) if (file.role === 'media') ids.add(file.id);
    }
  }
  return all.filter((file) => ids.has(file.id)).map((file) => file.id);
}

async function checkKnown(db: Db, archiveId: number, { timelines, bins, files }: Only): Promise<void> {
  const lacks = (what: string, asked: readonly string[], known: readonly string[]) => {
    const unknown = asked.filter((name) => !known.includes(name));
    if (unknown.length > 0)
      throw new Refused(
        `The archive has no ${what} named ${listed(unknown)}. Known are: ${known.join(', ') || 'none'}. Nothing was added.`,
      );
  };
  if (timelines.length > 0)
    lacks(
      'timeline',
      timelines,
      (await timelinesIn(db, archiveId)).map(({ name }) => name),
    );
  if (bins.length > 0) lacks('bin', bins, withAbove((await binsIn(db, archiveId)).map(({ name }) => name)));
  if (files.length === 0) return;
  const [row] = await db
    .select({ n: sql`COUNT(*)`.mapWith(Number) })
    .from(archiveFiles)
    .where(and(eq(archiveFiles.archiveId, archiveId), sql`${archiveFiles.id} IN ${[...new Set(files)]}`));
  if (row!.n < new Set(files).size)
    throw new Refused('A file that was chosen is not in this archive. Nothing was added.');
}

/** Also bins that hold nothing but other bins. */
const withAbove = (names: readonly string[]): string[] => [
  ...new Set(
    names.flatMap((name) => {
      const parts = name.split('/');
      return parts.map((_, i) => parts.slice(0, i + 1).join('/'));
    }),
  ),
];
