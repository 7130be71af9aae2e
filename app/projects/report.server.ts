// What the report of a project asks of the services.
import type { Route } from './+types/report';
import type { ProjectId } from '#core/model.ts';
import { projectClips, projectTimelines } from '#server/reach/clips.ts';
import { projectById, projectDocuments, projectHoldings, projectMedia } from '#server/projects/projects.ts';
import { projectHomes } from '#server/projects/homes.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';
import { clipsAsked } from './clips-asked.server';

export async function loader({ params, request }: Route.LoaderArgs) {
  const projectId = idFrom(params.projectId, 'project') as ProjectId;
  const project = await projectById(db(), projectId);
  if (!project) throw new Response('There is no such project.', { status: 404 });
  const { filter, documentIds } = await clipsAsked(request, projectId);
  const [holdings, media, documents, { homes }, clips, timelines] = await Promise.all([
    projectHoldings(db(), projectId),
    projectMedia(db(), projectId),
    projectDocuments(db(), projectId),
    projectHomes(db(), projectId),
    projectClips(db(), { ...filter, bin: 'all', show: 'all', most: 5_000_000 }),
    projectTimelines(db(), documentIds),
  ]);
  const { privateNotes: _private, ...shown } = project;
  return {
    project: shown,
    holdings,
    media,
    homes,
    timelines,
    clips,
    documents: documents.filter((document) => document.goneAt === null && document.supersededBy === null),
    madeAt: Date.now(),
  };
}
