// Starts everything: the database on loopback, the tables, the interface, the worker; with demo data where asked. Ctrl-C
// stops all of it. Called by setup/run.mjs and by the browser tests.
import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { parse } from 'dotenv';
import { size } from '#core/wording/amounts.ts';
import { makeSite } from '#demo/site.ts';
import { type Addresses, registerSite } from '#demo/register.ts';
import { connect, disconnect } from '#server/db/connect.ts';
import { migrate } from '#server/db/migrate.ts';
import { build } from './build.ts';
import { freePort, type OwnDatabase, refuseTakenPort, startDatabase } from './mariadb.ts';
import { buildThreads, DISK_CALLS } from './threads.ts';
import { SetupError } from './trouble.ts';

export interface StartOptions {
  /** Folder for everything that is kept: database and demo site. */
  home: string;
  demo: boolean;
  fresh: boolean;
  host: string;
  port: number;
  databasePort: number;
  /** An own database server to use instead of one of Keramion's. */
  databaseUrl: string | null;
  leaseSeconds: number;
  /** False where nothing of it outlives the machine: then the database does not wait for the disk. */
  durable?: boolean;
  quiet?: boolean;
}

export interface Started {
  address: string;
  databaseUrl: string;
  worker: () => ChildProcess;
  stop(): Promise<void>;
}

export async function startAll(options: StartOptions): Promise<Started> {
  const { durable = true } = options;
  const say = (text: string) => options.quiet || console.log(text);
  mkdirSync(options.home, { recursive: true });
  await refuseTakenPort(options.port, 'The interface');
  if (options.fresh)
    for (const part of ['db', 'site', 'stand-ins', 'stand-ins.json', 'made.json'])
      rmSync(path.join(options.home, part), { recursive: true, force: true });
  const own = options.databaseUrl
    ? null
    : await startDatabase(path.join(options.home, 'db'), { port: options.databasePort, durable });
  const standIns = options.demo ? await startStandIns(options.home) : null;
  try {
    const databaseUrl = options.databaseUrl ?? own!.url;
    await buildThreads();
    await prepare(databaseUrl, { ...options, at: standIns?.at ?? null, own }, say);
    build();
    const started = await startProcesses(databaseUrl, own, options);
    const stop = async () => {
      await started.stop();
      await endChild(standIns?.child ?? null);
    };
    return { ...started, stop };
  } catch (error) {
    await endChild(standIns?.child ?? null);
    await own?.stop();
    throw error;
  }
}

/** The demo house's tape library, remote store and mail server, at the addresses that it knows them by. */
async function startStandIns(home: string): Promise<{ child: ChildProcess; at: Addresses }> {
  const known = path.join(home, 'stand-ins.json');
  const kept = existsSync(known) ? (JSON.parse(readFileSync(known, 'utf8')) as Partial<Record<string, number>>) : {};
  const ports = {
    library: kept.library ?? (await freePort()),
    store: kept.store ?? (await freePort()),
    mail: kept.mail ?? (await freePort()),
  };
  for (const port of Object.values(ports)) await refuseTakenPort(port, 'A device of the demo house');
  writeFileSync(known, `${JSON.stringify(ports)}\n`);
  const asked = [path.resolve(home, 'stand-ins'), ...Object.values(ports).map(String)];
  const child = spawn(process.execPath, ['--import', 'tsx', 'demo/stand-ins.ts', ...asked], {
    stdio: ['ignore', 'ignore', 'inherit'],
    detached: true,
  });
  const at = {
    library: `http://127.0.0.1:${ports.library}`,
    store: `http://127.0.0.1:${ports.store}`,
    mailPort: ports.mail,
  };
  await untilAnswering(`${at.library}/inventory`, child);
  return { child, at };
}

async function prepare(
  databaseUrl: string,
  options: StartOptions & { at: Addresses | null; own: OwnDatabase | null },
  say: (text: string) => void,
): Promise<void> {
  const db = connect(databaseUrl, 4);
  try {
    await migrate(db);
    const made = path.join(options.home, 'made.json');
    if (!options.at || existsSync(made)) return;
    say('Making the demo site …');
    const root = path.resolve(options.home, 'site');
    const now = new Date();
    const site = makeSite(root, now);
    if (site.shrink > 1)
      say(`This file system keeps no holes, so the demo's files are ${site.shrink} times smaller than in real life.`);
    // What is made from nothing is made again where the machine goes down meanwhile.
    await options.own?.setDurable(false);
    await registerSite(db, root, { now, at: options.at });
    await options.own?.setDurable(options.durable ?? true);
    writeFileSync(made, `${JSON.stringify({ made: now.toISOString(), files: site.files, bytes: site.bytes })}\n`);
    say(`Made ${site.files} files that say they hold ${size(site.bytes)}.`);
  } catch (error) {
    if ((error as { code?: string }).code === 'ENOSPC')
      throw new SetupError(
        'The disk is full, so the demo site could not be made. Free some space and start again with --fresh.',
      );
    throw error;
  } finally {
    await disconnect(db);
  }
}

async function startProcesses(databaseUrl: string, own: OwnDatabase | null, options: StartOptions): Promise<Started> {
  const env = {
    ...process.env,
    NODE_ENV: 'production',
    KERAMION_DATABASE: databaseUrl,
    KERAMION_HOST: options.host,
    KERAMION_PORT: String(options.port),
    KERAMION_LEASE_SECONDS: String(options.leaseSeconds),
    UV_THREADPOOL_SIZE: DISK_CALLS,
  };
  let stopping = false;
  const children = new Map<string, ChildProcess>();
  const launch = (name: string) => {
    const child = spawn(process.execPath, name === 'worker' ? workerArgs() : ['--import', 'tsx', `server/${name}.ts`], {
      env,
      stdio: ['ignore', options.quiet ? 'ignore' : 'inherit', 'inherit'],
      detached: true,
    });
    children.set(name, child);
    child.once('exit', (code, signal) => {
      if (stopping || options.quiet) return;
      console.error(`The ${name} process ended (${signal ?? code}); starting it again.`);
      setTimeout(() => stopping || launch(name), 1000);
    });
    return child;
  };
  const web = launch('web');
  launch('worker');
  // Where the keramion command finds the database. It holds a password, so nobody else may read it.
  const note = path.join(options.home, 'running.json');
  writeFileSync(note, `${JSON.stringify({ databaseUrl })}\n`, { mode: 0o600 });
  const stop = async () => {
    stopping = true;
    rmSync(note, { force: true });
    await Promise.all([...children.values()].map(endChild));
    await own?.stop();
  };
  const address = `http://${options.host === '0.0.0.0' ? '127.0.0.1' : options.host}:${options.port}`;
  try {
    await untilAnswering(`${address}/health`, web);
  } catch (error) {
    await stop();
    throw error;
  }
  return { address, databaseUrl, worker: () => children.get('worker')!, stop };
}

/** As it was built, where it was. */
function workerArgs(): string[] {
  const built = process.env.KERAMION_THREADS && path.join(process.env.KERAMION_THREADS, 'server/worker-process.mjs');
  return built && existsSync(built) ? [built] : ['--import', 'tsx', 'server/worker-process.ts'];
}

function endChild(child: ChildProcess | null): Promise<void> {
  return new Promise((resolve) => {
    if (child === null || child.exitCode !== null || child.signalCode !== null) return resolve();
    const force = setTimeout(() => child.kill('SIGKILL'), 12_000);
    child.once('exit', () => {
      clearTimeout(force);
      resolve();
    });
    child.kill('SIGTERM');
  });
}

async function untilAnswering(address: string, web: ChildProcess): Promise<void> {
  const until = Date.now() + 60_000;
  while (Date.now() < until && web.exitCode === null) {
    const answer = await fetch(address).catch(() => null);
    if (answer?.ok) return;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
  throw new SetupError(`What was to answer at ${address} did not start. Its own words are above.`);
}

/** Settings from keramion.conf (NAME=value a line), under those of the environment; the processes that are started have all of them. */
export function configuration(): Record<string, string | undefined> {
  const file = process.env.KERAMION_CONFIG ?? 'keramion.conf';
  if (!existsSync(file)) return process.env;
  const text = readFileSync(file, 'utf8');
  // What is no setting would be passed over in silence.
  for (const [i, line] of text.split('\n').entries())
    if (!/^\s*(#|$)/.test(line) && !/^\s*KERAMION_[A-Z_]+\s*=/.test(line))
      throw new SetupError(`Line ${i + 1} of ${file} is not a setting like KERAMION_PORT=4700. Nothing was started.`);
  return Object.assign(process.env, { ...parse(text), ...process.env });
}

function portOf(settings: Record<string, string | undefined>, name: string, fallback: number): number {
  const text = settings[name];
  if (text === undefined) return fallback;
  const port = Number(text);
  if (!Number.isInteger(port) || port < 1 || port > 65535)
    throw new SetupError(`${name} is ${JSON.stringify(text)}, which is no port from 1 to 65535. Nothing was started.`);
  return port;
}

export async function main(command: string, args: readonly string[]): Promise<void> {
  const settings = configuration();
  const demo = command === 'demo';
  const began = Date.now();
  const started = await startAll({
    home: settings.KERAMION_HOME ?? (demo ? 'var/demo' : 'var/keramion'),
    demo,
    fresh: demo && args.includes('--fresh'),
    host: settings.KERAMION_HOST ?? '127.0.0.1',
    port: portOf(settings, 'KERAMION_PORT', 4700),
    databasePort: portOf(settings, 'KERAMION_DATABASE_PORT', 4701),
    databaseUrl: settings.KERAMION_DATABASE ?? null,
    leaseSeconds: Number(settings.KERAMION_LEASE_SECONDS ?? 15),
  });
  console.log(
    `\nKeramion is at ${started.address} (started in ${((Date.now() - began) / 1000).toFixed(1)} s). Ctrl-C stops it.\n`,
  );
  let ending = false;
  const end = async () => {
    if (ending) return;
    ending = true;
    console.log('\nStopping …');
    await started.stop();
    process.exit(0);
  };
  process.on('SIGINT', () => void end());
  process.on('SIGTERM', () => void end());
}
