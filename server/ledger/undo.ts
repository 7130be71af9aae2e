// What can be undone from its receipt: changes of what the catalogue says and the house wants. Nothing on a disk is undone here; for that
// there is the plan. Undone is only what is still as the change left it, and undoing is one more receipt.
import { eq } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { backupRule, ownBackupRule, setOwnBackupRule } from '../backup/own-backup.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { receipts } from '../db/schema/receipts.ts';
import { postRule, postRuleOf, setPostRule } from '../post/post-rule.ts';
import { type HomeFacts, takeHomeBack } from '../projects/homes.ts';
import { type StateFacts, takeStateBack } from '../projects/projects.ts';
import { takeFoldersBack, tellsGiven } from '../projects/give-folders.ts';
import { recomputeProjectSums } from '../readings/project-sums.ts';
import { itemsHash, type Receipt, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';
import { type HouseRules, houseRules, setHouseRules } from '../site/house-rules.ts';
import { nightHours, setNightHours } from '../site/night-hours.ts';
import { houseFacts, houseOf, setHouse } from '../site/site.ts';
import { bringBack, postponedNow } from '../site/postponed.ts';
import { projectSnapshotRules, setProjectSnapshots, setSnapshotRule, snapshotRuleOf } from '../snapshots/rule.ts';
import { nightOf, setProjectNight } from '../archives/project-nights.ts';
import { houseHours } from '#core/nights/hours.ts';
import { projectNight } from '#core/nights/project-nights.ts';
import { projectSnapshots, snapshotRule } from '#core/snapshots/snapshots.ts';

interface By {
  who: string;
  now: Date;
}

interface Undoing {
  /** Whether what it changed can be told from the receipt. */
  tells(facts: Receipt['facts']): boolean;
  /** False where it is not as the change left it: then nothing was changed. */
  undo(db: Database, receipt: Receipt, by: By): Promise<boolean>;
}

/** A rule of the house, kept whole before and after. */
function ofRule<Rule>(
  now: (db: Database) => Promise<Rule>,
  set: (db: Database, rule: Rule, by: By) => Promise<unknown>,
  parse: (facts: unknown) => Rule,
): Undoing {
  return {
    tells: ({ before, after }) => before !== undefined && after !== undefined,
    async undo(db, { facts }, by) {
      if (JSON.stringify(await now(db)) !== JSON.stringify(parse(facts.after))) return false;
      await set(db, parse(facts.before), by);
      return true;
    },
  };
}

/** In one transaction with its receipt. */
function ofProject(take: (tx: Transaction, projectId: ProjectId, facts: never) => Promise<boolean>): Undoing {
  return {
    tells: ({ before }) => before !== undefined,
    async undo(db, { id, action, title, projectId, facts }, { who, now }) {
      const project = projectId as ProjectId;
      const isDone = await inTransaction(db, async (tx) => {
        if (!(await take(tx, project, facts as never))) return false;
        await writeReceipt(tx, {
          ...{ at: now, who, action, title: `Undone: ${title}`.slice(0, 500), projectId: project },
          ...{ files: 0, bytes: 0, held: 0, facts: { undoes: id }, itemsSha256: itemsHash([]) },
        });
        return true;
      });
      if (isDone) await recomputeProjectSums(db, [project]);
      return isDone;
    },
  };
}

const UNDOING: Readonly<Record<string, Undoing>> = {
  'state changed': ofProject((tx, projectId, facts: StateFacts) => takeStateBack(tx, projectId, facts)),
  'home changed': ofProject((tx, projectId, facts: HomeFacts) => takeHomeBack(tx, projectId, facts)),
  'house rules changed': ofRule<HouseRules>(houseRules, setHouseRules, (facts) => facts as HouseRules),
  'own backup changed': ofRule(ownBackupRule, setOwnBackupRule, (facts) => backupRule.parse(facts)),
  'snapshots changed': ofRule(snapshotRuleOf, setSnapshotRule, (facts) => snapshotRule.parse(facts)),
  'snapshots of a project changed': {
    tells: ({ before, after }) => before !== undefined && after !== undefined,
    async undo(db, { projectId, facts }, by) {
      const [before, after] = [facts.before, facts.after].map((own) => (own ? projectSnapshots.parse(own) : null));
      const now = (await projectSnapshotRules(db)).get(projectId!) ?? null;
      if (JSON.stringify(now) !== JSON.stringify(after)) return false;
      await setProjectSnapshots(db, { projectId: projectId as ProjectId, rule: before! }, by);
      return true;
    },
  },
  'nights of a project changed': {
    tells: ({ before, after }) => before !== undefined && after !== undefined,
    async undo(db, { projectId, facts }, by) {
      const [before, after] = [facts.before, facts.after].map((own) => (own ? projectNight.parse(own) : null));
      const id = projectId as ProjectId;
      if (JSON.stringify(await nightOf(db, id)) !== JSON.stringify(after)) return false;
      await setProjectNight(db, { projectId: id, rule: before! }, by);
      return true;
    },
  },
  'house changed': ofRule(houseOf, setHouse, (facts) => houseFacts.parse(facts)),
  'hours changed': ofRule(nightHours, setNightHours, (facts) => houseHours.parse(facts)),
  'folders given': {
    tells: tellsGiven,
    undo: (db, { id, title, projectId, facts }, by) =>
      takeFoldersBack(db, facts, { projectId: projectId as ProjectId, receipt: { id, title } }, by),
  },
  'post changed': ofRule(postRuleOf, setPostRule, (facts) => postRule.parse(facts)),
  'decision put off': {
    tells: ({ key }) => typeof key === 'string',
    async undo(db, { facts }, by) {
      const key = String(facts.key);
      if (!(await postponedNow(db, by.now)).has(key)) return false;
      await bringBack(db, key, by);
      return true;
    },
  },
};

/** Whether a receipt is of a change that can be undone. */
export const canBeUndone = ({ action, facts }: Pick<Receipt, 'action' | 'facts'>): boolean =>
  UNDOING[action]?.tells(facts) ?? false;

/** Undoes what a receipt is of, and gives what it was. Throws Refused where that cannot be, or somebody changed it since. */
export async function undoReceipt(db: Database, receiptId: number, by: By): Promise<string> {
  const [receipt] = await db.select().from(receipts).where(eq(receipts.id, receiptId));
  if (!receipt) throw new Refused('There is no such receipt. Nothing was changed.');
  if (!canBeUndone(receipt))
    throw new Refused('What this receipt is of cannot be undone from here. Nothing was changed.');
  if (!(await UNDOING[receipt.action]!.undo(db, receipt, by)))
    throw new Refused('It was changed again since, so nothing was undone. Change it where it is.');
  return receipt.title;
}
