import { csvText } from './csv.ts';

test('what could be misread is quoted, and a name is never a formula', () => {
  expect(
    csvText(
      ['a', 'b'],
      [
        ['x', 'one, two'],
        ['say "so"', 'line\nbreak'],
        ['=1+1', '-5'],
        ['-x', '@y'],
      ],
    ),
  ).toBe('a,b\r\nx,"one, two"\r\n"say ""so""","line\nbreak"\r\n\'=1+1,\'-5\r\n\'-x,\'@y\r\n');
});
