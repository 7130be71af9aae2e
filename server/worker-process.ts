// What is started as the worker process, from its source or as it was built (setup/threads.ts).
import { main } from './worker.ts';

void main();
