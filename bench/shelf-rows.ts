// Rows of a shelf for benchmarks: archives of one part, each with a good copy on one carrier. Their files are the caller's.
import { sql } from 'drizzle-orm';
import type { Database } from '#server/db/connect.ts';

/** Numbers from 1 on, as a table with the column n. */
export const numbers = (most: number) => sql.raw(`(SELECT seq AS n FROM seq_1_to_${most})`);

export async function shelfRows(db: Database, { archives, files }: { archives: number; files: number }): Promise<void> {
  await db.execute(
    sql`INSERT INTO carriers (id, name, kind, place, settings, capacity_bytes) VALUES (1, 'KD-1', 'disk', 'cabinet', '{"folder":"/nowhere"}', 4000000000000)`,
  );
  await db.execute(sql`INSERT INTO archives (id, project_id, name, folder, state, files, bytes, sealed_at)
    SELECT n, n, CONCAT('Project ', n), CONCAT('project-', n), 'sealed', ${files}, ${files * 1e6}, UTC_TIMESTAMP(3) FROM ${numbers(archives)} x`);
  await db.execute(
    sql`INSERT INTO archive_parts (id, archive_id, ord, folder, files, bytes) SELECT id, id, 0, folder, files, bytes FROM archives`,
  );
  await db.execute(sql`INSERT INTO archive_copies (id, archive_id, state) SELECT id, id, 'good' FROM archives`);
  await db.execute(
    sql`INSERT INTO copy_parts (copy_id, part_id, carrier_id, state) SELECT id, id, 1, 'good' FROM archives`,
  );
}
