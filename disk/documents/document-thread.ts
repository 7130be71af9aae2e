// Reads a project document from disk and into the project model inside a worker thread: a large one would hold the
// heartbeat up for seconds.
import { closeSync, constants, fstatSync, openSync, readFileSync, readSync } from 'node:fs';
import { documentFormat } from '#core/documents/formats/registry.ts';
import type { DocumentSource } from '#core/documents/formats/format.ts';
import type { DocumentReading } from '#core/documents/model.ts';
import { factsOf } from '../facts.ts';
import { essenceOf, type EssenceResponse } from './essence-source.ts';
import { serve } from '../threads/serve.ts';
import { buffersOf, packed, type PackedModel } from './packed.ts';
import { openZip, ZipTrouble } from './zip.ts';

export interface DocumentRequest {
  path: string | Uint8Array;
  /** Its name as it is shown: the ending says how it is read. */
  name: string;
}

export interface EssenceRequest {
  essence: string | Uint8Array;
}

export interface DocumentResponse {
  sizeBytes: number;
  modifiedUs: number;
  /** Name of its format, one of core/documents/formats. */
  format: string;
  reading: DocumentReading<PackedModel>;
}

serve<DocumentRequest | EssenceRequest, DocumentResponse | EssenceResponse>(
  ({ request }) => ('essence' in request ? essenceOf(request.essence) : readDocument(request)),
  (value) => ('format' in value && value.reading.ok ? buffersOf(value.reading.document) : []),
);

async function readDocument(request: DocumentRequest): Promise<DocumentResponse> {
  const fd = openSync(
    typeof request.path === 'string' ? request.path : Buffer.from(request.path),
    constants.O_RDONLY | constants.O_NOFOLLOW,
  );
  try {
    const facts = factsOf(fstatSync(fd));
    const head = new Uint8Array(64);
    const format = documentFormat(request.name, head.subarray(0, readSync(fd, head, 0, 64, 0)));
    if (!format) throw Object.assign(new Error('It is no project document.'), { code: 'not_a_document' });
    const reading = await readWith(format.read(sourceOf(fd, request.name, facts.sizeBytes)), format.id);
    return {
      sizeBytes: facts.sizeBytes,
      modifiedUs: facts.modifiedUs,
      format: format.id,
      reading: reading.ok ? { ok: true, document: packed(reading.document) } : reading,
    };
  } finally {
    closeSync(fd);
  }
}

function sourceOf(fd: number, name: string, sizeBytes: number): DocumentSource {
  return {
    name,
    bytes: async (most) => (sizeBytes > most ? null : readFileSync(fd)),
    zip: () => openZip(fd),
  };
}

/** A zip that cannot be read is trouble of the document, told as its format would. */
async function readWith(reading: Promise<DocumentReading>, format: string): Promise<DocumentReading> {
  try {
    return await reading;
  } catch (error) {
    if (!(error instanceof ZipTrouble)) throw error;
    return { ok: false, trouble: { code: `not_${format}`, where: 'its zip', detail: error.message } };
  }
}
