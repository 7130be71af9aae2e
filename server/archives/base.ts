// What an earlier archive of a project holds already, so that a later one can build on it: only what is new is written, and
// what it leaves to the earlier one is the very file, by size and times, that was sealed there.
import { and, desc, eq, inArray, isNotNull, sql } from 'drizzle-orm';
import { fold } from '#core/archive/names.ts';
import type { PlacedFile } from '#core/archive/selection.ts';
import { grouped } from '#core/grouped.ts';
import type { ArchiveId, ProjectId } from '#core/model.ts';
import { folderOf } from '#core/paths.ts';
import { isStillName, unitsOf } from '#core/units/units.ts';
import type { Db } from '../db/connect.ts';
import { archiveFiles, archives } from '../db/schema/archives.ts';

export type Archived = typeof archiveFiles.$inferSelect;
type Chosen = PlacedFile<{ changedUs: number | null }>;

/** By the number of the file, what stands for it in the earlier archive. */
export type Held = ReadonlyMap<number, readonly Archived[]>;

export interface Earlier {
  archiveId: ArchiveId;
  folder: string;
  sealedMs: number;
}

/** Sealed archives of a project all of whose parts have a good copy, the latest first. */
export async function earlierArchives(
  db: Db,
  projectId: ProjectId,
  { nights = false }: { nights?: boolean } = {},
): Promise<Earlier[]> {
  const rows = await db
    .select()
    .from(archives)
    .where(
      and(
        ...[eq(archives.projectId, projectId), eq(archives.purpose, 'archive'), eq(archives.state, 'sealed')],
        eq(archives.night, nights),
        sql`NOT EXISTS (SELECT 1 FROM archive_files f WHERE f.archive_id = ${archives.id}
          AND NOT EXISTS (SELECT 1 FROM copy_parts p WHERE p.part_id = f.part_id AND p.state = 'good'))`,
      ),
    )
    .orderBy(desc(archives.id));
  return rows.map(({ id, folder, sealedAt }) => ({
    archiveId: id as ArchiveId,
    folder,
    sealedMs: sealedAt!.getTime(),
  }));
}

/** Of what was chosen now, what lies in the earlier archive as it is. */
export async function heldBy(db: Db, baseId: number, chosen: readonly Chosen[]): Promise<Held> {
  const rows = await db
    .select()
    .from(archiveFiles)
    .where(
      and(
        eq(archiveFiles.archiveId, baseId),
        inArray(archiveFiles.role, ['media', 'part', 'encoded']),
        isNotNull(archiveFiles.sha512),
      ),
    )
    .orderBy(archiveFiles.id);
  const before = grouped(rows, (row) => row.fileId);
  const places = new Set(chosen.flatMap((file) => placesOf(file).map(fold)));
  const tied = tiedFiles(chosen);
  const held = new Map<number, readonly Archived[]>();
  for (const file of chosen) {
    const own = before.get(file.fileId);
    if (file.isDocument || !own || !isSame(file, own)) continue;
    const stays = own.every((row, i) => row.payloadPath === placesOf(file)[i]);
    // What moved keeps its old place, unless something else has that now, or it must lie beside others.
    if (stays || (!tied.has(file.fileId) && !own.some((row) => places.has(fold(row.payloadPath)))))
      held.set(file.fileId, own);
  }
  return held;
}

const placesOf = (file: PlacedFile): string[] =>
  file.parts.length > 0 ? file.parts.map((part) => part.payloadPath) : [file.payloadPath];

/** Stills, sidecars and pieces of one recording, and what they belong to: documents find them by lying beside each other. */
function tiedFiles(chosen: readonly Chosen[]): Set<number> {
  const tied = new Set<number>();
  const byFolder = grouped(chosen, (file) => `${file.volumeId} ${folderOf(file.path)}`);
  for (const files of byFolder.values()) {
    for (const { fileId, name } of files) if (isStillName(name)) tied.add(fileId);
    for (const unit of unitsOf(files.map(({ fileId, name, sizeBytes }) => ({ id: fileId, name, sizeBytes }))))
      if (unit.is !== 'file') for (const { id } of unit.files) tied.add(id);
  }
  for (const { fileId, goesWith } of chosen) if (goesWith !== undefined) tied.add(fileId).add(goesWith);
  return tied;
}

function isSame(file: Chosen, rows: readonly Archived[]): boolean {
  const sameFile = rows.every(
    (row) =>
      (row.ofBytes ?? row.sizeBytes) === file.sizeBytes &&
      row.modifiedUs === file.modifiedUs &&
      (row.changedUs === null || file.identity.changedUs === null || row.changedUs === file.identity.changedUs),
  );
  if (!sameFile) return false;
  if (file.encoding) return rows.length === 1 && rows[0]!.role === 'encoded' && rows[0]!.encoding === file.encoding;
  if (file.parts.length === 0) return rows.length === 1 && rows[0]!.role === 'media';
  return (
    rows.length === file.parts.length &&
    rows.every(
      (row, i) => row.role === 'part' && row.partFrom === file.parts[i]!.from && row.partTo === file.parts[i]!.to,
    )
  );
}
