// The way to the database: a pool in UTC whose every connection has the isolation level said, transactions that are tried
// again after a deadlock, bulk loading. A patient database waits for a server that is away. Called by all of server/.
import { Readable } from 'node:stream';
import { drizzle, type MySql2Database } from 'drizzle-orm/mysql2';
import mysql, { type Connection, type Pool, type PoolConnection } from 'mysql2/promise';
import pRetry, { AbortError } from 'p-retry';

export type Database = MySql2Database & {
  $pool: Pool;
  $patience: Patience;
  /** The first statement of every transaction; see guarded. */
  $guard?: (tx: Transaction) => Promise<void>;
};
/** Either the database or a transaction in it. */
export type Db = Pick<Database, 'select' | 'selectDistinct' | 'insert' | 'update' | 'delete' | 'execute'>;
/** A transaction: the query builder, and the connection itself for what the builder has no words for. */
export type Transaction = Db & { $connection: PoolConnection };

/** Whether to wait for a server that does not answer. The worker ends the waiting when it is told to stop. */
interface Patience {
  waits: boolean;
}

export function connect(url: string, connections = 10, { patient = false } = {}): Database {
  const pool = mysql.createPool({
    uri: url,
    connectionLimit: connections,
    timezone: 'Z',
    supportBigNumbers: true,
    charset: 'utf8mb4',
    flags: ['+LOCAL_FILES'],
    maxPreparedStatements: 500,
    connectTimeout: 5_000,
  });
  // Not left to the server's settings: sums are right only where a statement sees what was committed before it began.
  pool.on('connection', (connection) => {
    const said = connection as unknown as { query(sql: string, done: (error: unknown) => void): void };
    said.query("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED, SESSION time_zone = '+00:00'", () => undefined);
  });
  const patience: Patience = { waits: patient };
  return Object.assign(drizzle(patient ? patientPool(pool, patience) : pool), { $pool: pool, $patience: patience });
}

export const disconnect = (db: Database): Promise<void> => db.$pool.end();

/**
 * The same database for somebody whose every transaction begins with `guard`, and who writes in transactions only: what a
 * job writes can not be written once its lease is gone.
 */
export function guarded(db: Database, guard: (tx: Transaction) => Promise<void>): Database {
  const refuse = (): never => {
    throw new Error('A job writes in its transactions only.');
  };
  return Object.assign(Object.create(db) as Database, {
    $guard: guard,
    insert: refuse,
    update: refuse,
    delete: refuse,
  });
}

/** The database's own code of an error, also where the query builder wrapped it. */
export function sqlCode(error: unknown): string | undefined {
  const outer = error as { code?: string; cause?: { code?: string } } | null;
  return outer?.cause?.code ?? outer?.code;
}

const DEADLOCKS = new Set(['ER_LOCK_DEADLOCK', 'ER_LOCK_WAIT_TIMEOUT', 'ER_CHECKREAD']);
const AWAY = new Set([
  'ECONNREFUSED',
  'ECONNRESET',
  'EPIPE',
  'ETIMEDOUT',
  'PROTOCOL_CONNECTION_LOST',
  'PROTOCOL_ENQUEUE_AFTER_FATAL_ERROR',
  'PROTOCOL_ENQUEUE_AFTER_QUIT',
  'ER_SERVER_SHUTDOWN',
  'ER_CONNECTION_KILLED',
  'ER_NET_READ_INTERRUPTED',
  'ER_CON_COUNT_ERROR',
]);

/** True where the server itself does not answer: nothing is wrong with what was asked. */
export const isDatabaseAway = (error: unknown): boolean =>
  AWAY.has(sqlCode(error) ?? '') ||
  /closed state|server has gone away|Connection lost/i.test(String((error as Error | null)?.message));

/**
 * Runs `work` in a transaction of its own. After a deadlock, and with patience after the server went away, all of it is
 * run again, so `work` must change nothing but the database, and must bear that an earlier try was committed after all.
 */
export function inTransaction<T>(db: Database, work: (tx: Transaction) => Promise<T>): Promise<T> {
  return again(db.$patience, async () => {
    const connection = await db.$pool.getConnection();
    let broken = false;
    try {
      await connection.beginTransaction();
      const tx = Object.assign(drizzle(connection), { $connection: connection }) as unknown as Transaction;
      await db.$guard?.(tx);
      const value = await work(tx);
      await connection.commit();
      return value;
    } catch (error) {
      await connection.rollback().catch(() => (broken = true));
      throw error;
    } finally {
      // A connection that broke is not given to anybody else.
      if (broken) connection.destroy();
      else connection.release();
    }
  });
}

/** The same for what needs the connection alone: bulk loading and sums. */
export const withConnection = <T>(db: Database, work: (connection: PoolConnection) => Promise<T>): Promise<T> =>
  inTransaction(db, (tx) => work(tx.$connection));

function again<T>(patience: Patience, attempt: () => Promise<T>): Promise<T> {
  let deadlocks = 0;
  return pRetry(
    async () => {
      try {
        return await attempt();
      } catch (thrown) {
        const error = ours(thrown);
        const isDeadlock = DEADLOCKS.has(sqlCode(error) ?? '') && ++deadlocks < 8;
        if (isDeadlock || (patience.waits && isDatabaseAway(error))) throw error;
        throw new AbortError(error);
      }
    },
    { retries: 8, forever: true, minTimeout: 30, maxTimeout: 1_000, factor: 1.6, randomize: true },
  );
}

/** What a socket says may come from another context of the engine, as it does under tests: whoever tries again takes that for no error. */
const ours = (thrown: unknown): Error =>
  thrown instanceof Error ? thrown : Object.assign(new Error((thrown as Error).message), thrown);

/** Looking is asked again while the server is away; what changes something only where it cannot have arrived. */
function patientPool(pool: Pool, patience: Patience): Pool {
  const query = (...asked: Parameters<Pool['query']>) =>
    again(patience, async () => {
      try {
        return await pool.query(...asked);
      } catch (error) {
        const first = asked[0] as string | { sql: string };
        const isLook = /^\s*(\(|SELECT|WITH)/i.test(typeof first === 'string' ? first : first.sql);
        if (isLook || sqlCode(error) === 'ECONNREFUSED' || !isDatabaseAway(error)) throw error;
        throw new AbortError(error as Error);
      }
    });
  return new Proxy(pool, {
    get: (target, name) => {
      if (name === 'query') return query;
      const value = Reflect.get(target, name, target) as unknown;
      return typeof value === 'function' ? (value as () => unknown).bind(target) : value;
    },
  });
}

const CHUNK_LETTERS = 500_000;

/** Rows as bytes, some at a time: a packet for every few rows takes longer, one for all takes their memory once more. */
function* chunksOf(rows: readonly string[]): Generator<Buffer> {
  let waiting = '';
  for (const text of rows) {
    waiting += text;
    if (waiting.length < CHUNK_LETTERS) continue;
    yield Buffer.from(waiting);
    waiting = '';
  }
  if (waiting !== '') yield Buffer.from(waiting);
}

/**
 * Loads rows as LOAD DATA reads them. A value that does not fit is only a warning there, so warnings are errors here.
 * @param target table and columns, as SQL
 */
export const loadRows = (
  connection: Connection,
  target: string,
  rows: readonly string[],
  values: readonly unknown[] = [],
): Promise<void> => load(connection, { into: `INTO TABLE ${target}`, rows, values });

/** The same; a row of which the key is there already takes its place. */
export const replaceRows = (connection: Connection, target: string, rows: readonly string[]): Promise<void> =>
  load(connection, { into: `REPLACE INTO TABLE ${target}`, rows, values: [] });

async function load(
  connection: Connection,
  { into, rows, values }: { into: string; rows: readonly string[]; values: readonly unknown[] },
): Promise<void> {
  // An empty chunk would be an empty packet, which ends the loading.
  if (rows.every((text) => text === '')) return;
  const [result] = await connection.query({
    sql: `LOAD DATA LOCAL INFILE 'rows' ${into}`,
    values: [...values],
    infileStreamFactory: () => Readable.from(chunksOf(rows)),
  });
  const { warningStatus } = result as { warningStatus: number };
  if (warningStatus > 0) {
    const [warnings] = await connection.query('SHOW WARNINGS LIMIT 1');
    throw Object.assign(new Error(`Loading rows failed: ${JSON.stringify(warnings)}`), { code: 'load_data_warning' });
  }
}
