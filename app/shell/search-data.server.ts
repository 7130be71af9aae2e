import type { Route } from './+types/search-data';
import { search } from '#server/services/search.ts';
import { db } from '../db.server';

export async function loader({ request }: Route.LoaderArgs) {
  const text = (new URL(request.url).searchParams.get('q') ?? '').slice(0, 200);
  return { text, hits: await search(db(), text) };
}
