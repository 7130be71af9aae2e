// A snapshot beside the document as it is now: asked when somebody wants to know.
import type { Route } from './+types/compared-data';
import type { ProjectId } from '#core/model.ts';
import { comparedWithNow } from '#server/snapshots/comparing.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';

/** More parts of one timeline are counted alone. */
const MOST_CHANGES = 200;

export async function loader({ params }: Route.LoaderArgs) {
  const projectId = idFrom(params.projectId, 'project') as ProjectId;
  const timelines = await comparedWithNow(db(), projectId, idFrom(params.snapshotId, 'snapshot'));
  return {
    timelines:
      timelines?.map(({ changes, ...timeline }) => ({
        ...timeline,
        changed: changes.length,
        changes: changes.slice(0, MOST_CHANGES),
      })) ?? null,
  };
}
