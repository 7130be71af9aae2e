// The thread that reads project documents and the structure of media files. Called by the reading job.
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { ThreadPool } from '../threads/pool.ts';
import type { DocumentRequest, DocumentResponse, EssenceRequest } from './document-thread.ts';
import type { DocumentReading } from '#core/documents/model.ts';
import { unpacked } from './packed.ts';
import type { EssenceResponse } from './essence-source.ts';

export type DocumentPool = ThreadPool<DocumentRequest | EssenceRequest, DocumentResponse | EssenceResponse>;

export const documentPool = (): DocumentPool =>
  new ThreadPool(path.join(path.dirname(fileURLToPath(import.meta.url)), 'document-thread.ts'), 1);

export type DocumentRead = Omit<DocumentResponse, 'reading'> & { reading: DocumentReading };

export async function readDocument(pool: DocumentPool, request: DocumentRequest): Promise<DocumentRead> {
  const response = (await pool.ask(request)) as DocumentResponse;
  const { reading } = response;
  return { ...response, reading: reading.ok ? { ok: true, document: unpacked(reading.document) } : reading };
}

/** Rejects with the disk's code where the file cannot be opened. */
export const readEssenceOf = async (pool: DocumentPool, place: string | Uint8Array): Promise<EssenceResponse> =>
  (await pool.ask({ essence: place })) as EssenceResponse;
