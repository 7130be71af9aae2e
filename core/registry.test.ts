import { Registry } from './registry.ts';

test('a name belongs to one kind, and kinds come in the order in which they were put in', () => {
  const kinds = new Registry<{ n: number }>('kind of jar');
  kinds.add('wide', { n: 1 });
  kinds.add('tall', { n: 2 });
  expect(() => kinds.add('wide', { n: 3 })).toThrow('There is a kind of jar called wide already.');
  expect(kinds.all()).toEqual([{ n: 1 }, { n: 2 }]);
  expect(kinds.get('wide')).toEqual({ n: 1 });
  expect(kinds.get('constructor')).toBeNull();
});
