// Where snapshots of documents go, how often they are made, and how long they stay: as the house has said.
import { eq } from 'drizzle-orm';
import { type SnapshotRule, snapshotRule } from '#core/snapshots/snapshots.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
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
    const [volume] = await tx
      .select()
      .from(volumes)
      .where(eq(volumes.id, rule.volumeId ?? 0));
    if (rule.volumeId !== null && (!volume || volume.retiredAt !== null))
      throw new Refused('There is no such volume. Nothing was saved; choose another.');
    if (volume?.readOnly)
      throw new Refused(`${volume.name} cannot be written to. Nothing was saved; choose another volume.`);
    const before = await snapshotRuleOf(tx);
    const value = JSON.stringify(rule);
    await tx.insert(site).values({ key: RULE, value }).onDuplicateKeyUpdate({ set: { value } });
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'snapshots changed', files: 0, bytes: 0, held: 0 },
      title: volume ? `Snapshots of documents go to ${volume.name}` : 'No snapshots of documents are made',
      ...{ facts: { before, after: rule }, itemsSha256: itemsHash([]) },
    });
  });
}

const TROUBLE = 'document snapshots failed';

/** Why the last try failed, since when; null where it did not. */
export async function snapshotTrouble(db: Db): Promise<{ atMs: number; trouble: string } | null> {
  const [row] = await db.select().from(site).where(eq(site.key, TROUBLE));
  return row ? (JSON.parse(row.value) as { atMs: number; trouble: string }) : null;
}

export async function noteTrouble(tx: Transaction, trouble: string | null, now: Date): Promise<void> {
  if (trouble === null) return void (await tx.delete(site).where(eq(site.key, TROUBLE)));
  const value = JSON.stringify({ atMs: now.getTime(), trouble });
  await tx.insert(site).values({ key: TROUBLE, value }).onDuplicateKeyUpdate({ set: { value } });
}
