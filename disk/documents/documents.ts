// The thread that reads project documents. Called by the reading job.
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { ThreadPool } from '../threads/pool.ts';
import type { DocumentRequest, DocumentResponse } from './document-thread.ts';

export type DocumentPool = ThreadPool<DocumentRequest, DocumentResponse>;

export const documentPool = (): DocumentPool =>
  new ThreadPool(path.join(path.dirname(fileURLToPath(import.meta.url)), 'document-thread.ts'), 1);
