// What the site as a whole is called.
import { eq } from 'drizzle-orm';
import type { Database } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';

export async function nameSite(db: Database, name: string): Promise<void> {
  await db
    .insert(site)
    .values({ key: 'name', value: name })
    .onDuplicateKeyUpdate({ set: { value: name } });
}

export async function siteName(db: Database): Promise<string> {
  const [row] = await db.select().from(site).where(eq(site.key, 'name'));
  return row?.value ?? '';
}
