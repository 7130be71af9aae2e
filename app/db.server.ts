// The interface's one way to the database, opened when it is first needed. Loaders and actions call it.
import { type Asking, asking } from '#server/db/answers.ts';
import { connect, type Database } from '#server/db/connect.ts';
import { type NameIndex, nameIndex } from '#server/search/names.ts';
import { settings } from '#server/settings.ts';
import { followHouseTime } from '#server/site/site.ts';

let database: Database | null = null;

let names: NameIndex | null = null;

/** The names of the whole site in memory, for the search field. */
export const nameList = (): NameIndex => (names ??= nameIndex(settings().databaseUrl));

export const db = (): Database => (database ??= connect(settings().databaseUrl));

let asked: Asking | null = null;

/** Whether the database answers: asked before a page is made, so that it says so instead of being waited for. */
export const databaseAnswers = (): Promise<boolean> => (asked ??= asking(settings().databaseUrl)).answers();

const ZONE_HOLDS_MS = 5_000;
let zoneAskedAt = 0;

/** Another process may have said otherwise: asked again now and then. */
export async function keepHouseTime(): Promise<void> {
  if (Date.now() - zoneAskedAt < ZONE_HOLDS_MS) return;
  await followHouseTime(db());
  zoneAskedAt = Date.now();
}
