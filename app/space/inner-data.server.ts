// What lies in the folders that the map shows, and what most of it is: asked once the map is on the screen.
import type { Route } from './+types/inner-data';
import type { FolderId } from '#core/model.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { COLOURS, innerAreas } from '#server/space/inner.ts';
import { folderAt } from '#server/space/space.ts';
import { idFrom, volumesAsked } from '../answer.server';
import { db } from '../db.server';

export async function loader({ request }: Route.LoaderArgs) {
  const search = new URL(request.url).searchParams;
  const asked = search.get('folder');
  const folder = asked === null ? null : await folderAt(db(), idFrom(asked, 'folder') as FolderId);
  const colour = COLOURS.find((one) => one === search.get('colour')) ?? 'kind';
  const scope = folder ? { folder } : { volumeIds: volumesAsked(request, await rackVolumes(db())) };
  return innerAreas(db(), { scope, colour, today: Math.floor(Date.now() / 86_400_000) });
}
