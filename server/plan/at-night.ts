// All that happens by itself while it is night: rules for caches, what was set aside long enough, projects in work that are archived
// with their media, copies that are due to be read back, and the backup of the catalogue. Called by every worker once a minute.
import { hoursFor, spanBefore } from '#core/nights/hours.ts';
import { readBackDue } from '../archives/due-read-backs.ts';
import { askForNightlyBackup, lastOwnBackup } from '../backup/own-backup.ts';
import type { Database } from '../db/connect.ts';
import { begunMs, nightHours } from '../site/night-hours.ts';
import { isFirstSince, NIGHT_RULES, runDueRules } from './night.ts';
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

/** Begins the backup of the catalogue, once in its hours; outside of them, once, where the last ones went by without. Gives whether it did. */
export async function backUpAtNight(db: Database, now: Date): Promise<boolean> {
  const sinceMs = (await begunMs(db, 'backup', now)) ?? (await missedMs(db, now));
  if (sinceMs === null || !(await isFirstSince(db, BACKUPS, { sinceMs, now }))) return false;
  return askForNightlyBackup(db, NIGHT_RULES, now);
}

/** When the hours ended in which one was to be made and none was; null where there are none. */
async function missedMs(db: Database, now: Date): Promise<number | null> {
  const last = await lastOwnBackup(db);
  const own = hoursFor(await nightHours(db), 'backup');
  if (last === null || own === null) return null;
  const { fromMs, toMs } = spanBefore(own, now);
  return last.atMs < fromMs ? toMs : null;
}

const READ_BACKS = 'copies read back at night';

/** Begins the read-backs that the house wants by now, once a night. Gives how many. */
export async function readBackAtNight(db: Database, now: Date): Promise<number> {
  const sinceMs = await begunMs(db, 'read backs', now);
  if (sinceMs === null || !(await isFirstSince(db, READ_BACKS, { sinceMs, now }))) return 0;
  return readBackDue(db, { who: NIGHT_RULES, now });
}
