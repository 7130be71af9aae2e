// What the page of caches asks of the services, and what it changes through them.
import type { Route } from './+types/caches';
import { stageCachesForm } from '#contract/forms.ts';
import type { FolderId } from '#core/model.ts';
import { AGE_CHOICES, cutDay } from '#core/reclaim/cuts.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { addCacheRemoval } from '#server/steps/remove-caches.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { cacheBytes, cacheBytesBefore, cacheFolders, MOST_FOLDERS } from '#server/reclaim/reclaim.ts';
import { answer, volumesAsked } from '../answer.server';
import { db } from '../db.server';

export async function loader({ request }: Route.LoaderArgs) {
  const only = volumesAsked(request, await rackVolumes(db()));
  const asked = Number(new URL(request.url).searchParams.get('age') ?? 30);
  const age = (AGE_CHOICES as readonly number[]).includes(asked) ? asked : 30;
  const nowMs = Date.now();
  const cut = cutDay(nowMs, age);
  const [folders, all, byAge] = await Promise.all([
    cacheFolders(db(), only, cut),
    cacheBytes(db(), only),
    cacheBytesBefore(
      db(),
      only,
      AGE_CHOICES.map((days) => cutDay(nowMs, days)),
    ),
  ]);
  const listed = folders.reduce((sum, folder) => sum + folder.allBytes, 0);
  return {
    folders,
    notListedBytes: folders.length < MOST_FOLDERS ? 0 : Math.max(0, all - listed),
    age,
    byAge,
    cut,
    nowMs,
  };
}

export async function action({ request }: Route.ActionArgs) {
  return answer(request, stageCachesForm, async ({ folders, cutDay: cut }) => {
    const now = new Date();
    // A day that has not come yet would take files written after the choice was made.
    const added = await addCacheRemoval(db(), {
      folderIds: folders as FolderId[],
      cutDay: Math.min(cut, cutDay(now.getTime(), 0)),
      now,
    });
    return `Added ${size(added.bytes)} in ${counted(added.files, 'file')} to the plan. Nothing goes before the plan is run.`;
  });
}
