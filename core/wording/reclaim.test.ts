import { asideSentence, goalSentence, groupWords, worthSentence } from './reclaim.ts';

const none = { 0: 0, 1: 0, 2: 0, 3: 0 };
const flat = (text: string) => text.replace(/\u00a0/g, ' ');

test.each([
  [none, '', 'Nothing can go.'],
  [none, ' of Night Ferry', 'Nothing of Night Ferry can go.'],
  [{ ...none, 0: 76e9 }, '', '76.0 GB can go; all of it rebuilds itself.'],
  [
    { 0: 1e9, 1: 2e9, 2: 3e9, 3: 4e9 },
    ' of unused media',
    '10.0 GB of unused media can go: 1.00 GB rebuilds itself, 2.00 GB can be made again, 3.00 GB has a verified copy and 4.00 GB is the only copy.',
  ],
])('what may go, by level', (levels, of, sentence) => expect(flat(worthSentence(levels, of))).toBe(sentence));

test('of two on one volume none is told as the only one', () => {
  const told = worthSentence({ 0: 0, 1: 0, 2: 2e9, 3: 1e9 }, ' of second copies', 'same twice');
  expect(flat(told)).toBe(
    '3.00 GB of second copies can go: 2.00 GB has a verified copy and 1.00 GB is on one volume alone.',
  );
});

const goal = {
  wantedBytes: 60e9,
  bytes: 60.1e9,
  isReached: true,
  volume: 'loft-1 scratch',
  byLevel: none,
  costSeconds: 0,
};
test.each([
  [
    { byLevel: { ...none, 0: 60.1e9 }, costSeconds: 1500 },
    '60.1 GB on loft-1 scratch can go; all of it rebuilds itself, in about 25 min if all of it is needed.',
  ],
  [{ byLevel: { ...none, 0: 60e9, 1: 0.1e9 } }, '60.1 GB on loft-1 scratch can go; all of it can be made again.'],
  [
    { byLevel: { ...none, 2: 60.1e9 } },
    '60.1 GB on loft-1 scratch can go; all of it has a verified copy or can be made again.',
  ],
  [{ byLevel: { ...none, 0: 20e9, 3: 40.1e9 } }, '60.1 GB on loft-1 scratch can go; 40.1 GB of it is the only copy.'],
  [
    { bytes: 20e9, isReached: false, byLevel: { ...none, 0: 20e9 } },
    'Only 20.0 GB on loft-1 scratch can go; all of it rebuilds itself. That is 40.0 GB short.',
  ],
  [{ bytes: 0, isReached: false }, 'Nothing of this kind can go from loft-1 scratch.'],
])('a goal, and how far it goes', (given, sentence) =>
  expect(flat(goalSentence({ ...goal, ...given }))).toBe(sentence),
);

test.each([
  [{ files: 0, bytes: 0, oldestDays: null }, 'Nothing is set aside.'],
  [{ files: 1, bytes: 1e9, oldestDays: 0 }, '1.00 GB is set aside, since today. It still takes its space.'],
  [{ files: 3, bytes: 2e9, oldestDays: 1 }, '2.00 GB is set aside, the oldest for 1 day. It still takes its space.'],
  [{ files: 3, bytes: 2e9, oldestDays: 14 }, '2.00 GB is set aside, the oldest for 14 days. It still takes its space.'],
])('what is set aside', (facts, sentence) => expect(flat(asideSentence(facts))).toBe(sentence));

test.each([
  [['Night Ferry'], 'unused media of Night Ferry'],
  [['A', 'B', 'C'], 'unused media of A, B and C'],
  [['A', 'B', 'C', 'D'], 'unused media'],
  [[], 'unused media'],
])('titles of steps', (projects, words) => expect(groupWords('unused media', projects)).toBe(words));
