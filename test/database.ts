// A database of its own for one test file, migrated, in the MariaDB that start-database.ts started.
import { randomBytes } from 'node:crypto';
import mysql from 'mysql2/promise';
import { connect, type Database, disconnect } from '#server/db/connect.ts';
import { migrate } from '#server/db/migrate.ts';

export interface TestDatabase {
  db: Database;
  url: string;
  drop(): Promise<void>;
}

export async function testDatabase(): Promise<TestDatabase> {
  const base = process.env.KERAMION_TEST_DATABASE;
  if (!base) throw new Error('KERAMION_TEST_DATABASE is not set: run these tests through Jest.');
  const name = `keramion_${randomBytes(6).toString('hex')}`;
  const admin = await mysql.createConnection(base);
  await admin.query(`CREATE DATABASE ${name}`);
  const url = base.replace(/\/keramion$/, `/${name}`);
  const db = connect(url, 6);
  await migrate(db);
  return {
    db,
    url,
    drop: async () => {
      await disconnect(db);
      await admin.query(`DROP DATABASE ${name}`);
      await admin.end();
    },
  };
}
