// What a running job has at hand: the database, the threads, its progress and the flag that stops it. One heartbeat a
// second prolongs the lease and tells bytes and rate.
import type { ContentPool } from '#disk/content/content.ts';
import type { DocumentPool } from '#disk/documents/documents.ts';
import { codeOf } from '#disk/facts.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import type { WalkPool } from '#disk/walk/walk.ts';
import type { Database } from '../db/connect.ts';
import { type Beat, heartbeat, type Job, LeaseLost } from './queue.ts';

export interface Pools {
  walk: WalkPool;
  content: ContentPool;
  documents: DocumentPool;
}

/** The job was asked to end early. What it had done stays done; nothing is half done. */
export class Cancelled extends Error {
  override readonly name = 'Cancelled';
}

const RATE_WINDOW_MS = 8_000;

export class JobContext {
  readonly stop = stopFlag();
  private lost = false;
  private cancelled = false;
  private beat: Beat = { done: 0, total: 0, rate: 0, phase: '', unit: 'bytes' };
  private samples: { at: number; done: number }[] = [];
  private timer: NodeJS.Timeout | null = null;

  constructor(
    readonly db: Database,
    readonly job: Job,
    readonly pools: Pools,
    private readonly leaseSeconds: number,
  ) {}

  now = (): Date => new Date();

  start(): void {
    this.timer = setInterval(() => void this.tick(), Math.min(1000, (this.leaseSeconds * 1000) / 4));
  }

  end(): void {
    if (this.timer) clearInterval(this.timer);
  }

  /** Says what the work is at and how much there is of it; done starts at what an earlier run had done. */
  phase(phase: string, unit: 'bytes' | 'files', total: number, done = 0): void {
    this.beat = { done, total, rate: 0, phase, unit };
    this.samples = [{ at: Date.now(), done }];
  }

  rename(phase: string): void {
    this.beat.phase = phase;
  }

  add(amount: number): void {
    this.beat.done = Math.min(this.beat.total || Infinity, this.beat.done + amount);
  }

  set(done: number): void {
    this.beat.done = done;
  }

  /** The worker is stopping: the job ends here without an end, and goes on with the next worker. */
  letGo(): void {
    this.lost = true;
    Atomics.store(this.stop, 0, 1);
  }

  /** Throws where the work must not go on: cancelled, or taken over by another worker. */
  check(): void {
    if (this.lost) throw new LeaseLost();
    if (this.cancelled) throw new Cancelled();
  }

  /** Why work really ended: a thread that was told to stop says only that, wherever it was at the time. */
  reasonOf(error: unknown): unknown {
    if (codeOf(error) !== 'stopped') return error;
    if (this.lost) return new LeaseLost();
    return this.cancelled ? new Cancelled() : error;
  }

  /** The same, after asking the database: before anything is removed or put into place. */
  async checkLease(): Promise<void> {
    await this.tick();
    this.check();
  }

  private async tick(): Promise<void> {
    if (this.lost) return;
    const now = Date.now();
    this.samples.push({ at: now, done: this.beat.done });
    this.samples = this.samples.filter((sample) => now - sample.at <= RATE_WINDOW_MS);
    const first = this.samples[0]!;
    this.beat.rate =
      now > first.at ? Math.max(0, Math.round(((this.beat.done - first.done) * 1000) / (now - first.at))) : 0;
    try {
      const { cancel } = await heartbeat(this.db, this.job, this.beat, this.leaseSeconds);
      if (cancel) this.cancelled = true;
    } catch (error) {
      // A database that does not answer for a moment does not end the work; a lost lease does.
      if (error instanceof LeaseLost) this.lost = true;
    }
    if (this.lost || this.cancelled) Atomics.store(this.stop, 0, 1);
  }
}
