// A part of a name as the database looks for it: in any case, with nothing in it taken for a pattern.
import { type SQL, sql } from 'drizzle-orm';

/** True where the column has the word in it. `column` is ours, never what somebody typed. */
export const hasPart = (column: SQL | { getSQL(): SQL }, word: string): SQL =>
  sql`${column} COLLATE utf8mb4_general_ci LIKE ${`%${word.replace(/[\\%_]/g, (c) => `\\${c}`)}%`}`;
