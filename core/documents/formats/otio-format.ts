// OpenTimelineIO: plain (.otio), and with its media in a zip (.otioz).
import type { DocumentReading } from '../model.ts';
import { relinkOtio } from '../relink.ts';
import { type DocumentFormat, isZip, LARGEST_DOCUMENT_BYTES, startsWith, tooLarge, utf8 } from './format.ts';
import { readOtio } from './otio.ts';

const CONTENT = 'content.otio';

export const otioFormat: DocumentFormat = {
  id: 'otio',
  endings: ['otio', 'otioz'],
  relinks: ['otio'],
  isExchange: false,
  sniff: (head) => isZip(head) || startsWith(head, /^\s*\{/),
  async read(source) {
    if (/\.otioz$/i.test(source.name)) return readZipped(await source.zip());
    const bytes = await source.bytes(LARGEST_DOCUMENT_BYTES);
    if (bytes === null) return tooLarge();
    const text = utf8(bytes);
    return text === null ? notText('its bytes') : readOtio(text);
  },
  relink: relinkOtio,
};

const notText = (where: string): DocumentReading => ({
  ok: false,
  trouble: { code: 'not_json', where, detail: 'the text is not UTF-8' },
});

async function readZipped(zip: Awaited<ReturnType<Parameters<DocumentFormat['read']>[0]['zip']>>) {
  const text = utf8(await zip.read(CONTENT, LARGEST_DOCUMENT_BYTES));
  if (text === null) return notText(`${CONTENT} in it`);
  const isInside = (path: string) => zip.has(path.replace(/^\.\//, ''));
  const reading = readOtio(text);
  if (reading.ok)
    for (const media of reading.document.media)
      if (media.target !== null && isInside(decoded(media.target))) media.bundled = true;
  return reading;
}

function decoded(target: string): string {
  try {
    return decodeURIComponent(target);
  } catch {
    return target;
  }
}
