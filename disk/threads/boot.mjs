// Starts a worker thread whose entry is TypeScript: Node 20 cannot load one directly. The entry's address comes as
// workerData.entry.
import { register } from 'tsx/esm/api';
import { workerData } from 'node:worker_threads';

register();
await import(workerData.entry);
