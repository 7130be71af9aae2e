// DAWproject sessions: a zip with the session and its sound.
import { readDawproject } from './dawproject.ts';
import { type DocumentFormat, isZip, LARGEST_DOCUMENT_BYTES, utf8 } from './format.ts';

const SESSION = 'project.xml';
const FACTS = 'metadata.xml';

export const dawprojectFormat: DocumentFormat = {
  id: 'dawproject',
  endings: ['dawproject'],
  relinks: [],
  isExchange: true,
  sniff: isZip,
  async read(source) {
    const zip = await source.zip();
    const text = utf8(await zip.read(SESSION, LARGEST_DOCUMENT_BYTES));
    if (text === null)
      return {
        ok: false,
        trouble: { code: 'not_dawproject', where: `${SESSION} in it`, detail: 'the text is not UTF-8' },
      };
    const facts = zip.has(FACTS) ? utf8(await zip.read(FACTS, 1 << 20)) : null;
    return readDawproject(text, (path) => zip.has(path.replace(/^\.\//, '')), facts ?? '');
  },
};
