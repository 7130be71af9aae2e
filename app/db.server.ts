// The interface's one way to the database, opened when it is first needed. Loaders and actions call it.
import { connect, type Database } from '#server/db/connect.ts';
import { type NameIndex, nameIndex } from '#server/search/names.ts';
import { settings } from '#server/settings.ts';

let database: Database | null = null;

let names: NameIndex | null = null;

/** The names of the whole site in memory, for the search field. */
export const nameList = (): NameIndex => (names ??= nameIndex(settings().databaseUrl));

export const db = (): Database => (database ??= connect(settings().databaseUrl));
