// One picture of a media file, for clips and for the strip of a file's facts.
import type { Route } from './+types/poster-data';
import { PosterDesk } from '#server/projects/posters.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';

let desk: PosterDesk | null = null;

export async function loader({ params, request }: Route.LoaderArgs) {
  const fileId = idFrom(params.fileId, 'file');
  const moment = Number(new URL(request.url).searchParams.get('at') ?? 0);
  desk ??= new PosterDesk(db());
  const picture = await desk.get({ fileId, moment: Number.isInteger(moment) ? moment : 0 });
  if (!picture) throw new Response('There is no picture of it.', { status: 404 });
  return new Response(new Uint8Array(picture), {
    headers: { 'Content-Type': 'image/jpeg', 'Cache-Control': 'private, max-age=3600' },
  });
}
