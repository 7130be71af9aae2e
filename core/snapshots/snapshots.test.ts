import fc from 'fast-check';
import { changesBetween, snapshotPath, stampOf, type Summary } from './snapshots.ts';

const of = (timelines: [string, number][], clips = 10, media = 5): Summary => ({
  timelines: timelines.map(([name, seconds]) => ({ name, seconds })),
  ...{ clips, media },
});

test('what changed is told by timeline, then by clips and media', () => {
  const before = of([
    ['ep3 v11', 600],
    ['teaser', 30],
    ['old', 5],
  ]);
  expect(changesBetween(before, before)).toEqual([]);
  expect(
    changesBetween(
      before,
      of(
        [
          ['ep3 v11', 645],
          ['teaser', 29.5],
          ['ep3 v12', 700],
        ],
        22,
        4,
      ),
    ),
  ).toEqual([
    'ep3 v11 is 45 s longer',
    'teaser is less than a second shorter',
    'ep3 v12 is new',
    'old is gone',
    '12 more clips',
    '1 fewer media file',
  ]);
  expect(changesBetween(of([['a', 1]]), of([['a', 1.0001]]))).toEqual([]);
});

test('there is a change exactly where two summaries differ', () => {
  const summary = fc
    .record({
      timelines: fc.uniqueArray(fc.tuple(fc.constantFrom('a', 'b', 'c', 'd'), fc.integer({ min: 0, max: 50 })), {
        selector: ([name]) => name,
      }),
      clips: fc.nat({ max: 5 }),
      media: fc.nat({ max: 5 }),
    })
    .map(({ timelines, clips, media }) => of(timelines as [string, number][], clips, media));
  fc.assert(
    fc.property(summary, summary, (a, b) => {
      const sorted = (one: Summary) => [...one.timelines].sort((x, y) => (x.name < y.name ? -1 : 1));
      const same = JSON.stringify([sorted(a), a.clips, a.media]) === JSON.stringify([sorted(b), b.clips, b.media]);
      expect(changesBetween(a, b).length === 0).toBe(same);
    }),
  );
});

test('a snapshot lies below its folder whatever names hold, and no two share a place', () => {
  fc.assert(
    fc.property(fc.string(), fc.string(), fc.nat({ max: 1e6 }), fc.nat({ max: 1e6 }), (project, name, a, b) => {
      const at = (id: number) =>
        snapshotPath({ projectId: 3, project, fileId: 7, name, takenUs: 1_795_000_000_000_000, id });
      const segments = at(a).split('/');
      expect(segments).toHaveLength(3);
      for (const segment of segments) {
        expect(['', '.', '..']).not.toContain(segment);
        expect(segment).not.toMatch(/[\\:\p{Cc}]/u);
        expect(Buffer.byteLength(segment)).toBeLessThan(255);
      }
      expect(at(a) === at(b)).toBe(a === b);
    }),
  );
  expect(stampOf(Date.UTC(2026, 10, 27, 14, 20, 5) * 1000)).toBe('2026-11-27 14.20.05 Z');
});
