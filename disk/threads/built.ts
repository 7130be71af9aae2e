// What a pool's threads run where they were built before (setup/threads.ts): the same as boot.mjs, without reading TypeScript.
import { workerData } from 'piscina';
import { answering, type Task } from './serve.ts';

await import((workerData as { entry: string }).entry);

export default (task: Task<unknown>) => answering(task);
