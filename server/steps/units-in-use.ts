// Sidecars, pieces of one recording and stills of one sequence go or stay with their unit: of a step's items those that
// belong to a unit of which a timeline uses another member.
import { sql } from 'drizzle-orm';
import { unitsOf } from '#core/units/units.ts';
import type { Db } from '../db/connect.ts';
import { usedByLiving } from '../db/naming.ts';

interface Row {
  id: number;
  name: string;
  sizeBytes: number;
  isItem: number;
}

/** Numbers of the files. Folder by folder, so that a step of millions takes no more memory than its largest folder. */
export async function itemsOfUsedUnits(db: Db, stepId: number): Promise<Set<number>> {
  const [folders] = (await db.execute(
    sql`SELECT DISTINCT f.folder_id AS id FROM step_items i JOIN files f ON f.id = i.file_id WHERE i.step_id = ${stepId}`,
  )) as unknown as [{ id: number }[]];
  const found = new Set<number>();
  for (const { id } of folders) {
    const [rows] = (await db.execute(sql`
      SELECT f.id, f.name, f.size_bytes AS sizeBytes, EXISTS (SELECT 1 FROM step_items i WHERE i.step_id = ${stepId} AND i.file_id = f.id) AS isItem
      FROM files f WHERE f.folder_id = ${id} AND (f.gone_at IS NULL OR EXISTS (SELECT 1 FROM step_items i WHERE i.step_id = ${stepId} AND i.file_id = f.id))`)) as unknown as [
      Row[],
    ];
    const used = await usedByLiving(
      db,
      rows.map((row) => Number(row.id)),
    );
    if (used.size === 0) continue;
    for (const unit of unitsOf(rows.map((row) => ({ ...row, id: Number(row.id), sizeBytes: Number(row.sizeBytes) }))))
      if (unit.files.some((file) => used.has(file.id)))
        for (const file of unit.files) if (Number(file.isItem) > 0) found.add(file.id);
  }
  return found;
}
