// The folders and files that were chosen, as a file: CSV (RFC 4180).
import type { Route } from './+types/chosen-data';
import type { FolderId } from '#core/model.ts';
import { csvText } from '#core/wording/csv.ts';
import { chosenRows } from '#server/space/chosen.ts';
import { db } from '../db.server';

const MOST = 1000;

const idsIn = (text: string | null): number[] =>
  (text ?? '')
    .split(',')
    .map(Number)
    .filter((id) => Number.isSafeInteger(id) && id > 0)
    .slice(0, MOST);

export async function loader({ request }: Route.LoaderArgs) {
  const search = new URL(request.url).searchParams;
  const rows = await chosenRows(db(), {
    folderIds: idsIn(search.get('folders')) as FolderId[],
    fileIds: idsIn(search.get('files')),
  });
  const body = csvText(
    ['volume', 'path', 'kind', 'project', 'files', 'bytes'],
    rows.map((row) => [row.volume, row.path, row.kind ?? 'folder', row.project, String(row.files), String(row.bytes)]),
  );
  return new Response(body, {
    headers: {
      'Content-Type': 'text/csv; charset=utf-8',
      'Content-Disposition': 'attachment; filename="chosen.csv"',
    },
  });
}
