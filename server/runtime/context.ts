// What a running job has at hand: a database in which everything it writes is guarded by its lease, the threads, the
// volumes it reaches, its private names, its progress and the flag that stops it. One heartbeat a second prolongs the
// lease and tells bytes and rate.
import { eq, type SQL, sql } from 'drizzle-orm';
import { type Hours, spanOf } from '#core/nights/hours.ts';
import type { ContentPool } from '#disk/content/content.ts';
import type { DocumentPool } from '#disk/documents/documents.ts';
import type { CarrierPool } from '../carriers/copying.ts';
import { codeOf } from '#disk/facts.ts';
import { PrivateNames } from '#disk/private-names.ts';
import { NotTheOne, Root } from '#disk/root.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import type { WalkPool } from '#disk/walk/walk.ts';
import { type Database, guarded, inTransaction, type Transaction } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';
import { volumes } from '../db/schema/stores.ts';
import { siteMark } from '../db/site-mark.ts';
import { assertLease, type Beat, heartbeat, holdLease, type Job, LeaseLost, Waits } from './queue.ts';

export interface Pools {
  walk: WalkPool;
  content: ContentPool;
  documents: DocumentPool;
  carriers: CarrierPool;
}

/** Where this worker finds volumes and carriers; null where it does not reach a volume, or a carrier is where its settings say. */
export interface StorePaths {
  volume(id: number): string | null;
  carrier(id: number): string | null;
}

/** The job was asked to end early. What it had done stays done; nothing is half done. */
export class Cancelled extends Error {
  override readonly name = 'Cancelled';
}

const RATE_WINDOW_MS = 8_000;

const ANSWER_HOLDS_MS = 50;

const PUT_OFF_MS = 250;
const MOST_PUT_OFF_MS = 5 * 60_000;

/** By two clocks: one of them stands still while a machine sleeps, the other may be set back. */
interface Moment {
  steady: number;
  wall: number;
}
const moment = (): Moment => ({ steady: performance.now(), wall: Date.now() });
function isWithin(since: Moment, ms: number): boolean {
  const now = moment();
  return now.steady - since.steady < ms && Math.abs(now.wall - since.wall) < ms;
}

export interface ContextOptions {
  db: Database;
  job: Job;
  pools: Pools;
  leaseSeconds: number;
  paths: StorePaths;
  /** The time of day, where it is not this machine's. */
  clock?: () => Date;
}

export class JobContext {
  readonly stop = stopFlag();
  /** Reads as any; writes only in transactions, which begin by locking the job under its lease. */
  readonly db: Database;
  readonly job: Job;
  readonly pools: Pools;
  private lost = false;
  private cancelled = false;
  private beat: Beat = { done: 0, total: 0, rate: 0, phase: '', unit: 'bytes' };
  private samples: { at: number; done: number }[] = [];
  private timer: NodeJS.Timeout | null = null;
  private beating = false;
  private own: PrivateNames | null = null;
  /** When the lease was last asked for and found ours. */
  private assertedAt: Moment | null = null;
  private readonly roots = new Map<number, Root>();
  private night: { second: number; next: Date | null } = { second: -1, next: null };

  constructor(private readonly options: ContextOptions) {
    this.job = options.job;
    this.pools = options.pools;
    this.db = guarded(options.db, (tx) => this.holdLease(tx));
  }

  now = (): Date => this.options.clock?.() ?? new Date();

  start(): void {
    this.timer = setInterval(() => void this.renew(), Math.min(1000, (this.options.leaseSeconds * 1000) / 4));
  }

  /** Ends the heartbeat and lets go of the volumes. */
  end(): void {
    if (this.timer) clearInterval(this.timer);
    for (const root of this.roots.values()) root.close();
    this.roots.clear();
  }

  /** Writes: all of it or nothing, and nothing once the lease is gone. After a deadlock `work` is run again. */
  transaction<T>(work: (tx: Transaction) => Promise<T>): Promise<T> {
    return inTransaction(this.db, work);
  }

  private holdLease(tx: Transaction): Promise<void> {
    return holdLease(tx, this.job, this.options.leaseSeconds);
  }

  /**
   * The same for long work beside which the job writes other things: its row is locked, and its lease looked at, behind
   * `work` and not before. `last` is for what every transaction of the job writes, its own row and its step's.
   */
  transactionLeaseLast(
    work: (tx: Transaction) => Promise<void>,
    last: (tx: Transaction) => Promise<void>,
  ): Promise<void> {
    return inTransaction(this.options.db, async (tx) => {
      await work(tx);
      await this.holdLease(tx);
      await last(tx);
    });
  }

  /**
   * Throws LeaseLost where the job is no longer ours at this moment: right before a file is touched. An answer holds for a
   * moment much shorter than what the lease still had when it was asked for, so that a file does not cost a question.
   */
  async assertLease(): Promise<void> {
    if (this.lost) throw new LeaseLost();
    if (this.assertedAt && isWithin(this.assertedAt, ANSWER_HOLDS_MS)) return;
    const asked = moment();
    try {
      await assertLease(this.options.db, this.job, 2 * ANSWER_HOLDS_MS);
    } catch (error) {
      if (!(error instanceof LeaseLost)) throw error;
      // It may only have run out, with nobody to take it: then it is renewed, or lost for good.
      await this.transaction(() => Promise.resolve());
    }
    this.assertedAt = asked;
  }

  /** The private names of this lease. What an earlier lease of this job left is taken over when a volume is opened. */
  async names(): Promise<PrivateNames> {
    this.own ??= new PrivateNames({ site: await siteMark(this.db), job: this.job.mark, lease: this.job.lease! });
    return this.own;
  }

  /** A volume of this job, held open; null where it is not there, or another is in its place. */
  async root(volumeId: number): Promise<Root | null> {
    const known = this.roots.get(volumeId);
    if (known) return known;
    const [volume] = await this.db.select().from(volumes).where(eq(volumes.id, volumeId));
    const path = this.options.paths.volume(volumeId);
    if (!volume || path === null) return null;
    let root: Root;
    try {
      root = Root.open(path, volume.identity);
    } catch (error) {
      if (error instanceof NotTheOne) return null;
      throw error;
    }
    this.roots.set(volumeId, root);
    await this.assertLease();
    (await this.names()).takeOver(root);
    return root;
  }

  /** The volume itself is still there, whatever became of a file on it. */
  async isVolumeThere(volumeId: number): Promise<boolean> {
    const [volume] = await this.db.select().from(volumes).where(eq(volumes.id, volumeId));
    const path = this.options.paths.volume(volumeId);
    if (!volume || path === null) return false;
    try {
      Root.open(path, volume.identity).close();
      return true;
    } catch {
      return false;
    }
  }

  /** Where this worker finds a volume, whether it is there or not. */
  pathOf(volumeId: number): string | null {
    return this.options.paths.volume(volumeId);
  }

  carrierPath(carrierId: number): string | null {
    return this.options.paths.carrier(carrierId);
  }

  /** What is said of a job that is not run again. */
  get givenUp(): string {
    return `The worker ended ${this.job.crashes} times while it did this, so it is not tried again. What had been done is in the ledger, file by file; what was on its way was put back. The log of the worker says more.`;
  }

  /** Says what the work is at and how much there is of it; done starts at what an earlier run had done. */
  phase(phase: string, unit: 'bytes' | 'files', total: number, done = 0): void {
    this.beat = { done, total, rate: 0, phase, unit };
    this.samples = [{ at: Date.now(), done }];
  }

  rename(phase: string): void {
    this.beat.phase = phase;
  }

  /**
   * Lets go of the work and of everything that it holds, for a while that grows with every try: a volume is not kept from others
   * for the hours that something takes. Throws Waits.
   */
  async putOff(phase: string): Promise<never> {
    const ms = Math.min(PUT_OFF_MS * 2 ** Math.min(this.job.attempts, 20), MOST_PUT_OFF_MS);
    return this.wait(phase, sql`UTC_TIMESTAMP(3) + INTERVAL ${ms * 1000} MICROSECOND`);
  }

  /** When work that has hours goes on, once they are over; null while they are on. */
  nextNight(own: Hours): Date | null {
    const now = this.now();
    const second = Math.floor(now.getTime() / 1000);
    // Before every file is often enough for whoever asks, and too often for the calendar.
    if (second === this.night.second) return this.night.next;
    const { fromMs } = spanOf(own, now);
    this.night = { second, next: fromMs > now.getTime() ? new Date(fromMs) : null };
    return this.night.next;
  }

  /** The same until a moment that is known. Throws Waits. */
  putOffUntil(at: Date, phase: string): Promise<never> {
    return this.wait(phase, at);
  }

  private async wait(phase: string, notBefore: Date | SQL): Promise<never> {
    this.beat.phase = phase;
    await this.transaction((tx) => tx.update(jobs).set({ phase, notBefore }).where(eq(jobs.id, this.job.id)));
    throw new Waits(phase);
  }

  add(amount: number): void {
    this.beat.done = Math.min(this.beat.total || Infinity, this.beat.done + amount);
  }

  set(done: number): void {
    this.beat.done = done;
  }

  /** The worker is stopping: the job ends here without an end, and goes on with the next worker. */
  abandon(): void {
    this.lost = true;
    Atomics.store(this.stop, 0, 1);
  }

  /** Throws where the work must not go on: cancelled, or taken over by another worker. */
  check(): void {
    if (this.lost) throw new LeaseLost();
    if (this.cancelled) throw new Cancelled();
  }

  /** Between two files: whether no other should be begun. */
  get isToEnd(): boolean {
    return Atomics.load(this.stop, 0) === 1;
  }

  /** From here on the job only writes down what it did: a wish to cancel no longer stops it. */
  endingNow(): void {
    this.cancelled = false;
    Atomics.store(this.stop, 0, this.lost ? 1 : 0);
    this.ending = true;
  }
  private ending = false;

  /** Why work really ended: a thread that was told to stop says only that, wherever it was at the time. */
  reasonOf(error: unknown): unknown {
    if (codeOf(error) !== 'stopped') return error;
    if (this.lost) return new LeaseLost();
    return this.cancelled ? new Cancelled() : error;
  }

  /** Tells the database how far the work is, learns whether it should end, and throws where it should. */
  async checkIn(): Promise<void> {
    await this.renew();
    this.check();
  }

  /** Renews the lease and hears whether the work is to end; `check` throws where it is. */
  async renew(): Promise<void> {
    if (this.lost || this.beating) return;
    this.beating = true;
    try {
      this.measure();
      const { cancel } = await heartbeat(this.options.db, this.job, this.beat, this.options.leaseSeconds);
      if (cancel && !this.ending) this.cancelled = true;
    } catch (error) {
      // A database that does not answer for a moment does not end the work; a lost lease does.
      if (error instanceof LeaseLost) this.lost = true;
    } finally {
      this.beating = false;
    }
    if (this.lost || this.cancelled) Atomics.store(this.stop, 0, 1);
  }

  private measure(): void {
    const now = Date.now();
    this.samples.push({ at: now, done: this.beat.done });
    this.samples = this.samples.filter((sample) => now - sample.at <= RATE_WINDOW_MS);
    const first = this.samples[0]!;
    this.beat.rate =
      now > first.at ? Math.max(0, Math.round(((this.beat.done - first.done) * 1000) / (now - first.at))) : 0;
  }
}
