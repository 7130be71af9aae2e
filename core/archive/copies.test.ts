import fc from 'fast-check';
import { copiesShort, provenMs } from './copies.ts';

test('what is short is said, copies before places', () => {
  expect(copiesShort([['cabinet']], { copies: 2, places: 1 })).toBe('1 of 2 copies');
  expect(copiesShort([['cabinet'], ['Cabinet ']], { copies: 2, places: 2 })).toBe('in 1 of 2 places');
  expect(copiesShort([['cabinet'], ['bank']], { copies: 2, places: 2 })).toBeNull();
  // Over two places it is lost with either.
  expect(copiesShort([['cabinet', 'bank'], ['bank']], { copies: 2, places: 2 })).toBe('in 1 of 2 places');
});

test('another copy in another place never makes it shorter', () => {
  const place = fc.array(fc.constantFrom('cabinet', 'bank', 'van', 'home'), { minLength: 1, maxLength: 2 });
  const rule = fc.record({ copies: fc.integer({ min: 1, max: 8 }), places: fc.integer({ min: 1, max: 8 }) });
  fc.assert(
    fc.property(fc.array(place, { maxLength: 8 }), place, rule, (places, one, wanted) => {
      if (copiesShort(places, wanted) === null) expect(copiesShort([...places, one], wanted)).toBeNull();
    }),
  );
});

test('copies are as sure as the one that was proven longest ago; one that never was leaves nothing sure, and damaged ones do not count', () => {
  const good = (readBackMs: number | null) => ({ state: 'good', readBackMs });
  expect(provenMs([good(5), good(3), { state: 'damaged', readBackMs: 1 }])).toBe(3);
  expect(provenMs([good(5), good(null)])).toBeNull();
  expect(provenMs([{ state: 'writing', readBackMs: null }])).toBeUndefined();
  expect(provenMs([])).toBeUndefined();
});
