// Conditions on names and numbers that the query builder has no words for, or is slow with.
import { type SQL, sql } from 'drizzle-orm';

/** A name with a part in it, in any case, with nothing in it taken for a pattern: true where the column has the word in it. `column` is ours, never what somebody typed. */
export const hasPart = (column: SQL | { getSQL(): SQL }, word: string): SQL =>
  sql`${column} COLLATE utf8mb4_general_ci LIKE ${`%${word.replace(/[\\%_]/g, (c) => `\\${c}`)}%`}`;

/** Many numbers in one list: as text, since the builder makes objects of every parameter. Throws RangeError where one is no whole number, or there is none. */
export const idList = (ids: readonly number[]): SQL => sql.raw(tuple(ids));

/** The same for rows of numbers, as VALUES has them. */
export const numberRows = (rows: readonly (readonly number[])[]): SQL => sql.raw(rows.map(tuple).join(','));

function tuple(numbers: readonly number[]): string {
  if (numbers.length === 0 || !numbers.every(Number.isSafeInteger))
    throw new RangeError('A list of whole numbers was expected.');
  return `(${numbers.join(',')})`;
}
