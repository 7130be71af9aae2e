// What of an archive would be written, whole or in the ranges that timelines use: asked while it is chosen.
import type { Route } from './+types/weight-data';
import { USUAL_HANDLES } from '#core/archive/lengths.ts';
import type { ArchiveId } from '#core/model.ts';
import { restoreWeightForm } from '#contract/forms.ts';
import { restoreWeight } from '#server/steps/restore.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';

export async function loader({ params, request }: Route.LoaderArgs) {
  const archiveId = idFrom(params.archiveId, 'archive') as ArchiveId;
  const asked = restoreWeightForm.safeParse(Object.fromEntries(new URL(request.url).searchParams));
  if (!asked.success) throw new Response('What was chosen could not be understood.', { status: 400 });
  const { only } = asked.data;
  const ranges = (value: number) =>
    restoreWeight(db(), { archiveId, only, handles: only && { ...USUAL_HANDLES, value, unit: 'seconds' } });
  return { '': await restoreWeight(db(), { archiveId, only }), '1s': await ranges(1), '0s': await ranges(0) };
}
