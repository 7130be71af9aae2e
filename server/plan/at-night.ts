// All that happens by itself while it is night: rules for caches, what was set aside long enough, and copies that are due to be read
// back. Called by every worker once a minute.
import { readBackDue } from '../archives/due-read-backs.ts';
import type { Database } from '../db/connect.ts';
import { isFirstOfNight, isNight, NIGHT_RULES, runDueRules } from './night.ts';
import { emptyDueAside } from './night-aside.ts';

export async function workAtNight(db: Database, now: Date): Promise<void> {
  await runDueRules(db, now);
  await emptyDueAside(db, now);
  await readBackAtNight(db, now);
}

const READ_BACKS = 'copies read back at night';

/** Begins the read-backs that the house wants by now, once a night. Gives how many. */
export async function readBackAtNight(db: Database, now: Date): Promise<number> {
  if (!isNight(now) || !(await isFirstOfNight(db, READ_BACKS, now))) return 0;
  return readBackDue(db, { who: NIGHT_RULES, now });
}
