// Shapes of archives that are kept by name: what goes in and how, never of which project. Offered where an archive is shaped.
import { asc, eq } from 'drizzle-orm';
import type { ArchiveScope } from '#core/archive/selection.ts';
import { archiveScope } from '#core/steps/archive.ts';
import type { Database } from '../db/connect.ts';
import { shapes } from '../db/schema/archives.ts';
import { Refused } from '../runtime/refused.ts';

const MOST_SHAPES = 100;

export interface NamedShape {
  name: string;
  scope: ArchiveScope;
}

export async function namedShapes(db: Database): Promise<NamedShape[]> {
  const rows = await db.select().from(shapes).orderBy(asc(shapes.name));
  return rows.flatMap(({ name, scope }) => {
    const parsed = archiveScope.safeParse(scope);
    return parsed.success ? [{ name, scope: parsed.data }] : [];
  });
}

/** Keeps a shape, in place of one of the same name. Timelines and files are one project's own and stay out. */
export async function keepShape(
  db: Database,
  { name, scope }: NamedShape,
  { who, now }: { who: string; now: Date },
): Promise<void> {
  const wanted = name.trim();
  if (wanted === '') throw new Refused('A shape needs a name. Nothing was saved.');
  const own = await namedShapes(db);
  if (own.length >= MOST_SHAPES && !own.some((shape) => shape.name === wanted))
    throw new Refused(`There are ${MOST_SHAPES} shapes already. Remove one first. Nothing was saved.`);
  const handles = scope.handles && { ...scope.handles, own: undefined };
  const values = { scope: { ...scope, handles, timelines: [], bins: [], files: [] }, savedBy: who, savedAt: now };
  await db
    .insert(shapes)
    .values({ name: wanted, ...values })
    .onDuplicateKeyUpdate({ set: values });
}

export async function forgetShape(db: Database, name: string): Promise<void> {
  await db.delete(shapes).where(eq(shapes.name, name));
}
