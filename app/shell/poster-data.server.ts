// One picture of a media file, for clips and for the strip of a file's facts.
import type { Route } from './+types/poster-data';
import { posterStore, type PosterStore } from '#disk/posters.ts';
import { MOST_POSTER_BYTES, posterOf } from '#server/projects/posters.ts';
import { settings } from '#server/settings.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';

let store: PosterStore | null = null;

export async function loader({ params, request }: Route.LoaderArgs) {
  const fileId = idFrom(params.fileId, 'file');
  const moment = Number(new URL(request.url).searchParams.get('at') ?? 0);
  store ??= posterStore(settings().posters, MOST_POSTER_BYTES);
  const picture = await posterOf(db(), store, { fileId, moment: Number.isInteger(moment) ? moment : 0 });
  if (!picture) throw new Response('There is no picture of it.', { status: 404 });
  return new Response(new Uint8Array(picture), {
    headers: { 'Content-Type': 'image/jpeg', 'Cache-Control': 'private, max-age=3600' },
  });
}
