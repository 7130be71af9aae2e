// Which night the next builds on, which may be let go, and what more of them take: over generated chains.
import fc from 'fast-check';
import type { CarrierId } from '../model.ts';
import { houseDay, isoDay } from '../house-time.ts';
import { baseOf, bytesOfDays, nightsToLetGo } from './project-nights.ts';

const DAY = 86_400_000;
const NONE = { keepDays: 0, allDays: 0, weeklyDays: 0 };

test('what is let go is old or thinned, what stays finds all that it needs, and nothing stays for nothing', () => {
  const days = fc.integer({ min: 0, max: 40 });
  fc.assert(
    fc.property(
      fc.array(fc.record({ gap: fc.integer({ min: 1, max: 9 }), needs: fc.array(fc.nat(60), { maxLength: 3 }) }), {
        maxLength: 40,
      }),
      fc.record({ keepDays: days, allDays: days, weeklyDays: days }),
      fc.integer({ min: 0, max: 60 }),
      (made, rule, later) => {
        let day = 0;
        const all = made.map(({ gap, needs }, i) => ({
          ...{ archiveId: i + 1, sealedMs: (day += gap) * DAY + 3 * 3_600_000 },
          needs: i === 0 ? [] : [...new Set(needs.map((n) => (n % i) + 1))],
        }));
        const nowMs = (day + later) * DAY + 4 * 3_600_000;
        const gone = new Set(nightsToLetGo(all, rule, nowMs).map((one) => one.archiveId));
        const stays = all.filter((one) => !gone.has(one.archiveId));
        if (rule.keepDays + rule.allDays + rule.weeklyDays === 0) expect(gone.size).toBe(0);
        if (all.length > 0) expect(stays.at(-1)).toBe(all.at(-1));
        for (const one of stays) for (const id of one.needs) expect(gone).not.toContain(id);
        const age = (one: (typeof all)[number]) => nowMs - one.sealedMs;
        const isOlder = (one: (typeof all)[number], than: number) => than > 0 && age(one) > than * DAY;
        for (const one of all) {
          const { archiveId, sealedMs } = one;
          const [week, month] = [weekOf(sealedMs), isoDay(sealedMs).slice(0, 7)];
          const after = all.filter((other) => other.archiveId > archiveId);
          const isWanted =
            after.length === 0 ||
            (!isOlder(one, rule.keepDays) &&
              (isOlder(one, rule.weeklyDays)
                ? !after.some((other) => isoDay(other.sealedMs).slice(0, 7) === month)
                : !isOlder(one, rule.allDays) || !after.some((other) => weekOf(other.sealedMs) === week)));
          const isNeeded = stays.some((other) => other.needs.includes(archiveId));
          expect([archiveId, gone.has(archiveId)]).toEqual([archiveId, !isWanted && !isNeeded]);
        }
      },
    ),
  );
});
/** Counted from a Monday. */
const weekOf = (ms: number) => Math.floor((houseDay(ms) - houseDay(Date.UTC(2024, 0, 1, 12))) / 7);

test('night by night for a year, a week keeps its last night and a month its last, whatever the day one looks', () => {
  const rule = { keepDays: 0, allDays: 14, weeklyDays: 60 };
  let all: { archiveId: number; sealedMs: number; needs: number[] }[] = [];
  for (let day = 0; day < 365; day++) {
    const nowMs = Date.UTC(2026, 0, 1 + day, 3);
    all.push({ archiveId: day + 1, sealedMs: nowMs, needs: [] });
    const gone = nightsToLetGo(all, rule, nowMs);
    all = all.filter((one) => !gone.includes(one));
    const last = Math.max(...all.filter((one) => nowMs - one.sealedMs > 75 * DAY).map((one) => one.sealedMs), 0);
    // Every month that is over for long has one, and no more.
    if (last > 0) {
      const months = all.filter((one) => one.sealedMs <= last).map((one) => isoDay(one.sealedMs).slice(0, 7));
      expect(new Set(months.slice(0, -1)).size).toBe(months.length - 1);
    }
  }
  expect(all.length).toBeLessThan(15 + 8 + 12);
  expect(new Set(all.map((one) => isoDay(one.sealedMs).slice(0, 7))).size).toBe(12);
  expect(nightsToLetGo(all, NONE, Date.UTC(2030, 0, 1))).toEqual([]);
});

test('a chain is built on while its first night is young and all of it is there', () => {
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
        const base = baseOf(
          there,
          { carrierId: 1 as CarrierId, anewDays, keepDays: 0, mostMBps: 0, allDays: 0, weeklyDays: 0 },
          nowMs,
        );
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
