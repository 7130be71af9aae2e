// The random mark of this database: what it leaves on disks carries it, so that no other database of ours, and no copy
// under another site, takes that for its own.
import { eq } from 'drizzle-orm';
import type { Db } from './connect.ts';
import { site } from './schema/site.ts';

export async function siteMark(db: Db): Promise<string> {
  const [row] = await db.select().from(site).where(eq(site.key, 'mark'));
  if (!row) throw new Error('This database has no mark of its own: its tables are not up to date.');
  return row.value;
}
