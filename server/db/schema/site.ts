// What the site as a whole is called, and small facts kept by key.
import { mysqlTable, text, varchar } from 'drizzle-orm/mysql-core';
import {} from './columns.ts';

export const site = mysqlTable('site', {
  key: varchar('key', { length: 64 }).primaryKey(),
  value: text('value').notNull(),
});
