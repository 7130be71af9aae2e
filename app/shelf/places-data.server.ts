// Where an archive, or what is chosen of it, would go back to, and what of it is there: asked when somebody wants to know.
import type { Route } from './+types/places-data';
import type { ArchiveId } from '#core/model.ts';
import { archiveForm } from '#contract/forms.ts';
import { putBackSum } from '#server/steps/put-back.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';

export async function loader({ params, request }: Route.LoaderArgs) {
  const archiveId = idFrom(params.archiveId, 'archive') as ArchiveId;
  const only = new URL(request.url).searchParams.get('only') ?? '';
  const asked = archiveForm.safeParse({ intent: 'put back', archiveId: String(archiveId), copyId: '1', only });
  if (!asked.success || asked.data.intent !== 'put back')
    throw new Response('What was chosen could not be understood.', { status: 400 });
  return putBackSum(db(), { archiveId, only: asked.data.only });
}
