// Starts one MariaDB for all service tests; each test file makes a database of its own in it (test/database.ts).
import path from 'node:path';
import { type OwnDatabase, startDatabase } from '../setup/mariadb.ts';

export default async function start() {
  const database: OwnDatabase = await startDatabase(path.resolve('var/test-db'), { port: 0, durable: false });
  process.env.KERAMION_TEST_DATABASE = database.url;
  (globalThis as { testDatabase?: OwnDatabase }).testDatabase = database;
}
