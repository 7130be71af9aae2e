// Reads a project document from disk and into the project model inside a worker thread: a large one would hold the
// heartbeat up for seconds.
import { closeSync, constants, fstatSync, openSync, readFileSync } from 'node:fs';
import { readDawproject } from '#core/documents/formats/dawproject.ts';
import { readEdl } from '#core/documents/formats/edl.ts';
import { documentFormat, type DocumentFormat, type DocumentReading } from '#core/documents/model.ts';
import { readOtio } from '#core/documents/formats/otio.ts';
import { expectationOf } from '../facts.ts';
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
  format: DocumentFormat;
  reading: DocumentReading<PackedModel>;
}

const LARGEST_BYTES = 400_000_000;

const trouble = (code: 'not_json' | 'not_edl' | 'not_dawproject' | 'too_large', where: string, detail: string) =>
  ({ ok: false, trouble: { code, where, detail } }) as const;

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
    const facts = expectationOf(fstatSync(fd));
    const format = documentFormat(request.name) ?? 'otio';
    const reading = await read(fd, request.name, { format, sizeBytes: facts.sizeBytes });
    return {
      ...facts,
      format,
      reading: reading.ok ? { ok: true, document: packed(reading.document) } : reading,
    };
  } finally {
    closeSync(fd);
  }
}

async function read(
  fd: number,
  name: string,
  { format, sizeBytes }: { format: DocumentFormat; sizeBytes: number },
): Promise<DocumentReading> {
  if (format === 'dawproject' || /\.otioz$/i.test(name)) return readBundle(fd, format);
  if (sizeBytes > LARGEST_BYTES) return trouble('too_large', '$', 'the document is larger than 400 MB');
  const bytes = readFileSync(fd);
  const text = textOf(bytes);
  if (format === 'edl') return readEdl(text ?? new TextDecoder('latin1').decode(bytes));
  return text === null ? trouble('not_json', 'its bytes', 'the text is not UTF-8') : readOtio(text);
}

function textOf(bytes: Uint8Array): string | null {
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(bytes);
  } catch {
    return null;
  }
}

/** A document inside a zip, whose media may lie beside it in there. */
async function readBundle(fd: number, format: DocumentFormat): Promise<DocumentReading> {
  const [inner, code] =
    format === 'dawproject' ? (['project.xml', 'not_dawproject'] as const) : (['content.otio', 'not_json'] as const);
  try {
    const zip = await openZip(fd);
    const text = textOf(await zip.read(inner, LARGEST_BYTES));
    if (text === null) return trouble(code, `${inner} in it`, 'the text is not UTF-8');
    const isInside = (path: string) => zip.has(path.replace(/^\.\//, ''));
    if (format === 'dawproject') {
      const facts = zip.has('metadata.xml') ? textOf(await zip.read('metadata.xml', 1 << 20)) : null;
      return readDawproject(text, isInside, facts ?? '');
    }
    const reading = readOtio(text);
    if (reading.ok)
      for (const media of reading.document.media)
        if (media.targets.length > 0 && media.targets.every((target) => isInside(decoded(target))))
          media.bundled = true;
    return reading;
  } catch (error) {
    if (error instanceof ZipTrouble) return trouble(code, 'its zip', error.message);
    throw error;
  }
}

function decoded(target: string): string {
  try {
    return decodeURIComponent(target);
  } catch {
    return target;
  }
}
