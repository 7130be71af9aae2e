// All that happens by itself while it is night: rules for caches, what was set aside long enough, copies that are due to be read
// back, and the backup of the catalogue. Called by every worker once a minute.
import { readBackDue } from '../archives/due-read-backs.ts';
import { askForNightlyBackup } from '../backup/own-backup.ts';
import type { Database } from '../db/connect.ts';
import { isFirstOfNight, isNight, NIGHT_RULES, runDueRules } from './night.ts';
import { emptyDueAside } from './night-aside.ts';

export async function workAtNight(db: Database, now: Date): Promise<void> {
  await runDueRules(db, now);
  await emptyDueAside(db, now);
  await readBackAtNight(db, now);
  await backUpAtNight(db, now);
}

const BACKUPS = 'catalogue backed up at night';

/** Begins the backup of the catalogue, once a night. Gives whether it did. */
export async function backUpAtNight(db: Database, now: Date): Promise<boolean> {
  if (!isNight(now) || !(await isFirstOfNight(db, BACKUPS, now))) return false;
  return askForNightlyBackup(db, NIGHT_RULES, now);
}

const READ_BACKS = 'copies read back at night';

/** Begins the read-backs that the house wants by now, once a night. Gives how many. */
export async function readBackAtNight(db: Database, now: Date): Promise<number> {
  if (!isNight(now) || !(await isFirstOfNight(db, READ_BACKS, now))) return 0;
  return readBackDue(db, { who: NIGHT_RULES, now });
}
