// Brings the tables up to date, one process at a time. Called by the start command, before web and worker.
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { migrate as run } from 'drizzle-orm/mysql2/migrator';
import { type Database } from './connect.ts';

const folder = path.join(path.dirname(fileURLToPath(import.meta.url)), 'migrations');

export async function migrate(db: Database): Promise<void> {
  const connection = await db.$pool.getConnection();
  try {
    await connection.query("SELECT GET_LOCK(CONCAT(DATABASE(), '.migrate'), 120)");
    await run(db, { migrationsFolder: folder });
  } finally {
    await connection.query("SELECT RELEASE_LOCK(CONCAT(DATABASE(), '.migrate'))");
    connection.release();
  }
}
