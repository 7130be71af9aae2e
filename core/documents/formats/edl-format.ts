// Edit decision lists (CMX 3600 and its kin).
import { relinkEdl, readEdl } from './edl.ts';
import { type DocumentFormat, LARGEST_DOCUMENT_BYTES, startsWith, tooLarge, utf8 } from './format.ts';

export const edlFormat: DocumentFormat = {
  id: 'edl',
  endings: ['edl'],
  relinks: ['edl'],
  isExchange: true,
  sniff: (head) => startsWith(head, /^\s*(TITLE|FCM|\d{3,6}\s)/i),
  async read(source) {
    const bytes = await source.bytes(LARGEST_DOCUMENT_BYTES);
    if (bytes === null) return tooLarge();
    return readEdl(utf8(bytes) ?? new TextDecoder('latin1').decode(bytes));
  },
  // A text that was no UTF-8 must not be written back.
  relink: (text, relinking) => (text.includes('\uFFFD') ? null : relinkEdl(text, (written) => relinking.file(written))),
};
