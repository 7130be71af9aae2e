// Every format of media files whose structure is read here. Whoever adds one writes its file and one line here.
import { aiffFormat } from './aiff.ts';
import type { EssenceFormat } from './format.ts';
import { movFormat } from './mov.ts';
import { mxfFormat } from './mxf.ts';
import { stillFormat } from './stills.ts';
import { wavFormat } from './wav.ts';

const formats: EssenceFormat[] = [];

export function addEssenceFormat(format: EssenceFormat): void {
  if (formats.some((known) => known.id === format.id)) throw new Error(`There is a format ${format.id} already.`);
  formats.push(format);
}

addEssenceFormat(wavFormat);
addEssenceFormat(aiffFormat);
addEssenceFormat(movFormat);
addEssenceFormat(mxfFormat);
addEssenceFormat(stillFormat);

/** The format of a file by its first bytes; null where none of these is. */
export const essenceFormat = (head: Uint8Array): EssenceFormat | null =>
  formats.find((format) => format.sniff(head)) ?? null;
