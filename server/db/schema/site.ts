// What the site as a whole is called, and small facts kept by key.
import { mysqlTable, text, varchar } from 'drizzle-orm/mysql-core';
import { at } from './columns.ts';

/** Decisions that wait on purpose: they stay true, and are told again from a day on. */
export const postponed = mysqlTable('postponed', {
  /** The key of the decision. */
  decision: varchar('decision', { length: 400 }).primaryKey(),
  /** What it said then. */
  what: varchar('what', { length: 500 }).notNull(),
  until: at('until').notNull(),
  reason: varchar('reason', { length: 300 }).notNull(),
  who: varchar('who', { length: 120 }).notNull(),
});

export const site = mysqlTable('site', {
  key: varchar('key', { length: 64 }).primaryKey(),
  value: text('value').notNull(),
});
