import { mediaTime } from './amounts.ts';

test('a moment of media is told to the millisecond, also one before its zero', () => {
  expect(mediaTime(36_002_040)).toBe('10:00:02.040');
  expect(mediaTime(0)).toBe('00:00:00.000');
  expect(mediaTime(-1500)).toBe('-00:00:01.500');
});
