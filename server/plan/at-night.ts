// All that happens by itself while it is night: rules for caches, what was set aside long enough, projects in work that are archived
// with their media, copies that are due to be read back, and the backup of the catalogue. Called by every worker once a minute.
import { isNight } from '#core/nights/nights.ts';
import { readBackDue } from '../archives/due-read-backs.ts';
import { askForNightlyBackup, lastOwnBackup } from '../backup/own-backup.ts';
import type { Database } from '../db/connect.ts';
import { isFirstOfNight, NIGHT_RULES, runDueRules } from './night.ts';
import { archiveAtNight } from './night-projects.ts';
import { emptyDueAside } from './night-aside.ts';

export async function workAtNight(db: Database, now: Date): Promise<void> {
  await runDueRules(db, now);
  await emptyDueAside(db, now);
  await archiveAtNight(db, now);
  await readBackAtNight(db, now);
  await backUpAtNight(db, now);
}

const BACKUPS = 'catalogue backed up at night';

/** A night after which none was made was missed. */
const MISSED_MS = 26 * 3_600_000;

/** Begins the backup of the catalogue, once a night; by day where the last night was missed. Gives whether it did. */
export async function backUpAtNight(db: Database, now: Date): Promise<boolean> {
  const last = await lastOwnBackup(db);
  const isMissed = last !== null && now.getTime() - last.atMs > MISSED_MS;
  if (!(isNight(now) || isMissed) || !(await isFirstOfNight(db, BACKUPS, now))) return false;
  return askForNightlyBackup(db, NIGHT_RULES, now);
}

const READ_BACKS = 'copies read back at night';

/** Begins the read-backs that the house wants by now, once a night. Gives how many. */
export async function readBackAtNight(db: Database, now: Date): Promise<number> {
  if (!isNight(now) || !(await isFirstOfNight(db, READ_BACKS, now))) return 0;
  return readBackDue(db, { who: NIGHT_RULES, now });
}
