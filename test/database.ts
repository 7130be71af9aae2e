// A database of its own for one test, with all tables, in the MariaDB that start-database.ts started.
import { execFileSync } from 'node:child_process';
import { randomBytes, randomUUID } from 'node:crypto';
import { readFileSync } from 'node:fs';
import mysql from 'mysql2/promise';
import { connect, type Database, disconnect } from '#server/db/connect.ts';

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
  const { hostname, port, username, password } = new URL(base);
  execFileSync('mariadb', ['-h', hostname, '-P', port, '-u', username, '--protocol=tcp', name], {
    env: { ...process.env, MYSQL_PWD: password },
    input: readFileSync(process.env.KERAMION_TEST_TABLES!),
  });
  const db = connect(url, 6);
  // The dump is one for all; each database is a site of its own.
  await db.$pool.query("UPDATE site SET value = ? WHERE `key` = 'mark'", [randomUUID()]);
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
