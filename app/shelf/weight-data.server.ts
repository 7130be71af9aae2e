// What of an archive would be written, whole or in the ranges that timelines use: asked while it is chosen.
import type { Route } from './+types/weight-data';
import type { ArchiveId } from '#core/model.ts';
import { restoreWeightForm } from '#contract/forms.ts';
import { restoreWeight } from '#server/steps/restore.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';

export async function loader({ params, request }: Route.LoaderArgs) {
  const archiveId = idFrom(params.archiveId, 'archive') as ArchiveId;
  const asked = restoreWeightForm.safeParse(Object.fromEntries(new URL(request.url).searchParams));
  if (!asked.success) throw new Response('What was chosen could not be understood.', { status: 400 });
  const { only, handles } = asked.data;
  return {
    whole: await restoreWeight(db(), { archiveId, only }),
    ranges: only && handles ? await restoreWeight(db(), { archiveId, only, handles }) : null,
  };
}
