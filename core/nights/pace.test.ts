import fc from 'fast-check';
import { Pace } from './pace.ts';

test('whatever comes when, no more than so many bytes a second go by, and no wait is longer than what went needs', () => {
  fc.assert(
    fc.property(
      fc.integer({ min: 1, max: 1e9 }),
      fc.array(fc.tuple(fc.nat(1e8), fc.nat(5000)), { minLength: 1, maxLength: 60 }),
      (rate, steps) => {
        let clock = 1000;
        let sum = 0;
        const pace = new Pace(rate, () => clock);
        for (const [bytes, idle] of steps) {
          const wait = pace.after(bytes);
          expect(wait).toBeGreaterThanOrEqual(0);
          sum += bytes;
          clock += wait;
          // All that went so far took as long as it must, at least.
          expect(clock - 1000).toBeGreaterThanOrEqual((sum / rate) * 1000 - 1e-3);
          expect(wait).toBeLessThanOrEqual((bytes / rate) * 1000 + 1e-3);
          clock += idle;
        }
      },
    ),
  );
});
