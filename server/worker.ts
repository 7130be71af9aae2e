// The worker process: says which volumes and carriers it reaches, takes the jobs that need no others, and runs them. Any
// number of workers may share one database; killed at any moment, another goes on where the journal ends.
import { randomBytes } from 'node:crypto';
import os from 'node:os';
import pino from 'pino';
import { and, eq, inArray } from 'drizzle-orm';
import { contentPool } from '#disk/content/content.ts';
import { documentPool } from '#disk/documents/documents.ts';
import { walkPool } from '#disk/walk/walk.ts';
import { carrierPool } from './carriers/copying.ts';
import { sequentialKinds } from './carriers/kinds.ts';
import { askForDueCheck } from './check/check.ts';
import { workAtNight } from './plan/at-night.ts';
import { askForSnapshots } from './snapshots/taking.ts';
import { askToAssess } from './reclaim/assess.ts';
import { connect, type Database, disconnect, isDatabaseAway } from './db/connect.ts';
import { jobStores } from './db/schema/jobs.ts';
import { steps } from './db/schema/plans.ts';
import { carriers } from './db/schema/stores.ts';
import { JobContext, type Pools, type StorePaths } from './runtime/context.ts';
import { endingOf, isUnexpected } from './runtime/endings.ts';
import { type Claimer, claimJob, type Job, LeaseLost, releaseJob, Waits } from './runtime/queue.ts';
import { endPlainly } from './runtime/work-kind.ts';
import { startTelling } from './post/telling.ts';
import { settings } from './settings.ts';
import { followHouseTime } from './site/site.ts';
import { askForDue } from './site/work.ts';
import { paramsIn } from './steps/kind.ts';
import { serverStepOf } from './steps/registry.ts';
import { sweepEncoded } from './steps/encoded.ts';
import { askToTidy } from './steps/tidy.ts';
import { noteOpenFiles } from './stores/open-now.ts';
import { lookAtStores, type OwnPaths, type Reach, signIn, signOut } from './stores/reach.ts';
import { workKindOf } from './work-kinds.ts';

const AT_ONCE = 3;
const LOOK_FOR_STORES_EVERY_MS = 5_000;
const LOOK_FOR_LEFTOVERS_EVERY_MS = 60_000;
/** A job whose worker went silent so often is not run again. */
const MOST_CRASHES = 3;

export interface Worker {
  stop(): Promise<void>;
  /** True once it has looked around, and nothing that it found to do is left. */
  isIdle(): boolean;
}

type Running = Map<number, { context: JobContext; ended: Promise<void> }>;

export interface WorkerOptions {
  name: string;
  leaseSeconds: number;
  pollMs: number;
  log: pino.Logger;
  /** Threads that are given stay the giver's; without them the worker has its own. */
  pools?: Pools;
  /** False: it asks for no assessments and runs no rules by itself. */
  assesses?: boolean;
  /** Where this worker finds stores that are not where they are registered. */
  paths?: OwnPaths;
  /** The time of day for its work, where it is not this machine's. */
  clock?: () => Date;
}

export const newPools = (): Pools => ({
  walk: walkPool(),
  content: contentPool(),
  documents: documentPool(),
  carriers: carrierPool(),
});

export const endPools = (pools: Pools): Promise<unknown> =>
  Promise.all([pools.walk.end(), pools.content.end(), pools.documents.end(), pools.carriers.end()]);

const reachedBy = (reach: Reach) => ({ volumes: [...reach.volumes.keys()], carriers: [...reach.carriers.keys()] });

export const pathsIn = (reach: Reach): StorePaths => ({
  volume: (id) => reach.volumes.get(id) ?? null,
  carrier: (id) => reach.carriers.get(id) ?? null,
});

/** What nobody has to ask for. */
async function workByItself(db: Database, { volumes }: Reach, now: Date): Promise<void> {
  await followHouseTime(db);
  await workAtNight(db, now);
  await askForSnapshots(db, volumes, { now });
}

/** What a worker sees of the house, looked at every few seconds; a clock that is put back changes nothing of that. */
class LookAround {
  reach: Reach = { volumes: new Map(), carriers: new Map() };
  private workerId: number | null = null;
  private lookedAt = -Infinity;
  private tidiedAt = -Infinity;

  constructor(
    private readonly db: Database,
    private readonly options: WorkerOptions,
  ) {}

  /** It has looked for all that is to be done. */
  hasTidied = (): boolean => this.tidiedAt > -Infinity;

  async whereDue(): Promise<void> {
    if (performance.now() - this.lookedAt < LOOK_FOR_STORES_EVERY_MS) return;
    const { db, options } = this;
    this.workerId ??= await signIn(db, { name: options.name, machine: os.hostname() });
    this.reach = await lookAtStores(db, this.workerId, options.paths ?? {});
    this.lookedAt = performance.now();
    await noteOpenFiles(db, this.workerId, this.reach.volumes);
    if (options.assesses ?? true) await askToAssess(db, new Date());
    await askForDue(db, [...this.reach.volumes.keys()], new Date());
    if (performance.now() - this.tidiedAt < LOOK_FOR_LEFTOVERS_EVERY_MS) return;
    if (options.assesses ?? true) await workByItself(db, this.reach, new Date());
    await lookForLeftovers(db, this.reach);
    this.tidiedAt = performance.now();
  }

  async end(): Promise<void> {
    if (this.workerId !== null) await signOut(this.db, this.workerId).catch(() => undefined);
  }
}

/** Starts taking jobs. `stop` ends the running ones without finishing them: the next worker goes on with them at once. */
export function startWorker(db: Database, options: WorkerOptions): Worker {
  const pools = options.pools ?? newPools();
  const running: Running = new Map();
  const looking = new LookAround(db, options);
  let stopping = false;
  let idle = false;
  const pause = new Pause();
  const claims = claimsOf(db, options);
  const begin = (job: Job): void => {
    const paths = pathsIn(looking.reach);
    const { leaseSeconds, clock } = options;
    const context = new JobContext({ db, job, pools, leaseSeconds, paths, clock });
    const ended = runJob(context, db, options.log).then(() => claims.ended(job));
    // What it had may be what others waited for.
    const gone = () => {
      idle = !running.delete(job.id);
      // There is room for the next.
      pause.end();
    };
    running.set(job.id, { context, ended: ended.finally(gone) });
  };
  const loop = async (): Promise<void> => {
    while (!stopping) {
      try {
        await looking.whereDue();
        const job = running.size < AT_ONCE && !stopping ? await claims.next(reachedBy(looking.reach)) : null;
        idle = job === null;
        if (job) {
          begin(job);
          continue;
        }
      } catch (error) {
        options.log.error({ err: error }, 'the database did not answer; trying again');
      }
      await pause.begin(options.pollMs);
    }
  };
  const looping = loop();
  return {
    isIdle: () => looking.hasTidied() && running.size === 0 && idle,
    stop: async () => {
      stopping = true;
      db.$patience.waits = false;
      for (const { context } of running.values()) context.abandon();
      await looping;
      await allEnded(running);
      await looking.end();
      if (!options.pools) await endPools(pools);
    },
  };
}

/** A wait that somebody else can end. */
class Pause {
  end: () => void = () => undefined;

  begin(ms: number): Promise<void> {
    return new Promise((resolve) => {
      const timer = setTimeout(resolve, ms);
      this.end = () => {
        clearTimeout(timer);
        resolve();
      };
    });
  }
}

/** Removals end after their batch, copies at their next block; whoever comes next goes on at once. */
const allEnded = (running: Running): Promise<unknown> =>
  Promise.race([
    Promise.all([...running.values()].map((one) => one.ended)),
    new Promise((resolve) => setTimeout(resolve, 5_000)),
  ]);

async function lookForLeftovers(db: Database, reach: Reach): Promise<void> {
  await sweepEncoded(db);
  await askToTidy(db, reach, new Date());
  await askForDueCheck(db, new Date());
}

/**
 * What this worker takes next: of tapes that it reads, or read last, first, as they are in a drive. Which they are is known when work
 * is taken: once it ends, the next may be taken before anybody asks.
 */
function claimsOf(db: Database, { name, leaseSeconds }: { name: string; leaseSeconds: number }) {
  let last: readonly number[] = [];
  const read = new Map<number, readonly number[]>();
  return {
    next: async (reached: Claimer['reached']): Promise<Job | null> => {
      const inDrive = [...last, ...[...read.values()].flat()];
      const job = await claimJob(db, { worker: name, reached, leaseSeconds, inDrive, woundKinds: sequentialKinds() });
      const tapes = job ? await tapesOf(db, job.id).catch(() => []) : [];
      if (job && tapes.length > 0) {
        read.set(job.id, tapes);
        last = [];
      }
      return job;
    },
    ended: (job: Job): void => {
      last = read.get(job.id) ?? last;
      read.delete(job.id);
    },
  };
}

/** The carriers of a job that are loaded and wound before they are read. */
async function tapesOf(db: Database, jobId: number): Promise<number[]> {
  const rows = await db
    .select({ id: carriers.id })
    .from(jobStores)
    .innerJoin(carriers, eq(carriers.id, jobStores.storeId))
    .where(and(eq(jobStores.jobId, jobId), eq(jobStores.store, 'carrier'), inArray(carriers.kind, sequentialKinds())));
  return rows.map(({ id }) => id);
}

/** Runs one job that was claimed. Never throws: what ends it is written down, or left for whoever has it next. */
export async function runJob(context: JobContext, db: Database, log: pino.Logger): Promise<void> {
  const { job } = context;
  log.info({ job: job.id, kind: job.kind, attempt: job.attempts }, 'job begun');
  context.start();
  try {
    await dispatch(context);
    log.info({ job: job.id }, 'job ended');
  } catch (thrown) {
    await afterThrown(context, thrown, { db, log });
  } finally {
    context.end();
  }
}

async function afterThrown(
  context: JobContext,
  thrown: unknown,
  { db, log }: { db: Database; log: pino.Logger },
): Promise<void> {
  const { job } = context;
  const error = context.reasonOf(thrown);
  if (error instanceof LeaseLost || error instanceof Waits || isDatabaseAway(error)) {
    log.warn({ job: job.id, err: error }, 'job let go');
    await releaseJob(db, job).catch(() => undefined);
    return;
  }
  const level = isUnexpected(context, thrown) ? 'error' : 'warn';
  log[level]({ job: job.id, err: error }, 'job failed');
  context.endingNow();
  try {
    await endPlainly(context, endingOf(context, thrown));
  } catch (again) {
    log.error({ job: job.id, err: again }, 'the end of a job could not be written down; it is run again');
    await releaseJob(db, job).catch(() => undefined);
  }
}

async function dispatch(context: JobContext): Promise<void> {
  const { db, job } = context;
  const isGivenUp = job.crashes >= MOST_CRASHES;
  if (job.stepId !== null) {
    const [step] = await db.select().from(steps).where(eq(steps.id, job.stepId));
    if (!step) throw new Error('The step of this job is not there.');
    const kind = serverStepOf(step.what);
    const params = paramsIn(kind, step);
    return isGivenUp ? kind.giveUp(context, step, params) : kind.run(context, step, params);
  }
  const kind = workKindOf(job.kind);
  if (!kind) throw new Error(`There is no work of the kind ${job.kind}.`);
  const params = kind.params.parse(job.params);
  if (!isGivenUp) return kind.run(context, params);
  await kind.giveUp?.(context, params);
  await endPlainly(context, { state: 'failed', trouble: context.givenUp });
}

/** The process itself. */
export async function main(): Promise<void> {
  const { databaseUrl, leaseSeconds, paths } = settings();
  const log = pino({ name: 'worker' });
  const db = connect(databaseUrl, 10, { patient: true });
  const name = `${os.hostname()}:${process.pid}:${randomBytes(3).toString('hex')}`;
  const worker = startWorker(db, { name, leaseSeconds, pollMs: 400, log, paths });
  const telling = startTelling(db, (error) => log.warn({ err: error }, 'what is to be told could not be put down'));
  const end = async () => {
    telling.stop();
    await worker.stop();
    await disconnect(db);
    process.exit(0);
  };
  process.once('SIGTERM', () => void end());
  process.once('SIGINT', () => void end());
  log.info('worker started');
}
