// Work that somebody does in a process of their own, through the same door as everybody: the command reads a volume only
// while no worker has it, and what it writes is held to its lease.
import os from 'node:os';
import { type Database, inTransaction } from '../db/connect.ts';
import { JobContext, type Pools } from './context.ts';
import { endingOf } from './endings.ts';
import { claimNew, endJob, type NewJob, releaseJob } from './queue.ts';
import { Refused } from './refused.ts';

export interface OwnJob {
  db: Database;
  pools: Pools;
  job: NewJob;
  leaseSeconds: number;
  /** Where this process finds a volume. */
  pathOf: (volumeId: number) => string | null;
  /** How long to wait for stores that others have. */
  waitSeconds: number;
}

const TRY_EVERY_MS = 200;

/** Puts a job in, has it at once, does `work` and ends it. Throws Refused where the stores do not come free in time. */
export async function asOwnJob<T>(own: OwnJob, work: (context: JobContext) => Promise<T>): Promise<T> {
  const { db, pools, leaseSeconds } = own;
  const claimer = { worker: `${os.hostname()}:${process.pid}`, leaseSeconds };
  const until = Date.now() + own.waitSeconds * 1000;
  let job = await claimNew(db, own.job, claimer);
  while (!job) {
    if (Date.now() > until)
      throw new Refused('Other work has that volume and did not end in time. Nothing was done. Try again later.');
    await new Promise((resolve) => setTimeout(resolve, TRY_EVERY_MS));
    job = await claimNew(db, own.job, claimer);
  }
  const paths = { volume: own.pathOf, carrier: () => null };
  const context = new JobContext({ db, job, pools, leaseSeconds, paths });
  context.start();
  try {
    const value = await work(context);
    await context.transaction((tx) => endJob(tx, job, { state: 'done' }));
    return value;
  } catch (thrown) {
    try {
      const ending = endingOf(context, thrown);
      await inTransaction(context.db, (tx) => endJob(tx, job, ending));
    } catch {
      await releaseJob(db, job).catch(() => undefined);
    }
    throw thrown;
  } finally {
    context.end();
  }
}
