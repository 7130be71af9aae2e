// What the space route asks of the services, and what it changes through them.
import type { Route } from './+types/space';
import type { FolderId } from '#core/model.ts';
import { spaceSentence } from '#core/say/lenses.ts';
import { chosenVolumes, rackVolumes } from '#server/services/rack.ts';
import { stationPaths } from '#server/services/places.ts';
import { areas, filesIn, folderAt, strata } from '#server/services/space.ts';
import { volumesAsked } from '../answer.server';
import { db } from '../db.server';

export async function loader({ request }: Route.LoaderArgs) {
  const all = await rackVolumes(db());
  const asked = Number(new URL(request.url).searchParams.get('folder'));
  const folder = Number.isSafeInteger(asked) && asked > 0 ? await folderAt(db(), asked as FolderId) : null;
  const chosen = chosenVolumes(all, volumesAsked(request));
  const only = folder ? [folder.volumeId] : chosen;
  const [rows, files, layers] = await Promise.all([
    areas(db(), folder ? { folderId: folder.folderId } : { volumeIds: only }),
    folder ? filesIn(db(), folder.folderId) : [],
    strata(db(), only, Math.floor(Date.now() / 86_400_000)),
  ]);
  const volumes = only.length > 0 ? all.filter((volume) => only.includes(volume.volumeId)) : all;
  const where = volumes.length === 1 ? volumes[0]!.name : only.length === 0 ? 'the site' : `${volumes.length} volumes`;
  const sentence = spaceSentence({
    where,
    totalBytes: volumes.reduce((sum, v) => sum + v.byKind.reduce((n, k) => n + k.bytes, 0), 0),
    yearOldBytes: layers.at(-1)!.bytes,
    files: volumes.reduce((sum, v) => sum + v.files, 0),
  });
  const paths = folder ? await stationPaths(db(), folder.volumeId, folder.path) : [];
  return { folder, paths, rows, files, layers, sentence, nowMs: Date.now() };
}
