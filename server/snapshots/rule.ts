// Where snapshots of documents go, how often they are made, and how long they stay: as the house has said.
import { eq, like } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import {
  placesOf,
  type ProjectSnapshots,
  projectSnapshots,
  type SnapshotRule,
  snapshotRule,
} from '#core/snapshots/snapshots.ts';
import { counted, listed } from '#core/wording/amounts.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { projects } from '../db/schema/projects.ts';
import { site } from '../db/schema/site.ts';
import { volumes } from '../db/schema/stores.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';

const RULE = 'document snapshots';

export async function snapshotRuleOf(db: Db): Promise<SnapshotRule> {
  const [row] = await db.select().from(site).where(eq(site.key, RULE));
  const parsed = row ? snapshotRule.safeParse(JSON.parse(row.value)) : null;
  return parsed?.success ? parsed.data : snapshotRule.parse({});
}

export async function setSnapshotRule(
  db: Database,
  rule: SnapshotRule,
  { who, now }: { who: string; now: Date },
): Promise<void> {
  await inTransaction(db, async (tx) => {
    const names: string[] = [];
    if (rule.alsoVolumeId !== null && (rule.volumeId === null || rule.alsoVolumeId === rule.volumeId))
      throw new Refused('The second place has to be another volume than the first. Nothing was saved; choose another.');
    for (const id of placesOf(rule)) {
      const [volume] = await tx.select().from(volumes).where(eq(volumes.id, id));
      if (!volume || volume.retiredAt !== null)
        throw new Refused('There is no such volume. Nothing was saved; choose another.');
      if (volume.readOnly)
        throw new Refused(`${volume.name} cannot be written to. Nothing was saved; choose another volume.`);
      names.push(volume.name);
    }
    const before = await snapshotRuleOf(tx);
    const value = JSON.stringify(rule);
    await tx.insert(site).values({ key: RULE, value }).onDuplicateKeyUpdate({ set: { value } });
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'snapshots changed', files: 0, bytes: 0, held: 0 },
      title: names.length > 0 ? `Snapshots of documents go to ${listed(names)}` : 'No snapshots of documents are made',
      ...{ facts: { before, after: rule }, itemsSha256: itemsHash([]) },
    });
  });
}

const OWN = 'document snapshots of project ';

/** What projects want otherwise than the house, by their numbers. */
export async function projectSnapshotRules(db: Db): Promise<Map<number, ProjectSnapshots>> {
  const rows = await db
    .select()
    .from(site)
    .where(like(site.key, `${OWN}%`));
  return new Map(
    rows.flatMap(({ key, value }) => {
      const parsed = projectSnapshots.safeParse(JSON.parse(value));
      return parsed.success ? [[Number(key.slice(OWN.length)), parsed.data] as const] : [];
    }),
  );
}

/** What counts for a project's documents. */
export const rulesFor =
  (house: SnapshotRule, own: ReadonlyMap<number, ProjectSnapshots>) =>
  (projectId: number): ProjectSnapshots =>
    own.get(projectId) ?? { ...house, isOff: false };

/** Null: as the house says. */
export async function setProjectSnapshots(
  db: Database,
  { projectId, rule }: { projectId: ProjectId; rule: ProjectSnapshots | null },
  { who, now }: { who: string; now: Date },
): Promise<string> {
  return inTransaction(db, async (tx) => {
    const [project] = await tx.select().from(projects).where(eq(projects.id, projectId));
    if (!project) throw new Refused('There is no such project. Nothing was saved.');
    const before = (await projectSnapshotRules(tx)).get(projectId) ?? null;
    const key = `${OWN}${projectId}`;
    const value = JSON.stringify(rule);
    if (rule === null) await tx.delete(site).where(eq(site.key, key));
    else await tx.insert(site).values({ key, value }).onDuplicateKeyUpdate({ set: { value } });
    const says =
      rule === null
        ? 'as the house says'
        : rule.isOff
          ? 'none are made'
          : `at most every ${rule.everyMinutes === 1 ? 'minute' : counted(rule.everyMinutes, 'minute')}`;
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'snapshots of a project changed', projectId, files: 0, bytes: 0, held: 0 },
      title: `Snapshots of ${project.name}: ${says}`,
      ...{ facts: { before, after: rule }, itemsSha256: itemsHash([]) },
    });
    return says;
  });
}

const TROUBLE = 'document snapshots failed';

/** Why the last try to a volume failed, since when; null where it did not. */
export async function snapshotTrouble(db: Db, onVolumeId: number): Promise<{ atMs: number; trouble: string } | null> {
  const [row] = await db
    .select()
    .from(site)
    .where(eq(site.key, `${TROUBLE} ${onVolumeId}`));
  return row ? (JSON.parse(row.value) as { atMs: number; trouble: string }) : null;
}

export async function noteTrouble(
  tx: Transaction,
  onVolumeId: number,
  { trouble, now }: { trouble: string | null; now: Date },
): Promise<void> {
  const key = `${TROUBLE} ${onVolumeId}`;
  if (trouble === null) return void (await tx.delete(site).where(eq(site.key, key)));
  const value = JSON.stringify({ atMs: now.getTime(), trouble });
  await tx.insert(site).values({ key, value }).onDuplicateKeyUpdate({ set: { value } });
}
