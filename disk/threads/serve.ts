// The other end of a pool: a thread's module calls `serve` with the function that answers. Called by *-thread.ts only.
import { parentPort } from 'node:worker_threads';

export interface Asked<Request> {
  request: Request;
  progress(bytes: number): void;
  stopped(): boolean;
}

/** Answers every question with `answer`; errors go back with their code and facts. */
export function serve<Request, Response>(
  answer: (asked: Asked<Request>) => Response | Promise<Response>,
  transfer?: (value: Response) => ArrayBuffer[],
): void {
  const port = parentPort;
  if (!port) throw new Error('This module runs in a worker thread only.');
  const reply = async ({ id, request, stop }: { id: number; request: Request; stop?: Int32Array }) => {
    try {
      const value = await answer({
        request,
        progress: (bytes) => port.postMessage({ id, type: 'progress', bytes }),
        stopped: () => stop !== undefined && Atomics.load(stop, 0) === 1,
      });
      port.postMessage({ id, type: 'done', value }, transfer?.(value) ?? []);
    } catch (error) {
      const { message, code, facts } = error as Error & { code?: string; facts?: Record<string, unknown> };
      port.postMessage({ id, type: 'failed', message, code: code ?? 'error', facts: facts ?? {} });
    }
  };
  port.on('message', (asked: { id: number; request: Request; stop?: Int32Array }) => void reply(asked));
}

/** A stop flag that main thread and worker threads share. */
export const stopFlag = (): Int32Array => new Int32Array(new SharedArrayBuffer(4));
