// The way to the database: a pool in UTC, transactions that are tried again after a deadlock, bulk loading. Called by
// everything in server/.
import { Readable } from 'node:stream';
import { drizzle, type MySql2Database } from 'drizzle-orm/mysql2';
import mysql, { type Connection, type Pool, type PoolConnection } from 'mysql2/promise';

export type Database = MySql2Database & { $pool: Pool };
/** Either the database or a transaction in it. */
export type Db = Pick<Database, 'select' | 'selectDistinct' | 'insert' | 'update' | 'delete' | 'execute'>;
export type Transaction = Parameters<Parameters<Database['transaction']>[0]>[0];

export function connect(url: string, connections = 10): Database {
  const pool = mysql.createPool({
    uri: url,
    connectionLimit: connections,
    timezone: 'Z',
    supportBigNumbers: true,
    charset: 'utf8mb4',
    flags: ['+LOCAL_FILES'],
    maxPreparedStatements: 500,
  });
  return Object.assign(drizzle(pool), { $pool: pool });
}

export const disconnect = (db: Database): Promise<void> => db.$pool.end();

/** The database's own code of an error, also where the query builder wrapped it. */
export function sqlCode(error: unknown): string | undefined {
  const outer = error as { code?: string; cause?: { code?: string } } | null;
  return outer?.cause?.code ?? outer?.code;
}

const AGAIN = new Set(['ER_LOCK_DEADLOCK', 'ER_LOCK_WAIT_TIMEOUT', 'ER_CHECKREAD']);

/** A transaction; after a deadlock it is tried again, so `work` must change nothing but the database. */
export async function inTransaction<T>(db: Database, work: (tx: Transaction) => Promise<T>): Promise<T> {
  for (let attempt = 1; ; attempt++) {
    try {
      return await db.transaction(work);
    } catch (error) {
      if (attempt >= 5 || !AGAIN.has(sqlCode(error) ?? '')) throw error;
      await new Promise((resolve) => setTimeout(resolve, attempt * 40));
    }
  }
}

/**
 * A connection of one's own with a transaction open: for bulk loading, which the query builder cannot do. Like
 * inTransaction it tries again after a deadlock, so `work` must change nothing but the database.
 */
export async function withConnection<T>(db: Database, work: (connection: PoolConnection) => Promise<T>): Promise<T> {
  for (let attempt = 1; ; attempt++) {
    const connection = await db.$pool.getConnection();
    try {
      await connection.beginTransaction();
      const value = await work(connection);
      await connection.commit();
      return value;
    } catch (error) {
      // A connection that broke has nothing to roll back, and is not given to anybody else.
      await connection.rollback().catch(() => connection.destroy());
      if (attempt >= 5 || !AGAIN.has(sqlCode(error) ?? '')) throw error;
      await new Promise((resolve) => setTimeout(resolve, attempt * 40));
    } finally {
      connection.release();
    }
  }
}

/**
 * Loads rows as LOAD DATA reads them. A value that does not fit is only a warning there, so warnings are errors here.
 * @param target table and columns, as SQL
 */
export async function loadRows(connection: Connection, target: string, chunks: readonly Uint8Array[]): Promise<void> {
  // An empty chunk would be an empty packet, which ends the loading.
  const buffers = chunks
    .filter((chunk) => chunk.byteLength > 0)
    .map((chunk) => Buffer.from(chunk.buffer, chunk.byteOffset, chunk.byteLength));
  if (buffers.length === 0) return;
  const [result] = await connection.query({
    sql: `LOAD DATA LOCAL INFILE 'rows' INTO TABLE ${target}`,
    infileStreamFactory: () => Readable.from(buffers),
  });
  const { warningStatus } = result as { warningStatus: number };
  if (warningStatus > 0) {
    const [warnings] = await connection.query('SHOW WARNINGS LIMIT 1');
    throw Object.assign(new Error(`Loading rows failed: ${JSON.stringify(warnings)}`), { code: 'load_data_warning' });
  }
}
