// Setting aside the media of chosen clips: what of it no timeline uses, and the project owns.
import { sql } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { MEDIA_KINDS } from '../db/naming.ts';
import { NothingToAdd } from './adding.ts';
import { addSettingAsideIn } from './set-aside.ts';

/** True for a file f that an archive has, read back as it is now. */
const ARCHIVED = sql.raw(
  `EXISTS (SELECT 1 FROM archive_files r JOIN copy_files c ON c.archive_file_id = r.id AND c.state = 'read back'
    JOIN copy_parts p ON p.id = c.copy_part_id AND p.state = 'good' WHERE r.file_id = f.id AND r.size_bytes = f.size_bytes AND r.modified_us = f.modified_us)`,
);

/** A step for what an archive has, another for the only copies; all of it or nothing. */
export async function addClipsAside(
  db: Database,
  {
    projectId,
    project,
    clipIds,
    now,
  }: { projectId: ProjectId; project: string; clipIds: readonly number[]; now: Date },
): Promise<{ files: number; bytes: number }> {
  const own = sql`f.project_id = ${projectId} AND f.kind IN ${MEDIA_KINDS} AND f.id IN (
    SELECT t.file_id FROM clips c JOIN documents o ON o.id = c.document_id AND o.project_id = ${projectId}
    JOIN media_targets t ON t.media_id = c.media_id WHERE c.id IN ${[...clipIds, 0]})`;
  return inTransaction(db, async (tx) => {
    const sum = { files: 0, bytes: 0 };
    let refused: NothingToAdd | null = null;
    for (const level of [2, 3] as const)
      try {
        const added = await addSettingAsideIn(tx, {
          params: { what: `unused media of ${project}`.slice(0, 200), reason: 'no timeline uses it', level },
          chosen: sql`${own} AND ${level === 2 ? ARCHIVED : sql`NOT ${ARCHIVED}`}`,
          now,
        });
        sum.files += added.files;
        sum.bytes += added.bytes;
      } catch (error) {
        if (!(error instanceof NothingToAdd)) throw error;
        refused = error;
      }
    if (sum.files === 0) throw refused!;
    return sum;
  });
}
