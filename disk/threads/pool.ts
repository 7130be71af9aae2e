// A few warm worker threads that answer questions of one kind. Heavy work runs there, so that a heartbeat in the main
// thread never waits for a hash. Called by the walker, the copiers and whoever reads large documents.
import { existsSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { MessageChannel, type MessagePort, receiveMessageOnPort } from 'node:worker_threads';
import { Piscina } from 'piscina';
import type { Answered, Task } from './serve.ts';

const BOOT = path.join(path.dirname(fileURLToPath(import.meta.url)), 'boot.mjs');

/** An error in a thread, carried over with its code. */
export class ThreadError extends Error {
  constructor(
    message: string,
    readonly code: string,
    readonly facts: Record<string, unknown> = {},
  ) {
    super(message);
    this.name = 'ThreadError';
  }
}

export interface AskOptions {
  progress?: (bytes: number) => void;
  stop?: Int32Array;
  transfer?: ArrayBuffer[];
  withinMs?: number;
}

export interface PoolOptions {
  /** Where `boot.mjs` lies, if this file was bundled elsewhere. */
  boot?: string;
  /** A thread has one question at a time, so that one that takes too long or too much is ended alone. */
  alone?: boolean;
  /** Questions that a thread has at once: while it waits for a disk, it goes on with another. */
  together?: number;
  /** What the values of a thread may take of memory, in MB; beyond, it ends with the code `too_much`. */
  memoryMb?: number;
  /** What a thread may fill with values that live shortly before it looks which are still needed, in MB. */
  shortLivedMb?: number;
}

/** What was built of an entry, and what starts it; null where nothing was. Entries lie in the folder that every process is started in. */
function built(entry: string): { boot: string; entry: string } | null {
  const folder = process.env.KERAMION_THREADS;
  if (!folder) return null;
  const place = path.join(folder, path.relative(process.cwd(), entry).replace(/\.ts$/, '.mjs'));
  return existsSync(place) ? { boot: path.join(folder, 'disk/threads/built.mjs'), entry: place } : null;
}

/** `size` threads running the module at `entry`. End it, or Node waits. */
export class ThreadPool<Request extends object, Response> {
  private readonly threads: Piscina<Task<Request>, Answered<Response>>;
  private ended = false;
  private busy = 0;
  private readonly waiting: (() => void)[] = [];
  private readonly alone: boolean;

  constructor(
    entry: string,
    readonly size: number,
    { boot = BOOT, alone = false, together = 2, memoryMb, shortLivedMb }: PoolOptions = {},
  ) {
    this.alone = alone;
    const runs = built(entry) ?? { boot, entry };
    this.threads = new Piscina({
      filename: runs.boot,
      workerData: { entry: runs.entry },
      minThreads: 0,
      maxThreads: size,
      idleTimeout: Infinity,
      concurrentTasksPerWorker: alone ? 1 : together,
      resourceLimits: { maxOldGenerationSizeMb: memoryMb, maxYoungGenerationSizeMb: shortLivedMb },
      atomics: 'disabled',
    });
    // What a thread dies of is told to whoever asked it.
    this.threads.on('error', () => undefined);
  }

  /**
   * Asks one thread. `stop` is a flag shared with the thread: set its first element to 1 and the work ends early.
   * `withinMs`, of a pool whose threads are alone: how long an answer may take once it is begun; then the thread is ended,
   * and the error has the code `too_slow`.
   */
  async ask(request: Request, options: AskOptions = {}): Promise<Response> {
    if (this.ended) throw new Error('The threads were ended.');
    if (!this.alone) return this.run(request, options);
    if (this.busy >= this.size) await new Promise<void>((resolve) => this.waiting.push(resolve));
    else this.busy++;
    try {
      return await this.run(request, options);
    } finally {
      const next = this.waiting.shift();
      if (next) next();
      else this.busy--;
    }
  }

  private async run(request: Request, options: AskOptions): Promise<Response> {
    const { progress, stop, transfer = [], withinMs } = options;
    const signal = withinMs === undefined ? undefined : AbortSignal.timeout(withinMs);
    const told = progress ? new MessageChannel() : null;
    told?.port1.on('message', (bytes: number) => progress?.(bytes));
    try {
      const task = { request, stop, progress: told?.port2 };
      const transferList = told ? [...transfer, told.port2] : transfer;
      const answered = await this.threads.run(task, { transferList, ...(signal ? { signal } : {}) });
      // What was told on the way counts before the answer does.
      if (told) for (let bytes = nextTold(told.port1); bytes !== null; bytes = nextTold(told.port1)) progress?.(bytes);
      if (answered.ok) return answered.value;
      throw new ThreadError(answered.message, answered.code, answered.facts);
    } catch (error) {
      if (signal?.aborted) throw new ThreadError('It took too long.', 'too_slow');
      if ((error as { code?: string }).code === 'ERR_WORKER_OUT_OF_MEMORY')
        throw new ThreadError('It took too much memory.', 'too_much');
      throw error;
    } finally {
      told?.port1.close();
    }
  }

  async end(): Promise<void> {
    this.ended = true;
    await this.threads.destroy();
  }
}

function nextTold(port: MessagePort): number | null {
  const received = receiveMessageOnPort(port) as { message: number } | undefined;
  return received ? received.message : null;
}
