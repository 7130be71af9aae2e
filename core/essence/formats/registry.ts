// Every format of media files whose structure is read here. Whoever adds one writes its file and one line here.
import { Registry } from '../../registry.ts';
import { aiffFormat } from './aiff.ts';
import type { EssenceFormat } from './format.ts';
import { movFormat } from './mov.ts';
import { mxfFormat } from './mxf.ts';
import { stillFormat } from './stills.ts';
import { wavFormat } from './wav.ts';

const formats = new Registry<EssenceFormat>('format of media files');

export function addEssenceFormat(format: EssenceFormat): void {
  formats.add(format.id, format);
}

addEssenceFormat(wavFormat);
addEssenceFormat(aiffFormat);
addEssenceFormat(movFormat);
addEssenceFormat(mxfFormat);
addEssenceFormat(stillFormat);

/** The format of a file by its first bytes; null where none of these is. */
export const essenceFormat = (head: Uint8Array): EssenceFormat | null =>
  formats.all().find((format) => format.sniff(head)) ?? null;
