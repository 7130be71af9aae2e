import fc from 'fast-check';
import { labelOf, labelText } from './timecode.ts';

const RATES = [
  { num: 24000, den: 1001 },
  { num: 24, den: 1 },
  { num: 25, den: 1 },
  { num: 30000, den: 1001 },
  { num: 30, den: 1 },
  { num: 50, den: 1 },
  { num: 60000, den: 1001 },
];
const NTSC = { num: 30000, den: 1001 };

test('drop frame leaves out two labels a minute, except every tenth', () => {
  expect(labelText(1800, NTSC, true)).toBe('00:01:00;02');
  expect(labelText(1799, NTSC, true)).toBe('00:00:59;29');
  expect(labelText(17982, NTSC, true)).toBe('00:10:00;00');
  expect(labelOf('01:00:00;00', NTSC)).toEqual({ frame: 107_892, dropFrame: true });
  expect(labelOf('01:00:00:00', NTSC)).toEqual({ frame: 108_000, dropFrame: false });
  expect(labelOf('01:00:00:00', NTSC, true)).toEqual({ frame: 107_892, dropFrame: true });
});

test('a label and its frame say the same, at every rate, all day long', () => {
  fc.assert(
    fc.property(fc.constantFrom(...RATES), fc.boolean(), fc.nat({ max: 2_000_000 }), (rate, drop, frame) => {
      const text = labelText(frame, rate, drop);
      expect(labelOf(text, rate)!.frame).toBe(frame);
    }),
  );
});

test('what is no label of the rate is refused', () => {
  for (const text of ['01:00:00', '25:00:00:00', '00:61:00:00', '00:00:00:25', 'x', ''])
    expect(labelOf(text, { num: 25, den: 1 })).toBeNull();
  expect(labelOf('00:00:00:24', { num: 25, den: 1 })!.frame).toBe(24);
});
