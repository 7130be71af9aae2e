// What is set aside goes at night by itself, as the house decides: after so many days, or on a volume that runs short, the
// oldest first. Only what is told to have a copy, and the step proves that copy before it touches one; the only copies wait
// for a person.
import { eq, sql } from 'drizzle-orm';
import { removeAside as kind } from '#core/steps/remove-aside.ts';
import type { Database, Db } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';
import { Refused } from '../runtime/refused.ts';
import { type AsideRule, asideRule } from '../site/house-rules.ts';
import { addFileStepIn } from '../steps/adding.ts';
import { insertAsideItems } from '../steps/take-back.ts';
import { isNight, NIGHT_RULES, runDueRules } from './night.ts';
import { runAtOnce } from './plan.ts';

/** So many files of a night; the rest the next. */
const MOST = 50_000;
const KEY = 'set aside emptied';
const ONCE_MS = 12 * 3_600_000;

/** All that happens by itself while it is night. */
export async function workAtNight(db: Database, now: Date): Promise<void> {
  await runDueRules(db, now);
  await emptyDueAside(db, now);
}

/** Begins the removal of what is due, once a night. Gives how many files. */
export async function emptyDueAside(db: Database, now: Date): Promise<number> {
  const rule = await asideRule(db);
  if (!isNight(now) || (rule.days === 0 && rule.shortBytes === 0)) return 0;
  const [last] = await db.select().from(site).where(eq(site.key, KEY));
  if (last && now.getTime() - Number(last.value) < ONCE_MS) return 0;
  const value = String(now.getTime());
  await db.insert(site).values({ key: KEY, value }).onDuplicateKeyUpdate({ set: { value } });
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

/** Rows of what lies aside that is due now, the oldest first. */
export async function dueAside(db: Db, rule: AsideRule, now: Date): Promise<number[]> {
  const old = rule.days === 0 ? sql`FALSE` : sql`a.at < ${new Date(now.getTime() - rule.days * 86_400_000)}`;
  const short =
    rule.shortBytes === 0
      ? sql`FALSE`
      : sql`v.free_bytes + a.older < ${rule.shortBytes} AND NOT v.quota AND v.state = 'reachable'`;
  const [rows] = (await db.execute(sql`
    SELECT a.id FROM (SELECT id, volume_id, at, SUM(size_bytes) OVER (PARTITION BY volume_id ORDER BY at, id) - size_bytes AS older
        FROM aside WHERE state = 'aside' AND level = 2) a
      JOIN volumes v ON v.id = a.volume_id AND v.retired_at IS NULL
    WHERE ${old} OR (${short}) ORDER BY a.at, a.id LIMIT ${MOST}`)) as unknown as [{ id: number }[]];
  return rows.map((row) => Number(row.id));
}
