import fc from 'fast-check';
import { asksForSomething, understand } from './query.ts';

test('parts of names and filters in words', () => {
  expect(understand('Ferry A012 kind:caches over 2 GB older than 3 months on:loft-1')).toEqual({
    query: {
      words: ['ferry', 'a012'],
      kind: 'cache',
      minBytes: 2e9,
      olderDays: 3 * 30.44,
      volume: 'loft-1',
    },
    filters: ['kind cache', 'larger than 2 GB', 'older than 3 months', 'on volumes named like "loft-1"'],
    trouble: null,
  });
  expect(understand('smaller than 1,5gb newer than a week project:"night ferry"').query).toEqual({
    words: [],
    maxBytes: 1.5e9,
    newerDays: 7,
    project: 'night ferry',
  });
});

test('a word in quotes is part of a name, whatever it says', () => {
  expect(understand('"over 2 gb" under').query).toEqual({ words: ['over 2 gb', 'under'] });
});

test('a filter that is none is told, not ignored', () => {
  expect(understand('kind:film').trouble).toMatch(/no kind "film"/);
  expect(understand('kind:').trouble).toMatch(/missing/);
});

test('one letter asks for nothing, a filter does', () => {
  expect(asksForSomething(understand('a').query)).toBe(false);
  expect(asksForSomething(understand('kind:cache').query)).toBe(true);
  expect(asksForSomething(understand('ab').query)).toBe(true);
});

test('nothing that can be typed breaks it', () => {
  const word = fc.oneof(
    fc.string(),
    fc.constantFrom('over', 'than', 'older', '2', 'gb', 'kind:', '"', 'a', 'week', 'on:x'),
  );
  fc.assert(
    fc.property(fc.array(word), (words) => {
      const { query } = understand(words.join(' '));
      expect(Array.isArray(query.words)).toBe(true);
    }),
  );
});
