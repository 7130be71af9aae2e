// What the project route asks of the services, and what it changes through them.
import type { Route } from './+types/project';
import { projectForm } from '#contract/forms.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { counted } from '#core/say/amounts.ts';
import { projectBins, projectClips, projectTimelines } from '#server/services/clips.ts';
import { projectById, projectDocuments, projectHoldings, projectMedia, setState } from '#server/services/projects.ts';
import { projectHomes, setHome, takeSuggestedHomes } from '#server/services/homes.ts';
import { answer, idFrom } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

export async function loader({ params, request }: Route.LoaderArgs) {
  const projectId = idFrom(params.projectId, 'project') as ProjectId;
  const project = await projectById(db(), projectId);
  if (!project) throw new Response('There is no such project.', { status: 404 });
  const [placed, holdings, media, documents, { bins, loose, documentIds }] = await Promise.all([
    projectHomes(db(), projectId),
    projectHoldings(db(), projectId),
    projectMedia(db(), projectId),
    projectDocuments(db(), projectId),
    projectBins(db(), projectId),
  ]);
  const search = new URL(request.url).searchParams;
  const asked = search.get('bin');
  const first = bins.find((bin) => bin.clips > 0);
  const bin =
    asked === 'none'
      ? null
      : asked === 'all'
        ? 'all'
        : (bins.find((b) => b.binId === Number(asked))?.binId ?? first?.binId ?? 'all');
  const show = search.get('show') === 'unused' ? 'unused' : search.get('show') === 'missing' ? 'missing' : 'all';
  const [clips, timelines] = await Promise.all([
    projectClips(db(), { documentIds, bin, show }),
    projectTimelines(db(), documentIds),
  ]);
  return {
    project,
    ...placed,
    holdings,
    media,
    documents,
    bins,
    loose,
    bin,
    show: show as 'all' | 'unused' | 'missing',
    clips,
    timelines,
  };
}

export async function action({ request, params }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, projectForm, async (form) => {
    const now = new Date();
    const projectId = idFrom(params.projectId, 'project') as ProjectId;
    switch (form.intent) {
      case 'state':
        await setState(db(), { projectId, state: form.state, since: now, who, now });
        return `The project is ${form.state} now.`;
      case 'home':
        await setHome(
          db(),
          projectId,
          { kind: form.kind, volumeId: form.volumeId as VolumeId, folder: form.folder },
          { who, now },
        );
        return `Its ${form.kind} belongs there now. Nothing was moved.`;
      case 'suggest': {
        const n = await takeSuggestedHomes(db(), projectId, { who, now });
        return n === 0
          ? 'Every kind it has files of has a home already.'
          : `${counted(n, 'home')} set to where most of its files lie. Nothing was moved.`;
      }
    }
  });
}
