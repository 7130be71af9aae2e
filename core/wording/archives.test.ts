import { USUAL_SCOPE } from '../archive/selection.ts';
import { archivePageSentence, carrierSentence, shapeWords } from './archives.ts';

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
  expect(shapeWords({ ...USUAL_SCOPE, encode: { used: 'lossless', render: 'viewing' } })).toEqual(
    expect.arrayContaining(['Media encoded anew without loss', 'Renders as small viewing copies']),
  );
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

test('a carrier in a sentence: what it holds, what is wrong with it, and where it is', () => {
  const DAY = 86_400_000;
  const facts = {
    ...{ name: 'KD-3', place: 'the bank, box 2', state: 'unreachable', capacityBytes: 4e9, usedBytes: 0 },
    ...{ lent: null, holds: [] },
  };
  expect(carrierSentence(facts, 0)).toBe('KD-3 is empty. It is in the bank, box 2.');
  const held = (archiveId: number, state: string) => ({ archiveId, state, readBackMs: null });
  expect(
    carrierSentence({ ...facts, usedBytes: 1e9, holds: [held(1, 'good'), held(1, 'damaged')], state: 'reachable' }, 0),
  ).toBe(
    'KD-3 holds 1 archive, 1.00 GB of 4.00 GB. One copy on it is damaged. It is connected; its place is the bank, box 2.'.replaceAll(
      ' GB',
      ' GB',
    ),
  );
  const lent = { to: 'Ida', dueMs: 97 * DAY };
  expect(carrierSentence({ ...facts, lent }, 90 * DAY)).toContain('It is lent to Ida, due back on 8 Apr 1970.');
  expect(carrierSentence({ ...facts, lent }, 100 * DAY)).toContain('lent to Ida, was due back 3 days ago.');
  expect(carrierSentence({ ...facts, lent: { to: 'Ida', dueMs: null } }, 0)).toContain('It is lent to Ida.');
});
