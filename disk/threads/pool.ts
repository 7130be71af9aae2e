// A few warm worker threads that answer questions of one kind. Heavy work runs there, so that a heartbeat in the main
// thread never waits for a hash. Called by the walker, the copiers and whoever reads large documents.
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

/** `size` threads running the module at `entry`, begun by `boot` where this file was bundled elsewhere. End it, or Node waits. */
export class ThreadPool<Request extends object, Response> {
  private readonly threads: Piscina<Task<Request>, Answered<Response>>;
  private ended = false;

  constructor(
    entry: string,
    readonly size: number,
    boot = BOOT,
  ) {
    this.threads = new Piscina({
      filename: boot,
      workerData: { entry },
      minThreads: 0,
      maxThreads: size,
      idleTimeout: Infinity,
      // A thread that waits for a disk may take the next question meanwhile.
      concurrentTasksPerWorker: 2,
      atomics: 'disabled',
    });
    // What a thread dies of is told to whoever asked it.
    this.threads.on('error', () => undefined);
  }

  /** Asks one thread. `stop` is a flag shared with the thread: set its first element to 1 and the work ends early. */
  async ask(
    request: Request,
    options: { progress?: (bytes: number) => void; stop?: Int32Array; transfer?: ArrayBuffer[] } = {},
  ): Promise<Response> {
    if (this.ended) throw new Error('The threads were ended.');
    const { progress, stop, transfer = [] } = options;
    const told = progress ? new MessageChannel() : null;
    told?.port1.on('message', (bytes: number) => progress?.(bytes));
    try {
      const task = { request, stop, progress: told?.port2 };
      const answered = await this.threads.run(task, { transferList: told ? [...transfer, told.port2] : transfer });
      // What was told on the way counts before the answer does.
      if (told) for (let bytes = nextTold(told.port1); bytes !== null; bytes = nextTold(told.port1)) progress?.(bytes);
      if (answered.ok) return answered.value;
      throw new ThreadError(answered.message, answered.code, answered.facts);
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
