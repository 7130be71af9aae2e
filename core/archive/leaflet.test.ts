import fc from 'fast-check';
import { indexHtml, type Leaflet, type LeafletFile, readmeText } from './leaflet.ts';

const file = (path: string, over: Partial<LeafletFile> = {}): LeafletFile => ({
  path,
  role: 'media',
  sizeBytes: 1000,
  volume: 'store',
  original: 'fog/a.mov',
  ...over,
});
const leaflet = (over: Partial<Leaflet> = {}): Leaflet => ({
  project: 'Fog',
  client: 'Küstenfunk',
  year: 2026,
  people: 'Mara, cut\n',
  comments: 'Two versions were shown.',
  folder: 'fog_2026-05-04',
  day: '2026-05-04',
  files: [file('data/media/Day 1/a b.mov'), file('data/documents/fog.otio', { role: 'document', sizeBytes: 9 })],
  ...over,
});

test('the text says what it is, how to check it and how to open it', () => {
  const text = readmeText(leaflet());
  for (const part of [
    'Archive of Fog',
    '2 files, 1.01 kB',
    'For: Küstenfunk',
    '  Mara, cut',
    'Two versions were shown.',
    'sha512sum -c manifest-sha512.txt',
    '    data/documents/fog.otio',
  ])
    expect(text).toContain(part);
  expect(readmeText(leaflet({ files: [] }))).toContain('no document');
});

test('the page leads to every file, and nothing that a name holds becomes a part of it', () => {
  expect(indexHtml(leaflet())).toContain('href="data/media/Day%201/a%20b.mov"');
  const name = fc.string({ minLength: 1, maxLength: 12, unit: 'grapheme' }).map((text) => text.replaceAll('/', '_'));
  fc.assert(
    fc.property(name, name, (one, other) => {
      const page = indexHtml(leaflet({ project: one, files: [file(`data/media/${other}`, { volume: one })] }));
      // As many tags as a page with plain names has.
      const plain = indexHtml(leaflet({ project: 'x', files: [file('data/media/y', { volume: 'x' })] }));
      const tags = (text: string) => text.match(/<[a-z/!]/g)!.length;
      expect(tags(page)).toBe(tags(plain));
      expect(page).not.toContain('<script');
      const [, href] = /<a href="([^"]*)"/.exec(page)!;
      expect(decodeURIComponent(href!.replaceAll('&#39;', "'").replaceAll('&amp;', '&'))).toBe(`data/media/${other}`);
    }),
  );
});
