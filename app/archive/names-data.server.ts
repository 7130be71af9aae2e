// Old and new names of all that would go into an archive, before anything is written: CSV (RFC 4180).
import type { Route } from './+types/names-data';
import type { ProjectId } from '#core/model.ts';
import { csvText } from '#core/wording/csv.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';
import { rowsOf, shaped } from './shape.server';

const HEAD = ['inside', 'volume', 'path', 'bytes', 'exact', 'renamed', 'in the earlier archive', 'stays whole because'];

export async function loader({ params, request }: Route.LoaderArgs) {
  const { project, selection, scope, held } = await shaped(
    idFrom(params.projectId, 'project') as ProjectId,
    new URL(request.url).searchParams,
  );
  const volumes = new Map((await rackVolumes(db())).map((volume) => [volume.volumeId, volume.name]));
  const yes = (is: boolean) => (is ? 'yes' : 'no');
  const rows = selection.chosen.flatMap((file) =>
    rowsOf(file, scope, held?.has(file.fileId) ?? false).map((row) => [
      ...[row.payloadPath, volumes.get(row.volumeId) ?? file.volume, row.path, String(row.sizeBytes)],
      ...[yes(!row.isAbout), yes(row.renamed), yes(row.isHeld), row.whyWhole ?? ''],
    ]),
  );
  return new Response(csvText(HEAD, rows), {
    headers: {
      'Content-Type': 'text/csv; charset=utf-8',
      'Content-Disposition': `attachment; filename="${project.slug}-names.csv"`,
    },
  });
}
