// Starts one MariaDB for all service tests and makes its tables once; each test makes a database of its own from their
// dump (test/database.ts), which is several times faster than all migrations anew. In memory where there is room: making and
// dropping the tables of a test waits for a disk five times as long as it works.
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, statfsSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { connect, disconnect } from '../server/db/connect.ts';
import { migrate } from '../server/db/migrate.ts';
import { type OwnDatabase, startDatabase } from '../setup/mariadb.ts';

const IN_MEMORY = '/dev/shm';
const LEAST_FREE_BYTES = 3e9;

/** Of this checkout alone. */
function place(): { folder: string; isInMemory: boolean } {
  const isInMemory = existsSync(IN_MEMORY) && freeBytes(IN_MEMORY) >= LEAST_FREE_BYTES;
  const own = createHash('sha256').update(process.cwd()).digest('hex').slice(0, 12);
  return { folder: isInMemory ? path.join(IN_MEMORY, `keramion-${own}`) : path.resolve('var/test-db'), isInMemory };
}

function freeBytes(folder: string): number {
  const { bavail, bsize } = statfsSync(folder);
  return bavail * bsize;
}

export default async function start() {
  const { folder, isInMemory } = place();
  const database: OwnDatabase = await startDatabase(folder, { port: 0, durable: false });
  const db = connect(database.url, 2);
  await migrate(db);
  await disconnect(db);
  const { hostname, port, username, password } = new URL(database.url);
  const access = ['-h', hostname, '-P', port, '-u', username, '--protocol=tcp'];
  const tables = execFileSync('mariadb-dump', [...access, '--skip-comments', 'keramion'], {
    env: { ...process.env, MYSQL_PWD: password },
  });
  const dump = path.resolve('var/test-db-tables.sql');
  writeFileSync(dump, tables);
  process.env.KERAMION_TEST_TABLES = dump;
  process.env.KERAMION_TEST_DATABASE = database.url;
  Object.assign(globalThis, { testDatabase: database, testFolder: isInMemory ? folder : null });
}
