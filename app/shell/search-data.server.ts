// What the search field asks of the services.
import type { Route } from './+types/search-data';
import { search } from '#server/search/search.ts';
import { db, nameList } from '../db.server';

/** A search that fails is told in the field: it must never take the page away that was being worked on. */
export async function loader({ request }: Route.LoaderArgs) {
  const text = (new URL(request.url).searchParams.get('q') ?? '').slice(0, 200);
  try {
    return { text, ...(await search(db(), text, nameList())) };
  } catch (error) {
    console.error('search', error);
    return { text, hits: [], filters: [], trouble: 'The search could not look this up. Try again in a moment.' };
  }
}
