// Threads that read project documents and the structure of media files. Called by the reading job.
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { ThreadPool } from '../threads/pool.ts';
import type { DocumentRequest, DocumentResponse, EssenceRequest } from './document-thread.ts';
import type { DocumentReading } from '#core/documents/model.ts';
import { documentFormat } from '#core/documents/formats/registry.ts';
import { unpacked } from './packed.ts';
import type { EssenceResponse } from './essence-source.ts';

/** What one document may take: fifty megabytes of JSON take one gigabyte. */
const MEMORY_MB = 3_000;
/** How long a document may take: by its size, twenty times what one takes on a slow machine. */
const budgetMs = (sizeBytes: number): number => Math.round(10_000 + sizeBytes / 1000);
const ESSENCE_MS = 30_000;

export type DocumentPool = ThreadPool<DocumentRequest | EssenceRequest, DocumentResponse | EssenceResponse>;

export const documentPool = (): DocumentPool =>
  new ThreadPool(path.join(path.dirname(fileURLToPath(import.meta.url)), 'document-thread.ts'), 2, {
    alone: true,
    memoryMb: MEMORY_MB,
  });

export type DocumentRead = Omit<DocumentResponse, 'reading'> & { reading: DocumentReading };

/** A document that takes longer, or more memory, than its size allows ends in a trouble; others go on. */
export async function readDocument(pool: DocumentPool, request: DocumentRequest, facts: Facts): Promise<DocumentRead> {
  const withinMs = budgetMs(facts.sizeBytes);
  try {
    const response = (await pool.ask(request, { withinMs })) as DocumentResponse;
    const { reading } = response;
    return { ...response, reading: reading.ok ? { ok: true, document: unpacked(reading.document) } : reading };
  } catch (error) {
    const detail = overBudget(error, withinMs);
    if (detail === null) throw error;
    const format = documentFormat(request.name)?.id ?? '';
    return {
      ...seenAs(error, facts),
      format,
      reading: { ok: false, trouble: { code: 'too_large', where: 'its whole', detail } },
    };
  }
}

interface Facts {
  sizeBytes: number;
  modifiedUs: number;
}

/** What took too long may lie on a disk that was slow today: it counts as not read, and is tried again at the next reading. */
const seenAs = (error: unknown, { sizeBytes, modifiedUs }: Facts): Facts => ({
  sizeBytes,
  modifiedUs: (error as { code?: string }).code === 'too_slow' ? 0 : modifiedUs,
});

/** What a thread was ended for, in words; null where it was not. */
function overBudget(error: unknown, withinMs: number): string | null {
  const code = (error as { code?: string }).code;
  if (code === 'too_slow')
    return `reading it took longer than ${Math.round(withinMs / 1000)} s, which is what its size is given`;
  return code === 'too_much' ? 'reading it took more memory than there is for one document' : null;
}

/** Rejects with the disk's code where the file cannot be opened. */
export async function readEssenceOf(
  pool: DocumentPool,
  place: string | Uint8Array,
  facts: Facts,
): Promise<EssenceResponse> {
  try {
    return (await pool.ask({ essence: place }, { withinMs: ESSENCE_MS })) as EssenceResponse;
  } catch (error) {
    const detail = overBudget(error, ESSENCE_MS);
    if (detail === null) throw error;
    return {
      ...seenAs(error, facts),
      fingerprint: null,
      reading: { ok: false, trouble: { code: 'damaged', at: 0, detail } },
    };
  }
}
