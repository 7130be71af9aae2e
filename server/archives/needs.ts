// What the documents that go into a package name and no media file is: asked before it is written, and told in it.
import { and, eq, inArray, isNotNull } from 'drizzle-orm';
import type { Needs } from '#core/documents/needs.ts';
import type { Db } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { documents } from '../db/schema/documents.ts';

/** Of documents, by the files that they are: each name once. */
export async function needsOfDocuments(db: Db, fileIds: readonly number[]): Promise<Needs> {
  const fonts = new Set<string>();
  const plugins = new Set<string>();
  for (const ids of inSlices(fileIds)) {
    const rows = await db
      .select({ needs: documents.needs })
      .from(documents)
      .where(and(inArray(documents.fileId, [...ids]), eq(documents.state, 'read'), isNotNull(documents.needs)));
    for (const { needs } of rows) {
      for (const font of needs?.fonts ?? []) fonts.add(font);
      for (const plugin of needs?.plugins ?? []) plugins.add(plugin);
    }
  }
  return { fonts: [...fonts].sort(), plugins: [...plugins].sort() };
}
