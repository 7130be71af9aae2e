import { USUAL_SCOPE } from '../archive/selection.ts';
import { archivePageSentence, shapeWords } from './archives.ts';

const DAY = Date.UTC(2026, 10, 27, 12);
const facts = { name: 'Fog', sealedMs: DAY, files: 5, bytes: 240e6, damaged: 0 };
const copy = (carriers: number, readBackMs: number | null = DAY) => ({ carriers, readBackMs });

test.each([
  [[copy(1)], 0, 'Fog: 240 MB in 5 files, sealed on 27 Nov 2026. One good copy, read back whole 1 hour ago.'],
  [
    [copy(2)],
    0,
    'Fog: 240 MB in 5 files, sealed on 27 Nov 2026. One good copy over two carriers, read back whole 1 hour ago.',
  ],
  [
    [copy(1), copy(2)],
    1,
    'Fog: 240 MB in 5 files, sealed on 27 Nov 2026. Two good copies, one of them over several carriers, read back whole 1 hour ago. 1 copy is damaged.',
  ],
  [[copy(1, null)], 0, 'Fog: 240 MB in 5 files, sealed on 27 Nov 2026. One good copy.'],
  [[], 2, 'Fog: 240 MB in 5 files, sealed on 27 Nov 2026. No copy of it is good. 2 copies are damaged.'],
])('an archive says what it is and how sure: %#', (good, damaged, sentence) => {
  expect(archivePageSentence({ ...facts, good, damaged }, DAY + 3_600_000)).toBe(sentence);
});

test('one that is being written says so, and one of one file is one file', () => {
  expect(archivePageSentence({ ...facts, files: 1, sealedMs: null, good: [] }, DAY)).toBe(
    'Fog: 240 MB in 1 file, being written.',
  );
});

test('how it was shaped is said in words, what is usual too', () => {
  expect(shapeWords({ ...USUAL_SCOPE, parts: [] })).toEqual([
    'All that its timelines use',
    'Media whole',
    'All versions of its documents',
    'Media by bins',
  ]);
  const handles = { value: 1, unit: 'seconds' as const, gapSeconds: 0 };
  expect(shapeWords({ ...USUAL_SCOPE, handles, timelines: ['reel 1'], pack: 'tar', rest: 'leaves' })).toEqual([
    'Timelines reel 1',
    'Used ranges with handles of 1 second',
    'With deliveries',
    'All versions of its documents',
    'Media by bins',
    'Written as one tar',
    'What was not chosen left the documents',
  ]);
});
