// A few warm worker threads that answer questions of one kind. Heavy work runs there, so that a heartbeat in the main
// thread never waits for a hash. Called by the walker, the copier and whoever reads large documents.
import { fileURLToPath } from 'node:url';
import path from 'node:path';
import { Worker } from 'node:worker_threads';

const BOOT = path.join(path.dirname(fileURLToPath(import.meta.url)), 'boot.mjs');

interface Waiting {
  resolve(value: unknown): void;
  reject(error: Error): void;
  progress?: (bytes: number) => void;
}

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

type Reply =
  | { id: number; type: 'done'; value: unknown }
  | { id: number; type: 'progress'; bytes: number }
  | { id: number; type: 'failed'; message: string; code: string; facts: Record<string, unknown> };

/** `size` threads running the module at `entry`, begun by `boot` where this file was bundled elsewhere. Ask, and the least busy thread answers; end it, or Node waits. */
export class ThreadPool<Request extends object, Response> {
  private readonly workers: { worker: Worker; waiting: Map<number, Waiting> }[] = [];
  private nextId = 1;
  private ended = false;

  constructor(
    private readonly entry: string,
    readonly size: number,
    private readonly boot = BOOT,
  ) {}

  /** Asks one thread. `stop` is a flag shared with the thread: set its first element to 1 and the work ends early. */
  ask(
    request: Request,
    options: { progress?: (bytes: number) => void; stop?: Int32Array; transfer?: ArrayBuffer[] } = {},
  ): Promise<Response> {
    const member = this.leastBusy();
    const id = this.nextId++;
    return new Promise<Response>((resolve, reject) => {
      member.waiting.set(id, { resolve: resolve as (value: unknown) => void, reject, progress: options.progress });
      member.worker.postMessage({ id, request, stop: options.stop }, options.transfer ?? []);
    });
  }

  async end(): Promise<void> {
    this.ended = true;
    await Promise.all(this.workers.splice(0).map(({ worker }) => worker.terminate()));
  }

  private leastBusy() {
    if (this.ended) throw new Error('The threads were ended.');
    const idle = this.workers.find((member) => member.waiting.size === 0);
    if (idle) return idle;
    if (this.workers.length < this.size) return this.start();
    return this.workers.reduce((a, b) => (a.waiting.size <= b.waiting.size ? a : b));
  }

  private start() {
    const worker = new Worker(this.boot, { workerData: { entry: this.entry } });
    const member = { worker, waiting: new Map<number, Waiting>() };
    worker.on('message', (reply: Reply) => this.take(member.waiting, reply));
    const fail = (error: Error) => {
      this.workers.splice(this.workers.indexOf(member), 1);
      for (const waiting of member.waiting.values()) waiting.reject(error);
      member.waiting.clear();
    };
    worker.on('error', (error) => fail(error as Error));
    worker.on('exit', (code) => member.waiting.size > 0 && fail(new Error(`A thread ended with ${code}.`)));
    this.workers.push(member);
    return member;
  }

  private take(waiting: Map<number, Waiting>, reply: Reply) {
    const asked = waiting.get(reply.id);
    if (!asked) return;
    if (reply.type === 'progress') return asked.progress?.(reply.bytes);
    waiting.delete(reply.id);
    if (reply.type === 'done') asked.resolve(reply.value);
    else asked.reject(new ThreadError(reply.message, reply.code, reply.facts));
  }
}
