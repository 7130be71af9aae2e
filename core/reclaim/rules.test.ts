import fc from 'fast-check';
import { type CacheRule, type CacheSample, replay, suggestedCap, sumReplay } from './rules.ts';

const GB = 1e9;
/** One project makes 2 GB a day for ten days, then rests. */
const steady: CacheSample[] = Array.from({ length: 20 }, (_, day) => ({
  projectId: 1,
  day,
  bytes: Math.min(10, day + 1) * 2 * GB,
}));

test('an age takes what rested so long, and nothing younger', () => {
  const days = replay(steady, { by: 'age', days: 4 });
  // Five days are always there; after it rests, they go day by day.
  expect(days[9]!.ruledBytes).toBe(5 * 2 * GB);
  expect(days[13]!.ruledBytes).toBe(2 * GB);
  expect(days[14]!.ruledBytes).toBe(0);
  expect(sumReplay(days)).toMatchObject({ removedBytes: 20 * GB, mostBytes: 20 * GB, mostRuledBytes: 10 * GB });
});

test('a cap takes the oldest first, and only what is over it', () => {
  const days = replay(steady, { by: 'cap', capBytes: 7 * GB });
  expect(days.map((day) => day.ruledBytes / GB)).toEqual([2, 4, 6, ...Array.from({ length: 17 }, () => 7)]);
  // While the project goes on making so much, what went may have been made again.
  expect(days[4]!.rebuiltBytes).toBe(2 * GB);
  expect(days[9]!.rebuiltBytes).toBe(0);
});

test('what people removed themselves is not removed again', () => {
  const samples = [0, 1, 2].map((day) => ({ projectId: 1, day, bytes: day === 2 ? 0 : 5 * GB }));
  const days = replay(samples, { by: 'age', days: 1 });
  expect(days.map((day) => day.removedBytes)).toEqual([0, 0, 0]);
});

const samples = fc
  .array(
    fc.record({ projectId: fc.integer({ min: 1, max: 3 }), day: fc.integer({ min: 0, max: 40 }), bytes: fc.nat(1000) }),
    { maxLength: 80 },
  )
  .map((all) =>
    [...new Map(all.map((one) => [`${one.projectId} ${one.day}`, one])).values()].sort((a, b) => a.day - b.day),
  );
const rules: fc.Arbitrary<CacheRule> = fc.oneof(
  fc.record({ by: fc.constant('age' as const), days: fc.nat(30) }),
  fc.record({ by: fc.constant('cap' as const), capBytes: fc.nat(2000) }),
);

test('a rule never leaves more than there was, keeps its cap, and tells no more rebuilt than removed', () => {
  fc.assert(
    fc.property(samples, rules, (all, rule) => {
      for (const day of replay(all, rule)) {
        expect(day.ruledBytes).toBeLessThanOrEqual(day.bytes);
        expect(day.rebuiltBytes).toBeLessThanOrEqual(day.removedBytes);
        if (rule.by === 'cap') expect(day.ruledBytes).toBeLessThanOrEqual(rule.capBytes);
      }
      const none = replay(all, { by: 'cap', capBytes: 1e15 });
      expect(none.map((day) => day.ruledBytes)).toEqual(none.map((day) => day.bytes));
    }),
  );
});

test.each([
  [{ capacityBytes: 100 * GB, otherBytes: 40 * GB, otherBytesPerDay: 0 }, 50 * GB],
  [{ capacityBytes: 100 * GB, otherBytes: 40 * GB, otherBytesPerDay: GB }, 20 * GB],
  [{ capacityBytes: 100 * GB, otherBytes: 40 * GB, otherBytesPerDay: -GB }, 50 * GB],
  [{ capacityBytes: 100 * GB, otherBytes: 95 * GB, otherBytesPerDay: 0 }, null],
])('a cap is suggested that leaves room for a month', (facts, cap) => expect(suggestedCap(facts)).toBe(cap));
