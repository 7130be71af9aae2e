// Whether the database answers, before a page asks it for much: a server that hangs would let a page wait for ever. Asked
// over a connection of its own, so that much work in the pool is not taken for a server that is away.
import mysql, { type Connection } from 'mysql2/promise';

/** People are told within three seconds. */
const WAITS_MS = 2_500;
/** So long an answer stands. */
const HOLDS_MS = 1_000;

export interface Asking {
  /** False where it cannot be reached, or says nothing in time. */
  answers(): Promise<boolean>;
  end(): Promise<void>;
}

export function asking(url: string): Asking {
  let connection: Connection | null = null;
  let saidAt = -Infinity;
  let open: Promise<boolean> | null = null;
  const drop = () => {
    connection?.destroy();
    connection = null;
  };
  const ask = async (): Promise<true> => {
    if (!connection) {
      connection = await mysql.createConnection({ uri: url, connectTimeout: WAITS_MS });
      // A server that ends a connection that nobody used is no trouble.
      connection.on('error', drop);
    }
    await connection.query('SELECT 1');
    saidAt = performance.now();
    return true;
  };
  const inTime = async (): Promise<boolean> => {
    let timer: NodeJS.Timeout | undefined;
    const late = new Promise<false>((resolve) => (timer = setTimeout(() => resolve(false), WAITS_MS)));
    try {
      const said = await Promise.race([ask().catch(() => false), late]);
      if (!said) drop();
      return said;
    } finally {
      clearTimeout(timer);
      open = null;
    }
  };
  return {
    answers: () => (performance.now() - saidAt < HOLDS_MS ? Promise.resolve(true) : (open ??= inTime())),
    end: () => Promise.resolve(drop()),
  };
}
