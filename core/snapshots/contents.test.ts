// What two moments of a document have different, part by part: over generated timelines.
import fc from 'fast-check';
import type { DocumentModel } from '../documents/model.ts';
import { compared, type Contents, contentsOf } from './contents.ts';

const part = fc.tuple(fc.nat(3), fc.nat(5), fc.nat(3));
const contents: fc.Arbitrary<Contents> = fc
  .uniqueArray(
    fc.record({
      name: fc.constantFrom('reel 1', 'reel 2', 'mix'),
      parts: fc.uniqueArray(part, { selector: (one) => one.join(), maxLength: 10 }),
    }),
    { selector: (one) => one.name, maxLength: 3 },
  )
  .map((timelines) => ({ media: ['a', 'b', 'c', 'd'], timelines }));

test('nothing is different from itself', () => {
  fc.assert(
    fc.property(contents, (one) => {
      for (const { is, changes, kept, name } of compared(one, one)) {
        expect([is, changes]).toEqual(['same', []]);
        expect(kept).toBe(one.timelines.find((timeline) => timeline.name === name)!.parts.length);
      }
    }),
  );
});

test('what is told leads from the one moment to the other, and nothing is told twice', () => {
  const partsOf = ({ media, timelines }: Contents, name: string) =>
    (timelines.find((one) => one.name === name)?.parts ?? []).map(([at, ...rest]) => `${media[at]} ${rest.join(' ')}`);
  fc.assert(
    fc.property(contents, contents, (then, now) => {
      const found = compared(then, now);
      expect(found.map((one) => one.name).sort()).toEqual(
        [...new Set([...then.timelines, ...now.timelines].map((one) => one.name))].sort(),
      );
      for (const { name, is, kept, changes } of found) {
        const [was, after] = [partsOf(then, name), partsOf(now, name)];
        const told = (side: 'then' | 'now') =>
          changes.flatMap(({ media, [side]: own }) => (own ? [`${media} ${own.from} ${own.lasts}`] : []));
        const both = was.filter((one) => after.includes(one));
        expect([...both, ...told('then')].sort()).toEqual([...was].sort());
        expect([...both, ...told('now')].sort()).toEqual([...after].sort());
        expect(kept).toBe(both.length);
        if (is === 'same') expect(changes).toEqual([]);
        for (const change of changes) expect(change.then ?? change.now).not.toBeNull();
      }
    }),
  );
});

test('a part that was made longer is one part, changed; picture and sound of it are one', () => {
  const model = (start: number, duration: number): DocumentModel => ({
    ...{ name: 'fog', bins: [], clips: [], notes: [] },
    media: [{ key: 7, name: 'a.mov', target: 'rushes/a.mov', stills: null, available: null, reel: null }],
    timelines: [
      {
        ...{ bin: null, name: 'reel 1', durationFrames: 100, rate: { num: 25, den: 1 } },
        uses: [false, true].map((sound) => ({
          ...{ media: 7, range: { start, duration }, rate: { num: 25, den: 1 }, enabled: true, sound },
        })),
      },
    ],
  });
  const [then, now] = [contentsOf(model(50, 25))!, contentsOf(model(50, 75))!];
  expect(then.timelines[0]!.parts).toEqual([[0, 2000, 1000]]);
  expect(compared(then, now)).toEqual([
    {
      ...{ name: 'reel 1', is: 'changed', kept: 0 },
      changes: [{ media: 'a.mov', then: { from: 2000, lasts: 1000 }, now: { from: 2000, lasts: 3000 } }],
    },
  ]);
});
