import { morningSentence, underHeadings } from './nights.ts';

const nothing = {
  removedBytes: 0,
  freedBytes: 0,
  done: [],
  snapshots: { documents: 0 },
  failed: [],
  waiting: [],
  shelf: { damaged: 0 },
};
const done = (action: string) => ({ action, byItself: true, bytes: 1 });

test.each([
  [{}, 'Nothing happened since yesterday evening. Nothing went wrong.'],
  [{ done: [done('state changed')] }, 'Since yesterday evening 1 thing was done. Nothing went wrong.'],
  [
    {
      removedBytes: 12.5e9,
      freedBytes: 12.4e9,
      done: [done('caches removed'), done('copy read back'), done('copy read back')],
      failed: [1],
    },
    'Since yesterday evening the house freed 12.4 GB and read back 2 copies. One did not work.',
  ],
  [
    { snapshots: { documents: 1 }, done: [done('catalogue backed up')], shelf: { damaged: 2 }, waiting: [1] },
    'Since yesterday evening the house kept snapshots of 1 document and backed up the catalogue. Two archives have a damaged copy and one waits for a disk or carrier.',
  ],
  [
    { removedBytes: 3e9, freedBytes: 5e6, done: [done('caches removed')] },
    'Since yesterday evening the house removed 3.00 GB, which gave back 5.00 MB on disk. Nothing went wrong.',
  ],
])('%j', (facts, words) => expect(morningSentence({ ...nothing, ...facts })).toBe(words));

test('everything that was done is told once, under what it is', () => {
  const all = ['state changed', 'archive sealed', 'caches removed', 'copy read back', 'something new'].map(done);
  expect(underHeadings(all).map(({ heading, items }) => [heading, items.map((one) => one.action)])).toEqual([
    ['Removed and set aside', ['caches removed']],
    ['Archived and copied', ['archive sealed']],
    ['Read back', ['copy read back']],
    ['Changed', ['state changed', 'something new']],
  ]);
});
