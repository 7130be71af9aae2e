// Rows that are loaded are the very rows that the query builder would have written.
import fc from 'fast-check';
import { sql } from 'drizzle-orm';
import { boolean, int, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { testDatabase, type TestDatabase } from '#test/database.ts';
import { inTransaction } from './connect.ts';
import { insertMany } from './insert-many.ts';
import { amount, at, bytes, id, jsonOf } from './schema/columns.ts';

const columns = {
  name: varchar('name', { length: 200 }).notNull(),
  note: varchar('note', { length: 200 }),
  many: amount('many').notNull().default(7),
  raw: bytes('raw', 'varbinary(200)'),
  isOne: boolean('is_one').notNull().default(false),
  what: jsonOf<unknown>('what'),
  since: at('since'),
  only: int('only').notNull().default(3),
};
const loaded = mysqlTable('loaded', { id: id(), ...columns });
const built = mysqlTable('built', { id: id(), ...columns });

let own: TestDatabase;
beforeAll(async () => {
  own = await testDatabase();
  for (const name of ['loaded', 'built'])
    await own.db
      .execute(sql`CREATE TABLE ${sql.identifier(name)} (id BIGINT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(200) NOT NULL, note VARCHAR(200),
      many BIGINT NOT NULL DEFAULT 7, raw VARBINARY(200), is_one BOOLEAN NOT NULL DEFAULT FALSE, what JSON, since DATETIME(3), only INT NOT NULL DEFAULT 3)`);
});
afterAll(() => own.drop());

const text = fc.oneof(
  fc.string({ maxLength: 40 }),
  fc.string({ maxLength: 20, unit: 'grapheme' }),
  fc.constantFrom('', '\\N', '\\', 'a\tb\nc\r\0', "'; --", 'NULL'),
);
const row = fc.record(
  {
    name: text,
    note: fc.option(text),
    many: fc.maxSafeInteger(),
    raw: fc.option(fc.uint8Array({ maxLength: 60 }).map((all) => Buffer.from(all))),
    isOne: fc.boolean(),
    what: fc.option(
      fc.oneof(
        fc.constantFrom<unknown>([], {}, [[1, 2]]),
        fc.array(text).map((list) => ({ list })),
      ),
    ),
    since: fc.option(fc.date({ min: new Date('1990-01-01'), max: new Date('2090-01-01'), noInvalidDate: true })),
  },
  { requiredKeys: ['name'] },
);

test('whatever is in them', () =>
  fc.assert(
    fc.asyncProperty(fc.array(row, { minLength: 1, maxLength: 30 }), async (rows) => {
      await own.db.delete(loaded);
      await own.db.delete(built);
      await own.db.insert(built).values(rows);
      await inTransaction(own.db, (tx) => insertMany(tx, loaded, rows));
      const [one, other] = [await own.db.select().from(loaded), await own.db.select().from(built)];
      const without = (all: typeof one) => all.map(({ id: _id, ...rest }) => rest);
      expect(without(one)).toEqual(without(other));
      expect(one).toHaveLength(rows.length);
    }),
    { numRuns: 60 },
  ));

test('what does not fit throws, and nothing is written', async () => {
  await own.db.delete(loaded);
  const rows = [{ name: 'fits' }, { name: 'x'.repeat(201) }];
  await expect(inTransaction(own.db, (tx) => insertMany(tx, loaded, rows))).rejects.toMatchObject({
    code: 'load_data_warning',
  });
  expect(await own.db.select().from(loaded)).toEqual([]);
});

test('none are none', async () => {
  await own.db.delete(loaded);
  await inTransaction(own.db, (tx) => insertMany(tx, loaded, []));
  expect(await own.db.$count(loaded)).toBe(0);
});
