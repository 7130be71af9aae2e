// What rules do at night by themselves: caches alone, within their limits, each as a step in a plan of its own with the same
// last look and the same receipt as by hand.
import { eq, sql } from 'drizzle-orm';
import { wasSince } from '#core/nights/hours.ts';
import { cutDay } from '#core/reclaim/cuts.ts';
import { removeCaches as kind } from '#core/steps/remove-caches.ts';
import { counted, size } from '#core/wording/amounts.ts';
import type { Database, Db, Transaction } from '../db/connect.ts';
import { NOT_NAMED } from '../db/naming.ts';
import { site } from '../db/schema/site.ts';
import { keptRules, type KeptRule, noteRun } from '../reclaim/cache-rules.ts';
import { Refused } from '../runtime/refused.ts';
import { begunMs } from '../site/night-hours.ts';
import { addFileStepIn, FILE_FACTS, notInAPlan } from '../steps/adding.ts';
import { runAtOnce } from './plan.ts';

export const NIGHT_RULES = 'the night rules';

/** True once since a moment, which is when the hours of a thing began, for each thing that is done once in them. */
export async function isFirstSince(
  db: Database,
  key: string,
  { sinceMs, now }: { sinceMs: number; now: Date },
): Promise<boolean> {
  const [last] = await db.select().from(site).where(eq(site.key, key));
  if (last && wasSince(Number(last.value), { sinceMs, now: now.getTime() })) return false;
  const value = String(now.getTime());
  await db.insert(site).values({ key, value }).onDuplicateKeyUpdate({ set: { value } });
  return true;
}

/** Begins every rule that runs at night and has not run this night. Gives how many were begun. */
export async function runDueRules(db: Database, now: Date): Promise<number> {
  const sinceMs = await begunMs(db, 'rules', now);
  if (sinceMs === null) return 0;
  let begun = 0;
  for (const rule of await keptRules(db)) {
    if (!rule.atNight || (rule.ranAtMs !== null && wasSince(rule.ranAtMs, { sinceMs, now: now.getTime() }))) continue;
    if (await isBusy(db, rule.volumeId)) continue;
    begun += Number(await runRule(db, rule, now));
  }
  return begun;
}

/** Another piece of work has the volume, or waits for it: rules do not stand in its way. */
async function isBusy(db: Db, volumeId: number): Promise<boolean> {
  const [rows] = (await db.execute(sql`
    SELECT EXISTS (SELECT 1 FROM jobs j JOIN job_stores s ON s.job_id = j.id WHERE j.state IN ('queued', 'running') AND s.store = 'volume' AND s.store_id = ${volumeId}) AS busy`)) as unknown as [
    { busy: number }[],
  ];
  return Number(rows[0]!.busy) > 0;
}

/** Begins one rule. What it cannot do is noted with it, in words. */
export async function runRule(db: Database, rule: KeptRule, now: Date): Promise<boolean> {
  try {
    let said = '';
    await runAtOnce(
      db,
      async (tx, planId) => {
        const cut = cutDay(now.getTime(), rule.rule.by === 'age' ? rule.rule.days : 1);
        const params = { cutDay: cut, rule: rule.words.slice(0, 200) };
        const added = await addFileStepIn(tx, { kind, params, names: {}, now, planId }, async (_tx, stepId) => {
          await choose(tx, stepId, rule, cut);
          return 'Nothing was over it.';
        });
        said = `Took ${size(added.bytes)} in ${counted(added.files, 'file')} at most.`;
        await noteRun(tx, rule.ruleId, said, now);
        return added.stepId;
      },
      { who: NIGHT_RULES, now },
    );
    return true;
  } catch (error) {
    if (!(error instanceof Refused)) throw error;
    await noteRun(db, rule.ruleId, error.message, now);
    return false;
  }
}

/** The least recently changed first, until the age, the cap or the limit of a night is met. */
async function choose(tx: Transaction, stepId: number, { rule, ...of }: KeptRule, cut: number): Promise<void> {
  const except = of.except.map((folder) => {
    const inside = `${folder.replace(/[\\%_]/g, (letter) => `\\${letter}`)}/%`;
    return sql`AND d.path <> ${folder} AND d.path NOT LIKE ${inside}`;
  });
  const whose = of.projectId === null ? sql`` : sql`AND f.project_id = ${of.projectId}`;
  const wanted = rule.by === 'age' ? of.mostBytes : Math.min(of.mostBytes, await over(tx, of, rule.capBytes));
  if (wanted <= 0) return;
  await tx.execute(sql`
    INSERT INTO step_items (${FILE_FACTS.columns})
    SELECT ${stepId}, ${FILE_FACTS.values} FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id
    JOIN (SELECT f.id, SUM(f.size_bytes) OVER (ORDER BY f.modified_us, f.id) - f.size_bytes AS before_, f.size_bytes FROM files f JOIN folders d ON d.id = f.folder_id
      WHERE f.volume_id = ${of.volumeId} AND f.kind = 'cache' AND f.gone_at IS NULL AND f.modified_us < ${cut * 86_400_000_000}
        ${whose} ${sql.join(except, sql` `)} AND ${NOT_NAMED} AND ${notInAPlan}) x ON x.id = f.id
    WHERE ${rule.by === 'age' ? sql`x.before_ + x.size_bytes <= ${wanted}` : sql`x.before_ < ${wanted} AND x.before_ + x.size_bytes <= ${of.mostBytes}`}`);
}

/** How much the caches are over their cap now. */
async function over(tx: Transaction, { volumeId, projectId }: Pick<KeptRule, 'volumeId' | 'projectId'>, cap: number) {
  const [rows] = (await tx.execute(sql`
    SELECT COALESCE(SUM(bytes), 0) AS bytes FROM volume_sums WHERE volume_id = ${volumeId} AND kind = 'cache' ${projectId === null ? sql`` : sql`AND project_id = ${projectId}`}`)) as unknown as [
    { bytes: number }[],
  ];
  return Number(rows[0]!.bytes) - cap;
}
