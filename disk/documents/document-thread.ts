// Reads a project document from disk and into the project model inside a worker thread: a large one would hold the
// heartbeat up for seconds.
import { closeSync, constants, fstatSync, openSync, readFileSync } from 'node:fs';
import type { DocumentReading } from '#core/documents/model.ts';
import { readOtio } from '#core/documents/otio.ts';
import { expectationOf } from '../facts.ts';
import { serve } from '../threads/serve.ts';

export interface DocumentRequest {
  path: string | Uint8Array;
}

export interface DocumentResponse {
  sizeBytes: number;
  modifiedUs: number;
  reading: DocumentReading;
}

const LARGEST_BYTES = 400_000_000;

serve<DocumentRequest, DocumentResponse>(({ request }) => {
  const fd = openSync(
    typeof request.path === 'string' ? request.path : Buffer.from(request.path),
    constants.O_RDONLY | constants.O_NOFOLLOW,
  );
  try {
    const facts = expectationOf(fstatSync(fd));
    if (facts.sizeBytes > LARGEST_BYTES)
      return {
        ...facts,
        reading: {
          ok: false,
          trouble: { code: 'too_large', where: '$', detail: 'the document is larger than 400 MB' },
        },
      };
    const bytes = readFileSync(fd);
    let text: string;
    try {
      text = new TextDecoder('utf-8', { fatal: true }).decode(bytes);
    } catch {
      return {
        ...facts,
        reading: { ok: false, trouble: { code: 'not_json', where: 'its bytes', detail: 'the text is not UTF-8' } },
      };
    }
    return { ...facts, reading: readOtio(text) };
  } finally {
    closeSync(fd);
  }
});
