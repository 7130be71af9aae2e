// What Keramion tells by itself: messages on their way, and what was told already.
import { index, int, mediumtext, mysqlEnum, mysqlTable, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { at, id } from './columns.ts';

/** Messages: each goes out once, as often as it is tried. */
export const messages = mysqlTable(
  'messages',
  {
    id: id(),
    by: mysqlEnum('by', ['mail', 'webhook']).notNull(),
    kind: mysqlEnum('kind', ['morning', 'alert', 'event', 'test']).notNull(),
    /** What it tells: the same is never put down twice. */
    about: varchar('about', { length: 450 }).notNull(),
    subject: varchar('subject', { length: 500 }).notNull(),
    /** The text of a mail; the JSON of a webhook. */
    body: mediumtext('body').notNull(),
    madeAt: at('made_at').notNull(),
    /** When it is tried next; while it is on its way, when it would be tried again. */
    dueAt: at('due_at').notNull(),
    tries: int('tries').notNull().default(0),
    sentAt: at('sent_at'),
    gaveUpAt: at('gave_up_at'),
    /** Why the last try did not work. */
    trouble: varchar('trouble', { length: 500 }),
  },
  (t) => [uniqueIndex('messages_about').on(t.by, t.about), index('messages_due').on(t.sentAt, t.gaveUpAt, t.dueAt)],
);

/** Decisions that were told between mornings, as long as they are true and a while longer. */
export const alerts = mysqlTable('alerts', {
  /** The key of the decision. */
  decision: varchar('decision', { length: 400 }).primaryKey(),
  since: at('since').notNull(),
  /** Since when it is no longer true. */
  endedAt: at('ended_at'),
});
