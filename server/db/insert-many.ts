// Many rows of a table at once, as LOAD DATA takes them: the query builder makes several objects of every value, which for thousands of
// rows takes longer than the database takes to write them.
import { getTableColumns, getTableName } from 'drizzle-orm';
import type { MySqlColumn, MySqlTable } from 'drizzle-orm/mysql-core';
import { rowOf } from '#core/load-rows.ts';
import { loadRows, type Transaction } from './connect.ts';

/**
 * Writes all of them or throws. What a row leaves out has its default, or no value; nothing is worked out by the database.
 * @param rows as the query builder would take them, without SQL
 */
export async function insertMany<Table extends MySqlTable>(
  tx: Transaction,
  table: Table,
  rows: readonly Table['$inferInsert'][],
): Promise<void> {
  const used = new Set(rows.flatMap((row) => Object.keys(row)));
  const columns = Object.entries(getTableColumns(table)).filter(([name]) => used.has(name)) as [string, MySqlColumn][];
  const isBytes = columns.map(([, column]) => /binary|blob/.test(column.getSQLType()));
  const places = columns.map(([, { name }], i) => (isBytes[i] ? `@${name}` : `\`${name}\``));
  const set = columns.flatMap(([, { name }], i) => (isBytes[i] ? [`\`${name}\` = UNHEX(@${name})`] : []));
  const text = (row: Record<string, unknown>) =>
    rowOf(columns.map(([name, column]) => plain(column, row[name] === undefined ? column.default : row[name])));
  await loadRows(
    tx.$connection,
    `\`${getTableName(table)}\` CHARACTER SET utf8mb4 (${places.join(', ')})${set.length > 0 ? ` SET ${set.join(', ')}` : ''}`,
    rows.map(text),
  );
}

function plain(column: MySqlColumn, value: unknown): string | number | null {
  if (value === null || value === undefined) return null;
  const driven: unknown = column.mapToDriverValue(value);
  if (typeof driven === 'string' || typeof driven === 'number') return driven;
  if (typeof driven === 'boolean') return Number(driven);
  if (driven instanceof Uint8Array) return Buffer.from(driven).toString('hex');
  throw new Error(`A value of ${column.name} cannot be loaded.`);
}
