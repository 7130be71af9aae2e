// What a format of project documents is. One file a format in this folder, one line in the registry: endings, reading and
// relinking are asked there, and nowhere else is a format named.
import type { DocumentReading } from '../model.ts';
import type { Relinking } from '../relink.ts';

/** A document's bytes, however it is packed. Given by whoever has it; throws what that throws. */
export interface DocumentSource {
  name: string;
  /** The whole, at most so many bytes: null where it is larger. */
  bytes(most: number): Promise<Uint8Array | null>;
  /** What lies inside it, where it is a zip. */
  zip(): Promise<{ has(path: string): boolean; read(path: string, most: number): Promise<Uint8Array> }>;
}

export interface DocumentFormat {
  readonly id: string;
  /** Endings of names, lower case, without the dot. */
  readonly endings: readonly string[];
  /** Those of them whose documents can be written anew as text; others are read only. */
  readonly relinks: readonly string[];
  /** Lists and sessions that were made for a project somewhere else: they join what lies beside them. */
  readonly isExchange: boolean;
  /** True where the first bytes look like it: asked where several formats share an ending. */
  sniff(head: Uint8Array): boolean;
  read(source: DocumentSource): Promise<DocumentReading>;
  /** The text with other places for its media; null where this text can not be written anew. */
  relink?(text: string, relinking: Relinking): { text: string; replaced: number } | null;
}

export const LARGEST_DOCUMENT_BYTES = 400_000_000;

/** The text of bytes that are UTF-8; null where they are not. */
export function utf8(bytes: Uint8Array): string | null {
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(bytes);
  } catch {
    return null;
  }
}

export const startsWith = (head: Uint8Array, pattern: RegExp): boolean =>
  pattern.test(new TextDecoder('latin1').decode(head.subarray(0, 64)));

export const tooLarge = (): DocumentReading => ({
  ok: false,
  trouble: { code: 'too_large', where: '$', detail: 'the document is larger than 400 MB' },
});

/** True where a document was read that is larger than what can be told of it here: for zips, whose lists are bounded. */
export const isZip = (head: Uint8Array): boolean => startsWith(head, /^PK\u0003\u0004/);
