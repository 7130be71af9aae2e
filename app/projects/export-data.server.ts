// The clips that are on the screen, as a file: CSV (RFC 4180) or JSON.
import type { Route } from './+types/export-data';
import type { ProjectId } from '#core/model.ts';
import { shareOf } from '#core/reach/scope.ts';
import { csvText } from '#core/wording/csv.ts';
import { type ClipRow, projectClips } from '#server/reach/clips.ts';
import { projectById } from '#server/projects/projects.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';
import { clipsAsked } from './clips-asked.server';

const HEAD = ['clip', 'state', 'kind', 'bytes', 'duration', 'used', 'timelines', 'place', 'borrowed from', 'lent to'];

export async function loader({ params, request }: Route.LoaderArgs) {
  const projectId = idFrom(params.projectId, 'project') as ProjectId;
  const project = await projectById(db(), projectId);
  if (!project) throw new Response('There is no such project.', { status: 404 });
  const { filter } = await clipsAsked(request, projectId);
  // A file holds them all; only a page has an end.
  const clips = await projectClips(db(), { ...filter, most: 5_000_000 });
  const isJson = new URL(request.url).searchParams.get('as') === 'json';
  const body = isJson
    ? `${JSON.stringify({ project: project.name, clips: clips.map(plain) }, null, 2)}\n`
    : csvText(HEAD, clips.map(cells));
  return new Response(body, {
    headers: {
      'Content-Type': isJson ? 'application/json; charset=utf-8' : 'text/csv; charset=utf-8',
      'Content-Disposition': `attachment; filename="${project.slug}_clips.${isJson ? 'json' : 'csv'}"`,
    },
  });
}

const plain = (clip: ClipRow) => ({
  clip: clip.name,
  state: clip.state,
  kind: clip.kind,
  bytes: clip.bytes,
  duration: clip.length,
  used: Number(shareOf(clip.used).toFixed(4)),
  timelines: clip.timelines.map((timeline) => timeline.name),
  place: clip.where,
  borrowedFrom: clip.borrowedFrom,
  lentTo: clip.lentTo,
});

const cells = (clip: ClipRow): string[] => [
  clip.name,
  clip.state,
  clip.kind ?? '',
  String(clip.bytes),
  clip.length ?? '',
  `${(shareOf(clip.used) * 100).toFixed(1)} %`,
  clip.timelines.map((timeline) => timeline.name).join('; '),
  clip.where ?? '',
  clip.borrowedFrom ?? '',
  clip.lentTo.join('; '),
];
