// The catalogue as a text of statements, and back: by the database's own tools, packed, and locked with a passphrase where the
// house has one. Both are open to anybody with the usual tools: gunzip, and openssl enc (AES-256-CBC, PBKDF2).
import { type ChildProcess, spawn } from 'node:child_process';
import { createCipheriv, createDecipheriv, pbkdf2, randomBytes } from 'node:crypto';
import { once } from 'node:events';
import { PassThrough, type Readable, Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { promisify } from 'node:util';
import { createGunzip, createGzip } from 'node:zlib';
import type { Database } from '../db/connect.ts';
import { Refused } from '../runtime/refused.ts';

export interface Server {
  host: string;
  port: number;
  user: string;
  password: string;
  database: string;
}

/** Where a database is, from its pool. */
export function serverOf(db: Database): Server {
  const { config } = (db.$pool as unknown as { pool: { config: { connectionConfig: Server } } }).pool;
  const { host, port, user, password, database } = config.connectionConfig;
  return { host, port, user, password, database };
}

const LAST_LINE = '-- Dump completed';
const SALTED = 'Salted__';
const ITERATIONS = 600_000;
const derive = promisify(pbkdf2);

const keysOf = async (passphrase: string, salt: Buffer): Promise<{ key: Buffer; iv: Buffer }> => {
  const bytes = await derive(passphrase, salt, ITERATIONS, 48, 'sha256');
  return { key: bytes.subarray(0, 32), iv: bytes.subarray(32) };
};

function tool(name: string, args: readonly string[], { host, port, user, password }: Server): ChildProcess {
  const to = ['--protocol=tcp', '-h', host, '-P', String(port), '-u', user];
  return spawn(name, [...to, ...args], {
    env: { ...process.env, MYSQL_PWD: password },
    stdio: ['pipe', 'pipe', 'pipe'],
  });
}

/** Resolves once it ended well; else throws with its last words. */
async function ended(child: ChildProcess, name: string): Promise<void> {
  let said = '';
  child.stderr!.on('data', (chunk: Buffer) => (said = (said + chunk.toString('utf8')).slice(-400)));
  const [code] = (await once(child, 'close')) as [number | null];
  if (code !== 0)
    throw new Refused(`${name} ended with an error: ${said.trim() || String(code)}. The catalogue was not touched.`);
}

/**
 * All of the catalogue at one moment, packed. `whole` resolves once the tool has ended well and its last line was there;
 * whoever takes the stream waits for it before the backup counts.
 */
export async function dump(
  from: Server,
  { passphrase, progress }: { passphrase: string | null; progress: (bytes: number) => void },
): Promise<{ content: Readable; whole: Promise<void> }> {
  let tail = '';
  const watch = new Transform({
    transform(chunk: Buffer, _encoding, done) {
      progress(chunk.length);
      tail = (tail + chunk.subarray(-200).toString('latin1')).slice(-200);
      done(null, chunk);
    },
  });
  const content = new PassThrough();
  const steps: NodeJS.ReadWriteStream[] = [watch, createGzip({ level: 4 })];
  if (passphrase !== null) {
    const salt = randomBytes(8);
    const { key, iv } = await keysOf(passphrase, salt);
    content.write(Buffer.concat([Buffer.from(SALTED), salt]));
    steps.push(createCipheriv('aes-256-cbc', key, iv));
  }
  // Begun last: what a program says before somebody listens is lost once it has ended.
  // Viewing copies are made again from what is archived; they would be most of every backup.
  const left = ['viewing_copies', 'viewing_parts'].map((table) => `--ignore-table-data=${from.database}.${table}`);
  const args = ['--single-transaction', '--quick', '--hex-blob', '--skip-lock-tables', ...left, from.database];
  const child = tool('mariadb-dump', args, from);
  const packing = pipeline([child.stdout!, ...steps, content] as unknown as [
    NodeJS.ReadableStream,
    NodeJS.WritableStream,
  ]);
  const ending = ended(child, 'mariadb-dump');
  const whole = (async () => {
    await Promise.all([ending, packing]);
    if (!tail.includes(LAST_LINE)) throw new Refused('mariadb-dump ended early. Nothing was kept of it.');
  })();
  whole.catch((error: unknown) => content.destroy(error as Error));
  return { content, whole };
}

/** Reads a backup into a database that holds nothing. Throws Refused in a sentence. */
export async function load(into: Server, content: Readable, passphrase: string | null): Promise<void> {
  const plain = await unlocked(content, passphrase);
  const child = tool('mariadb', [into.database], into);
  const done = ended(child, 'mariadb');
  done.catch(() => undefined);
  child.stdin!.on('error', () => undefined);
  try {
    await pipeline(plain, createGunzip(), child.stdin!);
  } catch (error) {
    child.kill();
    await done.catch(() => undefined);
    const code = (error as { code?: string }).code ?? '';
    if (!/^(Z_|ERR_OSSL|ERR_STREAM|EPIPE)/.test(code)) throw error;
    throw new Refused(
      `The backup cannot be read${passphrase === null ? '' : ' with this passphrase'}: it is damaged, or none of ours. Nothing of what was there before was changed.`,
    );
  }
  await done;
}

/** Takes the lock off, where there is one. */
async function unlocked(content: Readable, passphrase: string | null): Promise<Readable> {
  const source = content[Symbol.asyncIterator]() as AsyncIterator<Buffer>;
  let head = Buffer.alloc(0);
  while (head.length < 16) {
    const { value, done } = await source.next();
    if (done) break;
    head = Buffer.concat([head, value]);
  }
  const isLocked = head.subarray(0, 8).toString('latin1') === SALTED;
  if (isLocked && passphrase === null)
    throw new Refused('The backup is locked. Say its passphrase in KERAMION_BACKUP_PASSPHRASE. Nothing was changed.');
  const rest = new PassThrough();
  const feed = async () => {
    rest.write(isLocked ? head.subarray(16) : head);
    for (let next = await source.next(); !next.done; next = await source.next())
      if (!rest.write(next.value)) await once(rest, 'drain');
    rest.end();
  };
  feed().catch((error: unknown) => rest.destroy(error as Error));
  if (!isLocked) return rest;
  const { key, iv } = await keysOf(passphrase!, head.subarray(8, 16));
  const opening = createDecipheriv('aes-256-cbc', key, iv);
  rest.on('error', (error) => opening.destroy(error));
  return rest.pipe(opening) as unknown as Readable;
}
