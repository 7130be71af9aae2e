// Documents whose last reading did not work.
import { and, eq, isNull } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import type { Database } from '../db/connect.ts';
import { files } from '../db/schema/catalogue.ts';
import { documents } from '../db/schema/documents.ts';

export async function brokenDocuments(
  db: Database,
): Promise<{ projectId: ProjectId; name: string; trouble: string }[]> {
  const rows = await db
    .select({ projectId: documents.projectId, name: documents.name, trouble: documents.trouble })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(and(eq(documents.state, 'broken'), isNull(files.goneAt)));
  return rows.map((row) => ({
    projectId: row.projectId as ProjectId,
    name: row.name,
    trouble: row.trouble ?? 'it is broken',
  }));
}
