// What is chosen file by file, by a search or on a file's own page, goes with its unit: sidecars, pieces of one recording and
// stills of one sequence are never parted.
import { sql } from 'drizzle-orm';
import { unitsOf } from '#core/units/units.ts';
import { idList } from '../db/conditions.ts';
import type { Db } from '../db/connect.ts';

/** The same files, and all others of their units. Folder by folder, so that memory stays bounded by the largest. */
export async function wholeUnits(db: Db, fileIds: readonly number[]): Promise<number[]> {
  if (fileIds.length === 0) return [];
  const asked = new Set(fileIds);
  const all = new Set(fileIds);
  const [folders] = (await db.execute(
    sql`SELECT DISTINCT folder_id AS id FROM files WHERE id IN ${idList(fileIds)}`,
  )) as unknown as [{ id: number }[]];
  for (const { id } of folders) {
    const [rows] = (await db.execute(
      sql`SELECT id, name, size_bytes AS sizeBytes FROM files WHERE folder_id = ${id} AND gone_at IS NULL`,
    )) as unknown as [{ id: number; name: string; sizeBytes: number }[]];
    const files = rows.map((row) => ({ name: row.name, id: Number(row.id), sizeBytes: Number(row.sizeBytes) }));
    for (const unit of unitsOf(files))
      if (unit.files.length > 1 && unit.files.some((file) => asked.has(file.id)))
        for (const file of unit.files) all.add(file.id);
  }
  return [...all];
}
