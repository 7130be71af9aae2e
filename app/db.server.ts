// The interface's one way to the database, opened when it is first needed. Loaders and actions call it.
import { connect, type Database } from '#server/db/connect.ts';
import { settings } from '#server/settings.ts';

let database: Database | null = null;

export const db = (): Database => (database ??= connect(settings().databaseUrl));
