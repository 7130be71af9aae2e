// Every format of project documents. Whoever adds one writes its file and one line here.
import { endingOf } from '../../paths.ts';
import { Registry } from '../../registry.ts';
import type { Relinking } from '../relink.ts';
import { dawprojectFormat } from './dawproject-format.ts';
import { edlFormat } from './edl-format.ts';
import type { DocumentFormat } from './format.ts';
import { otioFormat } from './otio-format.ts';

const formats = new Registry<DocumentFormat>('format of documents');

export function addDocumentFormat(format: DocumentFormat): void {
  formats.add(format.id, format);
}

addDocumentFormat(otioFormat);
addDocumentFormat(edlFormat);
addDocumentFormat(dawprojectFormat);

/** All endings of project documents, without the dot. */
export const documentEndings = (): string[] => formats.all().flatMap((format) => [...format.endings]);

/**
 * The format of a document by the ending of its name, and by its first bytes where several share the ending; null where it
 * is no project document.
 */
export function documentFormat(name: string, head?: Uint8Array): DocumentFormat | null {
  const ending = endingOf(`x${name}`);
  const fitting = formats.all().filter((format) => format.endings.includes(ending));
  if (head && fitting.length > 1) return fitting.find((format) => format.sniff(head)) ?? fitting[0]!;
  return fitting[0] ?? null;
}

/** True where a document of this name can be written anew as text. */
export const canRelink = (name: string): boolean =>
  documentFormat(name)?.relinks.includes(endingOf(`x${name}`)) ?? false;

/** Any document that was read before, by its name; null where its kind cannot be written anew as text. */
export function relinkDocument(
  name: string,
  text: string,
  relinking: Relinking,
): { text: string; replaced: number } | null {
  return canRelink(name) ? (documentFormat(name)!.relink?.(text, relinking) ?? null) : null;
}
