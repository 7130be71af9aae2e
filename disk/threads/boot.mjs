// What a pool's threads run: loads the entry, which is TypeScript, and hands its questions on. Node 20 cannot load such a
// file directly.
import { workerData } from 'piscina';
import { register } from 'tsx/esm/api';

register();
const { answering } = await import('./serve.ts');
await import(workerData.entry);

export default (task) => answering(task);
