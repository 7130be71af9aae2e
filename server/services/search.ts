// Finds files, folders, projects, clips and carriers by parts of their names, for the search field.
import { sql } from 'drizzle-orm';
import type { Database } from '../db/connect.ts';

export interface Hit {
  what: 'project' | 'volume' | 'carrier' | 'archive' | 'clip' | 'folder' | 'file';
  id: number;
  name: string;
  where: string;
  /** The project of a clip, the folder of a file: where a click leads. */
  parentId: number | null;
  bytes: number | null;
}

const EACH = 6;

/** At most six of each, in the order a person would look for them. Needs two letters at least. */
export async function search(db: Database, text: string): Promise<Hit[]> {
  const wanted = text.trim();
  if (wanted.length < 2) return [];
  const like = `%${wanted.replace(/[\\%_]/g, (c) => `\\${c}`)}%`;
  const match = (column: string) => sql`${sql.raw(column)} COLLATE utf8mb4_general_ci LIKE ${like}`;
  const [rows] = (await db.execute(sql`
    (SELECT 'project' AS what, id, name, state AS place, NULL AS parent, NULL AS bytes FROM projects WHERE ${match('name')} LIMIT ${EACH})
    UNION ALL (SELECT 'volume', id, name, path, NULL, NULL FROM volumes WHERE ${match('name')} LIMIT ${EACH})
    UNION ALL (SELECT 'carrier', id, name, place, NULL, NULL FROM carriers WHERE ${match('name')} LIMIT ${EACH})
    UNION ALL (SELECT 'archive', a.id, a.name, a.folder, a.project_id, a.bytes FROM archives a WHERE a.state = 'sealed' AND ${match('a.name')} LIMIT ${EACH})
    UNION ALL (SELECT 'clip', MIN(c.id), c.name, p.name, p.id, NULL FROM clips c JOIN documents o ON o.id = c.document_id JOIN projects p ON p.id = o.project_id WHERE ${match('c.name')} GROUP BY c.name, p.name, p.id LIMIT ${EACH})
    UNION ALL (SELECT 'folder', d.id, d.name, CONCAT(v.name, ' / ', d.path), d.parent_id, d.total_bytes FROM folders d JOIN volumes v ON v.id = d.volume_id WHERE d.gone_at IS NULL AND ${match('d.name')} LIMIT ${EACH})
    UNION ALL (SELECT 'file', f.id, f.name, CONCAT(v.name, ' / ', d.path), d.id, f.size_bytes FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id WHERE f.gone_at IS NULL AND ${match('f.name')} LIMIT ${EACH * 2})`)) as unknown as [
    { what: Hit['what']; id: number; name: string; place: string; parent: number | null; bytes: number | null }[],
  ];
  return rows.map((row) => ({
    what: row.what,
    id: Number(row.id),
    name: row.name,
    where: row.place,
    parentId: row.parent === null ? null : Number(row.parent),
    bytes: row.bytes === null ? null : Number(row.bytes),
  }));
}
