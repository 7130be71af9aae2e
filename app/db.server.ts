// The interface's one way to the database, opened when it is first needed. Loaders and actions call it.
import { type Asking, asking } from '#server/db/answers.ts';
import { connect, type Database } from '#server/db/connect.ts';
import { type NameIndex, nameIndex } from '#server/search/names.ts';
import { settings } from '#server/settings.ts';

let database: Database | null = null;

let names: NameIndex | null = null;

/** The names of the whole site in memory, for the search field. */
export const nameList = (): NameIndex => (names ??= nameIndex(settings().databaseUrl));

export const db = (): Database => (database ??= connect(settings().databaseUrl));

let asked: Asking | null = null;

/** Whether the database answers: asked before a page is made, so that it says so instead of being waited for. */
export const databaseAnswers = (): Promise<boolean> => (asked ??= asking(settings().databaseUrl)).answers();
