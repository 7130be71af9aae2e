// The worker process: says which volumes and carriers it reaches, takes the jobs that need no others, and runs them. Any
// number of workers may share one database; killed at any moment, another goes on where the journal ends.
import os from 'node:os';
import { pathToFileURL } from 'node:url';
import pino from 'pino';
import { contentPool } from '#disk/content/content.ts';
import { documentPool } from '#disk/documents/documents.ts';
import { OutsideError } from '#disk/paths.ts';
import { walkPool } from '#disk/walk/walk.ts';
import type { VolumeId } from '#core/model.ts';
import { connect, type Database, disconnect } from './db/connect.ts';
import { runArchive } from './steps/archive.ts';
import { Cancelled, JobContext, type Pools } from './runtime/context.ts';
import { claimJob, endJob, type Job, LeaseLost, releaseLease } from './runtime/queue.ts';
import { readDocuments } from './readings/read-documents.ts';
import { readVolume, VolumeNotReadable } from './readings/read-volume.ts';
import { runApplyKinds } from './readings/apply-kinds.ts';
import { runMakeFolders } from './projects/make-folders.ts';
import { runMove } from './steps/move.ts';
import { runRelink } from './steps/relink.ts';
import { runRemove } from './steps/remove.ts';
import { runRestore } from './steps/restore.ts';
import { Refused } from './runtime/refused.ts';
import { reachableStores } from './stores/stores.ts';
import { askForDue } from './site/work.ts';
import { settings } from './settings.ts';

const AT_ONCE = 2;
const LOOK_FOR_STORES_EVERY_MS = 5_000;

export interface Worker {
  stop(): Promise<void>;
}

/**
 * Starts taking jobs. `stop` ends the running ones without finishing them: their leases run out and they go on later.
 * Threads that are given stay the giver's; without them the worker has its own.
 */
export function startWorker(
  db: Database,
  options: { name: string; leaseSeconds: number; pollMs: number; log: pino.Logger; pools?: Pools },
): Worker {
  const pools: Pools = options.pools ?? { walk: walkPool(), content: contentPool(), documents: documentPool() };
  const running = new Map<number, { context: JobContext; ended: Promise<void> }>();
  let stopping = false;
  let reached = { volumes: [] as number[], carriers: [] as number[] };
  let lookedAt = 0;

  const run = async (job: Job): Promise<void> => {
    const context = new JobContext(db, job, pools, options.leaseSeconds);
    const ended = work(context, options.log).finally(() => running.delete(job.id));
    running.set(job.id, { context, ended });
  };
  const loop = async (): Promise<void> => {
    while (!stopping) {
      try {
        if (Date.now() - lookedAt > LOOK_FOR_STORES_EVERY_MS) {
          reached = await reachableStores(db, new Date());
          lookedAt = Date.now();
          await askForDue(db, reached.volumes, new Date());
        }
        const job =
          running.size < AT_ONCE
            ? await claimJob(db, { worker: options.name, reached, leaseSeconds: options.leaseSeconds, now: new Date() })
            : null;
        if (job) {
          await run(job);
          continue;
        }
      } catch (error) {
        options.log.error({ error }, 'the database did not answer; trying again');
      }
      await new Promise((resolve) => setTimeout(resolve, options.pollMs));
    }
  };
  const looping = loop();
  return {
    stop: async () => {
      stopping = true;
      for (const { context } of running.values()) context.letGo();
      await looping;
      // Removals end after their batch, copies at their next block; whoever comes next goes on at once.
      await Promise.race([
        Promise.all([...running.values()].map((r) => r.ended)),
        new Promise((resolve) => setTimeout(resolve, 5_000)),
      ]);
      if (!options.pools) await Promise.all([pools.walk.end(), pools.content.end(), pools.documents.end()]);
    },
  };
}

async function work(context: JobContext, log: pino.Logger): Promise<void> {
  const { db, job } = context;
  log.info({ job: job.id, kind: job.kind, attempt: job.attempts }, 'job begun');
  context.start();
  try {
    await dispatch(context);
    log.info({ job: job.id }, 'job done');
  } catch (thrown) {
    const error = context.reasonOf(thrown);
    if (error instanceof LeaseLost) {
      await releaseLease(db, job);
      log.warn({ job: job.id }, 'job let go');
    } else if (error instanceof Cancelled) {
      await db.transaction((tx) => endJob(tx, job, { state: 'cancelled' })).catch(() => undefined);
    } else {
      const refused = error instanceof Refused || error instanceof VolumeNotReadable || error instanceof OutsideError;
      log[refused ? 'warn' : 'error']({ job: job.id, err: error }, 'job failed');
      const trouble = refused
        ? (error as Error).message
        : `Something went wrong that was not expected (${(error as Error).message}). What was done before is in the ledger and nothing is half done. Try it again; if it happens again, the log of the worker says more.`;
      await db.transaction((tx) => endJob(tx, job, { state: 'failed', trouble })).catch(() => undefined);
    }
  } finally {
    context.end();
  }
}

async function dispatch(context: JobContext): Promise<void> {
  const { db, job, pools } = context;
  switch (job.kind) {
    case 'read volume': {
      const volumeId = Number(job.params.volumeId) as VolumeId;
      const folder = typeof job.params.folder === 'string' ? job.params.folder : undefined;
      context.phase('reading', 'files', Number(job.params.expectedFiles ?? 0));
      const result = await readVolume(db, pools.walk, volumeId, {
        stop: context.stop,
        now: context.now,
        progress: (looked) => context.set(looked),
        folder,
      });
      context.check();
      context.rename('reading documents');
      await readDocuments(db, pools.documents, volumeId, { now: context.now, reading: result });
      context.phase('read', 'files', result.looked, result.looked);
      await context.checkLease();
      return db.transaction((tx) => endJob(tx, job, { state: 'done' }));
    }
    case 'remove':
      return runRemove(context);
    case 'archive':
      return runArchive(context);
    case 'restore':
      return runRestore(context);
    case 'move':
      return runMove(context);
    case 'make folders':
      return runMakeFolders(context);
    case 'apply kinds':
      return runApplyKinds(context);
    case 'relink':
      return runRelink(context);
  }
}

/** The process itself, where this file is the one that was started. */
async function main(): Promise<void> {
  const { databaseUrl, leaseSeconds } = settings();
  const log = pino({ name: 'worker' });
  const db = connect(databaseUrl);
  const worker = startWorker(db, { name: `${os.hostname()}:${process.pid}`, leaseSeconds, pollMs: 400, log });
  const end = async () => {
    await worker.stop();
    await disconnect(db);
    process.exit(0);
  };
  process.once('SIGTERM', () => void end());
  process.once('SIGINT', () => void end());
  log.info('worker started');
}

if (process.argv[1] && import.meta.url === pathToFileURL(process.argv[1]).href) void main();
