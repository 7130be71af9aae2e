// Asks for new versions of documents in which clips have the files a person chose. The worker writes them.
import { eq, inArray } from 'drizzle-orm';
import type { JobId, ProjectId } from '#core/model.ts';
import { counted } from '#core/wording/amounts.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { files } from '../db/schema/catalogue.ts';
import { documents, media } from '../db/schema/documents.ts';
import { projects } from '../db/schema/projects.ts';
import { enqueue } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';

export async function askToRelink(
  db: Database,
  { projectId, choices }: { projectId: ProjectId; choices: readonly { mediaId: number; fileId: number }[] },
  { who, now }: { who: string; now: Date },
): Promise<JobId> {
  if (new Set(choices.map((choice) => choice.mediaId)).size !== choices.length || choices.length === 0)
    throw new Refused('Choose one file for each clip. Nothing was asked for.');
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const rows = await db
    .select({ projectId: media.projectId, volumeId: files.volumeId, format: documents.format, name: files.name })
    .from(media)
    .innerJoin(documents, eq(documents.id, media.documentId))
    .innerJoin(files, eq(files.id, documents.fileId))
    .where(
      inArray(
        media.id,
        choices.map((choice) => choice.mediaId),
      ),
    );
  if (!project || rows.length !== choices.length || rows.some((row) => row.projectId !== projectId))
    throw new Refused('The documents were read anew since, so the choice no longer fits. Look again and choose anew.');
  const fixed = rows.find((row) => row.format === 'dawproject' || /\.otioz$/i.test(row.name));
  if (fixed)
    throw new Refused(
      `${fixed.name} is a bundle that Keramion reads and does not write. Relink it in the program that wrote it; nothing was asked for.`,
    );
  return inTransaction(db, (tx) =>
    enqueue(
      tx,
      {
        kind: 'relink',
        title: `Relink ${counted(choices.length, 'clip')} of ${project.name}`,
        params: { projectId, choices: choices.map(({ mediaId, fileId }) => ({ mediaId, fileId })) },
        who,
        volumes: [...new Set(rows.map((row) => row.volumeId))],
      },
      now,
    ),
  );
}
