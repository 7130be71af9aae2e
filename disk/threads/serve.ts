// The other end of a pool: a thread's module calls `serve` with the function that answers. Called by *-thread.ts only.
import type { MessagePort } from 'node:worker_threads';
import { move, transferableSymbol, valueSymbol } from 'piscina';

export interface Asked<Request> {
  request: Request;
  progress(bytes: number): void;
  stopped(): boolean;
}

export interface Task<Request> {
  request: Request;
  stop?: Int32Array;
  progress?: MessagePort;
}

/** Errors go back as data: what is copied between threads keeps no codes. */
export type Answered<Response> =
  { ok: true; value: Response } | { ok: false; message: string; code: string; facts: Record<string, unknown> };

type Answer = (asked: Asked<never>) => unknown;
let answer: Answer | null = null;
let transfer: ((value: never) => ArrayBuffer[]) | undefined;

/** Every question is answered with `how`; what `handsOver` names of an answer is moved instead of copied. */
export function serve<Request, Response>(
  how: (asked: Asked<Request>) => Response | Promise<Response>,
  handsOver?: (value: Response) => ArrayBuffer[],
): void {
  answer = how as Answer;
  transfer = handsOver as typeof transfer;
}

/** Answers one question of the pool. */
export async function answering({ request, stop, progress }: Task<unknown>): Promise<unknown> {
  try {
    if (!answer) throw new Error('This thread has nothing to answer with.');
    const value = await answer({
      request: request as never,
      progress: (bytes) => progress?.postMessage(bytes),
      stopped: () => stop !== undefined && Atomics.load(stop, 0) === 1,
    });
    const buffers = transfer?.(value as never) ?? [];
    return buffers.length > 0 ? moved({ ok: true, value }, buffers) : { ok: true, value };
  } catch (error) {
    const { message, code, facts } = error as Error & { code?: string; facts?: Record<string, unknown> };
    return { ok: false, message, code: code ?? 'error', facts: facts ?? {} };
  } finally {
    progress?.close();
  }
}

const moved = (answered: object, buffers: ArrayBuffer[]) =>
  move({ [transferableSymbol]: buffers, [valueSymbol]: answered } as never);

/** A stop flag that main thread and worker threads share. */
export const stopFlag = (): Int32Array => new Int32Array(new SharedArrayBuffer(4));
