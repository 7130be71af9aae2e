// Kinds of columns that the tables share. Byte and frame counts are bigint read as numbers: all stay below 2^53. The
// database's collation compares byte for byte (see the first migration): 'a' and 'a ' are two names.
import { bigint, customType, datetime } from 'drizzle-orm/mysql-core';

export const amount = (name: string) => bigint(name, { mode: 'number' });
export const id = () => amount('id').primaryKey().autoincrement();
export const at = (name: string) => datetime(name, { mode: 'date', fsp: 3 });
export const bytes = (name: string, type: string) => customType<{ data: Buffer }>({ dataType: () => type })(name);
/** JSON; MariaDB hands it over as text. */
export const jsonOf = <T>(name: string) =>
  customType<{ data: T; driverData: string }>({
    dataType: () => 'json',
    toDriver: (value) => JSON.stringify(value),
    fromDriver: (value) => (typeof value === 'string' ? (JSON.parse(value) as T) : value),
  })(name);
/** Paths up to 4,095 bytes. */
export const longPath = customType<{ data: string }>({ dataType: () => 'varchar(4096)' });
