// The projects that are on the screen, as a file: CSV (RFC 4180) or JSON.
import { isoDay } from '#core/house-time.ts';
import type { Route } from './+types/list-data';
import { KINDS } from '#core/model.ts';
import { csvText } from '#core/wording/csv.ts';
import { type ProjectRow, projectRows } from '#server/projects/projects.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { volumesAsked } from '../answer.server';
import { db } from '../db.server';
import { fits } from './fits';

const WHOLE = ['unused bytes', 'media', 'missing'];

export async function loader({ request }: Route.LoaderArgs) {
  const search = new URL(request.url).searchParams;
  const only = volumesAsked(request, await rackVolumes(db()));
  const asked = (name: string) => (search.get(name) ?? '').slice(0, 200);
  const narrowed = { words: asked('words'), state: asked('state'), client: asked('client') };
  const rows = (await projectRows(db(), only)).filter(
    (row) => fits(row, narrowed) && (only.length === 0 || row.files > 0),
  );
  const isJson = search.get('as') === 'json';
  // Narrowed to volumes, only what is known by volume is told: as on the screen.
  const isWhole = only.length === 0;
  const head = [
    'project',
    'client',
    'state',
    'since',
    'files',
    'bytes',
    ...KINDS,
    ...(isWhole ? WHOLE : []),
    'archived',
  ];
  const body = isJson
    ? `${JSON.stringify({ projects: rows.map((row) => plain(row, isWhole)) }, null, 2)}\n`
    : csvText(
        head,
        rows.map((row) => cells(row, isWhole)),
      );
  return new Response(body, {
    headers: {
      'Content-Type': isJson ? 'application/json; charset=utf-8' : 'text/csv; charset=utf-8',
      'Content-Disposition': `attachment; filename="projects.${isJson ? 'json' : 'csv'}"`,
    },
  });
}

const kindsOf = (row: ProjectRow): number[] =>
  KINDS.map((kind) => row.byKind.find((one) => one.kind === kind)?.bytes ?? 0);

const plain = (row: ProjectRow, isWhole: boolean) => ({
  ...{ project: row.name, client: row.client, state: row.state, since: row.stateSince.toISOString() },
  ...{ files: row.files, bytes: row.bytes, byKind: Object.fromEntries(row.byKind.map((one) => [one.kind, one.bytes])) },
  ...(isWhole ? { unusedBytes: row.unusedBytes, media: row.media, missing: row.missing } : {}),
  archived: row.archived,
});

const cells = (row: ProjectRow, isWhole: boolean): string[] => [
  ...[row.name, row.client, row.state, isoDay(row.stateSince.getTime())],
  ...[row.files, row.bytes, ...kindsOf(row), ...(isWhole ? [row.unusedBytes, row.media, row.missing] : [])].map(String),
  row.archived ? 'yes' : 'no',
];
