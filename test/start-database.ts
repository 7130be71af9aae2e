// Starts one MariaDB for all service tests and makes its tables once; each test makes a database of its own from their
// dump (test/database.ts), which is several times faster than all migrations anew.
import { execFileSync } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import path from 'node:path';
import { connect, disconnect } from '../server/db/connect.ts';
import { migrate } from '../server/db/migrate.ts';
import { type OwnDatabase, startDatabase } from '../setup/mariadb.ts';

export default async function start() {
  const database: OwnDatabase = await startDatabase(path.resolve('var/test-db'), { port: 0, durable: false });
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
  (globalThis as { testDatabase?: OwnDatabase }).testDatabase = database;
}
