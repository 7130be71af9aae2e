import { morningSentence, underHeadings } from './nights.ts';

const nothing = {
  removedBytes: 0,
  freedBytes: 0,
  tally: [],
  snapshots: { documents: 0 },
  failed: [],
  waiting: [],
  shelf: { damaged: 0 },
};
const done = (action: string, receipts = 1) => ({ action, receipts, bytes: receipts });

test.each([
  [{}, 'Nothing happened since yesterday evening. Nothing went wrong.'],
  [{ tally: [done('state changed')] }, 'Since yesterday evening 1 thing was done. Nothing went wrong.'],
  [
    {
      removedBytes: 12.5e9,
      freedBytes: 12.4e9,
      tally: [done('caches removed'), done('copy read back', 2)],
      failed: [1],
    },
    'Since yesterday evening the house freed 12.4 GB and read back 2 copies. One did not work.',
  ],
  [
    { snapshots: { documents: 1 }, tally: [done('catalogue backed up')], shelf: { damaged: 2 }, waiting: [1] },
    'Since yesterday evening the house kept snapshots of 1 document and backed up the catalogue. Two archives have a damaged copy and one waits for a disk or carrier.',
  ],
  [
    { removedBytes: 3e9, freedBytes: 5e6, tally: [done('caches removed')] },
    'Since yesterday evening the house removed 3.00 GB, which gave back 5.00 MB on disk. Nothing went wrong.',
  ],
])('%j', (facts, words) => expect(morningSentence({ ...nothing, ...facts })).toBe(words));

test('everything that was done is told once, under what it is, with all there is of it', () => {
  const actions = ['state changed', 'archive sealed', 'caches removed', 'copy read back', 'something new'];
  const told = underHeadings(
    actions.map((action) => ({ action })),
    actions.map((action) => done(action, 300)),
  );
  expect(told.map(({ heading, items, ...sum }) => [heading, items.map((one) => one.action), sum.receipts])).toEqual([
    ['Removed and set aside', ['caches removed'], 300],
    ['Archived and copied', ['archive sealed'], 300],
    ['Read back', ['copy read back'], 300],
    ['Changed', ['state changed', 'something new'], 600],
  ]);
  expect(underHeadings([], [done('files moved', 5)])).toMatchObject([{ items: [], receipts: 5, bytes: 5 }]);
});
