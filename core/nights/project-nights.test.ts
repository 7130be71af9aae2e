// Which night the next builds on, which may be let go, and what more of them take: over generated chains.
import fc from 'fast-check';
import type { CarrierId } from '../model.ts';
import { baseOf, bytesOfDays, nightsToLetGo } from './project-nights.ts';

test('what is let go is old, and what stays finds all that it builds on', () => {
  const DAY = 86_400_000;
  fc.assert(
    fc.property(
      fc.array(fc.boolean(), { maxLength: 15 }),
      fc.integer({ min: 0, max: 8 }),
      fc.integer({ min: 0, max: 20 }),
      (anew, keepDays, later) => {
        const all = anew.map((isAnew, i) => ({
          ...{ archiveId: i + 1, baseId: isAnew || i === 0 ? null : i, sealedMs: i * DAY },
        }));
        const nowMs = (all.length + later) * DAY;
        const gone = nightsToLetGo(all, { carrierId: 1 as CarrierId, anewDays: 30, keepDays, mostMBps: 0 }, nowMs);
        if (keepDays === 0) expect(gone).toEqual([]);
        for (const one of gone) expect(nowMs - one.sealedMs).toBeGreaterThan(keepDays * DAY);
        const stays = all.filter((one) => !gone.includes(one));
        if (all.length > 0) expect(stays.at(-1)).toBe(all.at(-1));
        for (const one of stays)
          if (one.baseId !== null) expect(stays.map((other) => other.archiveId)).toContain(one.baseId);
        // All that may go goes.
        for (const one of stays.slice(0, -1))
          if (keepDays > 0 && nowMs - one.sealedMs > keepDays * DAY)
            expect(stays.map((other) => other.baseId)).toContain(one.archiveId);
      },
    ),
  );
});

test('a chain is built on while its first night is young and all of it is there', () => {
  const DAY = 86_400_000;
  fc.assert(
    fc.property(
      fc.array(fc.record({ isAnew: fc.boolean(), isThere: fc.boolean() }), { maxLength: 12 }),
      fc.integer({ min: 1, max: 10 }),
      (nights, anewDays) => {
        const all = nights.map(({ isAnew }, i) => ({
          ...{ archiveId: i + 1, baseId: isAnew || i === 0 ? null : i, sealedMs: i * DAY },
        }));
        const there = all.filter((_, i) => nights[i]!.isThere);
        const nowMs = nights.length * DAY;
        const base = baseOf(there, { carrierId: 1 as CarrierId, anewDays, keepDays: 0, mostMBps: 0 }, nowMs);
        if (!base) return;
        expect(base).toBe(there.at(-1));
        for (let one: (typeof all)[number] = base; ; one = all[one.baseId! - 1]!) {
          expect(there).toContain(one);
          if (one.baseId !== null) continue;
          expect(nowMs - one.sealedMs).toBeLessThan(anewDays * DAY);
          break;
        }
      },
    ),
  );
});

test('more days take what was added a night, and everything anew as often as it is written', () => {
  const written = { anew: { nights: 2, bytes: 2000 }, added: { nights: 10, bytes: 100 } };
  expect(bytesOfDays(written, { anewDays: 5 }, 10)).toBe(10 * 10 + 2 * 1000);
  // A first night says nothing of those that follow.
  expect(bytesOfDays({ ...written, added: { nights: 0, bytes: 0 } }, { anewDays: 5 }, 10)).toBeNull();
});
