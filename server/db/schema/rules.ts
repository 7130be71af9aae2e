// Rules by which caches go: what they take is always what rebuilds itself.
import { boolean, index, int, mysqlEnum, mysqlTable, varchar } from 'drizzle-orm/mysql-core';

import { amount, at, id, jsonOf } from './columns.ts';

export const cacheRules = mysqlTable(
  'cache_rules',
  {
    id: id(),
    volumeId: amount('volume_id').notNull(),
    /** Of one project alone; null: of all. */
    projectId: amount('project_id'),
    by: mysqlEnum('by_', ['age', 'cap']).notNull(),
    days: int('days'),
    capBytes: amount('cap_bytes'),
    /** Folders that it leaves alone, inside the volume. */
    except: jsonOf<string[]>('except_').notNull(),
    /** Runs at night by itself; else it is only looked at. */
    atNight: boolean('at_night').notNull(),
    /** The most that it takes in one night. */
    mostBytes: amount('most_bytes').notNull(),
    createdAt: at('created_at').notNull(),
    ranAt: at('ran_at'),
    /** What came of it then, in words. */
    said: varchar('said', { length: 500 }),
  },
  (t) => [index('cache_rules_volume').on(t.volumeId)],
);
