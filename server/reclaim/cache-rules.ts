// Rules for caches as they are kept: saved, listed, taken away, and played over the last weeks.
import { eq, sql } from 'drizzle-orm';
import type { ProjectId, VolumeId } from '#core/model.ts';
import {
  type CacheRule,
  replay,
  type ReplayDay,
  type ReplaySums,
  suggestedCap,
  sumReplay,
} from '#core/reclaim/rules.ts';
import { ruleWords } from '#core/wording/reclaim.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { projects } from '../db/schema/projects.ts';
import { cacheRules } from '../db/schema/rules.ts';
import { volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';

export interface NewRule {
  volumeId: VolumeId;
  projectId: ProjectId | null;
  rule: CacheRule;
  except: readonly string[];
  atNight: boolean;
  mostBytes: number;
}

export interface KeptRule extends NewRule {
  ruleId: number;
  volume: string;
  project: string | null;
  words: string;
  ranAtMs: number | null;
  said: string | null;
}

export async function keptRules(db: Db): Promise<KeptRule[]> {
  const rows = await db
    .select({ rule: cacheRules, volume: volumes.name, project: projects.name })
    .from(cacheRules)
    .innerJoin(volumes, eq(volumes.id, cacheRules.volumeId))
    .leftJoin(projects, eq(projects.id, cacheRules.projectId))
    .orderBy(volumes.name, cacheRules.id);
  return rows.map(({ rule: row, volume, project }) => {
    const rule: CacheRule =
      row.by === 'age' ? { by: 'age', days: row.days ?? 0 } : { by: 'cap', capBytes: row.capBytes ?? 0 };
    return {
      ruleId: row.id,
      volumeId: row.volumeId as VolumeId,
      projectId: row.projectId as ProjectId | null,
      rule,
      except: row.except,
      atNight: row.atNight,
      mostBytes: row.mostBytes,
      volume,
      project,
      words: ruleWords(rule, { volume, project }),
      ranAtMs: row.ranAt?.getTime() ?? null,
      said: row.said ?? null,
    };
  });
}

export async function saveRule(db: Database, rule: NewRule, { who, now }: { who: string; now: Date }): Promise<number> {
  return inTransaction(db, async (tx) => {
    const [volume] = await tx.select().from(volumes).where(eq(volumes.id, rule.volumeId));
    if (!volume) throw new Refused('That volume is not registered any more, so no rule was saved. Choose another.');
    const [{ insertId }] = await tx.insert(cacheRules).values({
      volumeId: rule.volumeId,
      projectId: rule.projectId,
      by: rule.rule.by,
      days: rule.rule.by === 'age' ? rule.rule.days : null,
      capBytes: rule.rule.by === 'cap' ? rule.rule.capBytes : null,
      except: [...rule.except],
      atNight: rule.atNight,
      mostBytes: rule.mostBytes,
      createdAt: now,
    });
    await note(
      tx,
      { rule: (await keptRules(tx)).find((one) => one.ruleId === insertId)!, what: 'saved' },
      { who, now },
    );
    return insertId;
  });
}

export async function dropRule(db: Database, ruleId: number, { who, now }: { who: string; now: Date }): Promise<void> {
  await inTransaction(db, async (tx) => {
    const rule = (await keptRules(tx)).find((one) => one.ruleId === ruleId);
    if (!rule) throw new Refused('That rule is gone already. Nothing was changed.');
    await tx.delete(cacheRules).where(eq(cacheRules.id, ruleId));
    await note(tx, { rule, what: 'taken away' }, { who, now });
  });
}

const note = (
  tx: Parameters<typeof writeReceipt>[0],
  { rule, what }: { rule: KeptRule; what: string },
  { who, now }: { who: string; now: Date },
) =>
  writeReceipt(tx, {
    at: now,
    who,
    action: `cache rule ${what}`,
    title: rule.words.slice(0, 500),
    files: 0,
    bytes: 0,
    held: 0,
    facts: { volume: rule.volume, except: rule.except, atNight: rule.atNight, mostBytes: rule.mostBytes },
    itemsSha256: itemsHash([]),
  });

export interface Replayed extends ReplaySums {
  days: ReplayDay[];
  /** A cap that leaves room for a month; null where none does. */
  suggestedCapBytes: number | null;
}

/** What a rule would have done over the last weeks, from the samples that readings left. */
export async function replayOf(
  db: Db,
  { volumeId, projectId, rule }: Pick<NewRule, 'volumeId' | 'projectId' | 'rule'>,
): Promise<Replayed> {
  const [rows] = (await db.execute(sql`
    SELECT project_id AS projectId, day, SUM(bytes) AS bytes FROM samples WHERE volume_id = ${volumeId} AND kind = 'cache'
      ${projectId === null ? sql`` : sql`AND project_id = ${projectId}`} GROUP BY project_id, day ORDER BY day`)) as unknown as [
    { projectId: number; day: number; bytes: number }[],
  ];
  const days = replay(
    rows.map((row) => ({ projectId: Number(row.projectId), day: Number(row.day), bytes: Number(row.bytes) })),
    rule,
  );
  return { ...sumReplay(days), days, suggestedCapBytes: await capFor(db, volumeId) };
}

async function capFor(db: Db, volumeId: VolumeId): Promise<number | null> {
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
  const [rows] = (await db.execute(sql`
    SELECT day, SUM(bytes) AS bytes FROM samples WHERE volume_id = ${volumeId} AND kind <> 'cache' GROUP BY day ORDER BY day`)) as unknown as [
    { day: number; bytes: number }[],
  ];
  const [first, last] = [rows[0], rows.at(-1)];
  if (!volume || !first || !last) return null;
  const span = Math.max(1, Number(last.day) - Number(first.day));
  return suggestedCap({
    capacityBytes: volume.capacityBytes,
    otherBytes: Number(last.bytes),
    otherBytesPerDay: (Number(last.bytes) - Number(first.bytes)) / span,
  });
}

/** Notes what came of a rule tonight. */
export const noteRun = (db: Db, ruleId: number, said: string, now: Date) =>
  db
    .update(cacheRules)
    .set({ ranAt: now, said: said.slice(0, 500) })
    .where(eq(cacheRules.id, ruleId));
