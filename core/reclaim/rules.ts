// Rules for caches: by age, or by a cap with the least recently changed first. A rule is played over the last weeks, day by
// day, from what readings saw come and go, before anybody trusts it. Long-running work suits a cap: what is at work stays,
// however old it is. Quick turnaround suits an age: what a job left behind goes after it.

export type CacheRule = { by: 'age'; days: number } | { by: 'cap'; capBytes: number };

/** What the caches of one project held on a day, as a reading left it. */
export interface CacheSample {
  projectId: number;
  day: number;
  bytes: number;
}

export interface ReplayDay {
  day: number;
  /** As it was. */
  bytes: number;
  /** As it would have been. */
  ruledBytes: number;
  removedBytes: number;
  /** Of what was removed by then: came back at most, since its project made so much again within a week. */
  rebuiltBytes: number;
}

interface Cohort {
  projectId: number;
  day: number;
  bytes: number;
}

const REBUILT_WITHIN_DAYS = 7;

/** @param samples of one volume, oldest first */
export function replay(samples: readonly CacheSample[], rule: CacheRule): ReplayDay[] {
  const days = [...new Set(samples.map(({ day }) => day))].sort((a, b) => a - b);
  const held = new Map<string, number>();
  for (const { projectId, day, bytes } of samples) held.set(`${projectId} ${day}`, bytes);
  const projects = [...new Set(samples.map(({ projectId }) => projectId))];
  const on = (projectId: number, day: number) => held.get(`${projectId} ${day}`) ?? 0;
  let cohorts: Cohort[] = [];
  const told: ReplayDay[] = [];
  for (const [i, day] of days.entries()) {
    for (const projectId of projects) {
      const change = on(projectId, day) - (i === 0 ? 0 : on(projectId, days[i - 1]!));
      if (change > 0) cohorts.push({ projectId, day, bytes: change });
      else if (change < 0) cohorts = without(cohorts, -change, (one) => one.projectId === projectId).left;
    }
    const { left, removed } = apply(cohorts, rule, day);
    cohorts = left;
    told.push({
      day,
      bytes: projects.reduce((sum, projectId) => sum + on(projectId, day), 0),
      ruledBytes: total(cohorts),
      removedBytes: total(removed),
      rebuiltBytes: projects.reduce(
        (sum, projectId) =>
          sum +
          Math.min(
            total(removed.filter((one) => one.projectId === projectId)),
            madeAfter(days, i, (at) => on(projectId, at)),
          ),
        0,
      ),
    });
  }
  return told;
}

const total = (cohorts: readonly Cohort[]) => cohorts.reduce((sum, { bytes }) => sum + bytes, 0);

function apply(cohorts: Cohort[], rule: CacheRule, day: number): { left: Cohort[]; removed: Cohort[] } {
  if (rule.by === 'cap') return without(cohorts, Math.max(0, total(cohorts) - rule.capBytes), () => true);
  const isOld = (one: Cohort) => one.day < day - rule.days;
  return { left: cohorts.filter((one) => !isOld(one)), removed: cohorts.filter(isOld) };
}

/** So many bytes fewer, the oldest first. */
function without(cohorts: readonly Cohort[], bytes: number, of: (one: Cohort) => boolean) {
  const left: Cohort[] = [];
  const removed: Cohort[] = [];
  let wanted = bytes;
  for (const one of [...cohorts].sort((a, b) => a.day - b.day)) {
    const taken = of(one) ? Math.min(wanted, one.bytes) : 0;
    wanted -= taken;
    if (taken > 0) removed.push({ ...one, bytes: taken });
    if (one.bytes > taken) left.push({ ...one, bytes: one.bytes - taken });
  }
  return { left, removed };
}

/** What came within a week after a day. */
function madeAfter(days: readonly number[], from: number, on: (day: number) => number): number {
  let sum = 0;
  for (let i = from + 1; i < days.length && days[i]! <= days[from]! + REBUILT_WITHIN_DAYS; i++)
    sum += Math.max(0, on(days[i]!) - on(days[i - 1]!));
  return sum;
}

export interface ReplaySums {
  removedBytes: number;
  rebuiltBytes: number;
  /** The fullest day, as it was and as it would have been. */
  mostBytes: number;
  mostRuledBytes: number;
}

export function sumReplay(days: readonly ReplayDay[]): ReplaySums {
  const most = (of: (day: ReplayDay) => number) => days.reduce((max, day) => Math.max(max, of(day)), 0);
  return {
    removedBytes: days.reduce((sum, day) => sum + day.removedBytes, 0),
    rebuiltBytes: days.reduce((sum, day) => sum + day.rebuiltBytes, 0),
    mostBytes: most((day) => day.bytes),
    mostRuledBytes: most((day) => day.ruledBytes),
  };
}

const AHEAD_DAYS = 30;
const FULL = 0.9;

/**
 * A cap under which the volume stays below nine tenths for a month, if everything else goes on as it did; null where
 * everything else alone fills it.
 */
export function suggestedCap(facts: {
  capacityBytes: number;
  otherBytes: number;
  otherBytesPerDay: number;
}): number | null {
  const room = facts.capacityBytes * FULL - facts.otherBytes - Math.max(0, facts.otherBytesPerDay) * AHEAD_DAYS;
  return room > 0 ? Math.floor(room / 1e9) * 1e9 || null : null;
}
