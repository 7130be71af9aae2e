// What the projects route asks of the services, and what it changes through them.
import type { Route } from './+types/projects';
import { projectsSentence } from '#core/say/lenses.ts';
import { projectRows } from '#server/services/projects.ts';
import { chosenVolumes, rackVolumes } from '#server/services/rack.ts';
import { volumesAsked } from '../answer.server';
import { db } from '../db.server';

export async function loader({ request }: Route.LoaderArgs) {
  const only = chosenVolumes(await rackVolumes(db()), volumesAsked(request));
  const projects = await projectRows(db(), only);
  return { projects, sentence: projectsSentence(projects) };
}
