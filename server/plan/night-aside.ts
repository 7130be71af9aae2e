// What is set aside goes at night by itself, as the house decides: after so many days, or on a volume that runs short, the
// oldest first. Only what is told to have a copy, and the step proves that copy before it touches one; the only copies wait
// for a person.
import { and, eq, isNull } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import { removeAside as kind } from '#core/steps/remove-aside.ts';
import type { Database, Db } from '../db/connect.ts';
import { aside } from '../db/schema/aside.ts';
import { volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { type AsideRule, asideRule } from '../site/house-rules.ts';
import { begunMs } from '../site/night-hours.ts';
import { addFileStepIn } from '../steps/adding.ts';
import { insertAsideItems } from '../steps/take-back.ts';
import { volumeFree } from '../stores/volume-free.ts';
import { isFirstSince, NIGHT_RULES } from './night.ts';
import { runAtOnce } from './plan.ts';

/** So many files of a night; the rest the next. */
const MOST = 50_000;
const KEY = 'set aside emptied';
const DAY_MS = 86_400_000;

/** Begins the removal of what is due, once a night. Gives how many files. */
export async function emptyDueAside(db: Database, now: Date): Promise<number> {
  const rule = await asideRule(db);
  if (rule.days === 0 && rule.shortBytes === 0) return 0;
  const sinceMs = await begunMs(db, 'aside', now);
  if (sinceMs === null || !(await isFirstSince(db, KEY, { sinceMs, now }))) return 0;
  const ids = await dueAside(db, rule, now);
  if (ids.length === 0) return 0;
  try {
    let files = 0;
    await runAtOnce(
      db,
      async (tx, planId) => {
        const params = { what: 'what has been set aside long enough', level: 2 as const };
        const added = await addFileStepIn(tx, { kind, params, names: {}, now, planId }, async (_tx, stepId) => {
          await insertAsideItems(tx, stepId, { ids, level: 2 });
          return 'It is in a plan already.';
        });
        files = added.files;
        return added.stepId;
      },
      { who: NIGHT_RULES, now },
    );
    return files;
  } catch (error) {
    if (error instanceof Refused) return 0;
    throw error;
  }
}

/** Rows of what lies aside that is due now, the oldest first: by age, and on a volume until so much is free as is wanted. */
export async function dueAside(db: Db, rule: AsideRule, now: Date): Promise<number[]> {
  const rows = await db
    .select({ id: aside.id, volumeId: aside.volumeId, at: aside.at, sizeBytes: aside.sizeBytes })
    .from(aside)
    .innerJoin(volumes, eq(volumes.id, aside.volumeId))
    .where(and(eq(aside.state, 'aside'), eq(aside.level, 2), eq(volumes.state, 'reachable'), isNull(volumes.retiredAt)))
    .orderBy(aside.at, aside.id)
    .limit(MOST);
  const free = new Map<number, number>();
  for (const { volumeId } of rows)
    if (!free.has(volumeId)) free.set(volumeId, await volumeFree(db, volumeId as VolumeId));
  const before = rule.days === 0 ? -Infinity : now.getTime() - rule.days * DAY_MS;
  return rows.flatMap(({ id, volumeId, at, sizeBytes }) => {
    const left = free.get(volumeId)!;
    if (at.getTime() >= before && left >= rule.shortBytes) return [];
    free.set(volumeId, left + sizeBytes);
    return [id];
  });
}
