import fc from 'fast-check';
import { fold, Names } from './names.ts';

const of = (names: readonly string[]) => {
  const list = new Names();
  names.forEach((name, i) => list.add(i + 1, name));
  return list;
};

test('parts of names in any case and Unicode form, every word in one name', () => {
  const list = of(['A012C001_0427.mov', 'Übergabe – été.mov', 'ferry_engine_low.wav', 'engine ferry.wav']);
  expect(list.find(['c001'], 10)).toEqual([1]);
  expect(list.find([fold('E\u0301TE\u0301')], 10)).toEqual([2]);
  expect(list.find(['ferry', 'engine'], 10)).toEqual([3, 4]);
  expect(list.find(['ferry', 'mov'], 10)).toEqual([]);
  expect(list.find(['.wav'], 1)).toHaveLength(1);
});

test('the same as looking at every name, over many blocks and as names are added', () => {
  const name = fc.string({ unit: fc.constantFrom('a', 'b', 'Ä', '_', '\n', '0'), maxLength: 8 });
  fc.assert(
    fc.property(
      fc.array(name),
      fc.array(name),
      fc.array(fc.constantFrom('a', 'ab', 'ä', '0_', 'b0'), { minLength: 1, maxLength: 2 }),
      (some, more, words) => {
        const list = of(some);
        list.find(words, 5);
        more.forEach((added, i) => list.add(some.length + i + 1, added));
        const all = [...some, ...more];
        const wanted = all.flatMap((one, i) =>
          words.every((word) => fold(one).replaceAll('\n', ' ').includes(word)) ? [i + 1] : [],
        );
        expect(list.find(words, 1000).sort((a, b) => a - b)).toEqual(wanted);
      },
    ),
  );
  const large = new Names();
  for (let i = 0; i < 200_000; i++) large.add(i, `camera_${i}.mov`);
  expect(large.find(['camera_123456.'], 10)).toEqual([123_456]);
  expect(large.find(['199999', 'mov'], 10)).toEqual([199_999]);
});
