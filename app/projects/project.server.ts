// What the project route asks of the services, and what it changes through them.
import type { z } from 'zod';
import type { Route } from './+types/project';
import { projectForm } from '#contract/forms.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { MOST_CLIPS, projectClips, projectTimelines } from '#server/reach/clips.ts';
import {
  projectById,
  projectDocuments,
  projectHoldings,
  projectMedia,
  setState,
  statesOf,
} from '#server/projects/projects.ts';
import { projectHomes, setHome, takeSuggestedHomes } from '#server/projects/homes.ts';
import { borrowedBy } from '#server/db/naming.ts';
import { changeProject, makeHomes, templateFrom, titleTroubles } from '#server/projects/register-project.ts';
import { addClipsAside } from '#server/steps/set-aside-clips.ts';
import { gatheredWords } from '#core/wording/lenses.ts';
import { parkedOf } from '#server/projects/parking.ts';
import { addBringingBack, addGathering } from '#server/steps/gather.ts';
import { addMoveHome, addParking } from '#server/steps/moving-items.ts';
import { keptOf } from '#server/snapshots/line.ts';
import { answer, idFrom } from '../answer.server';
import type { Answer } from '../lib/answer';
import { db } from '../db.server';
import { personOf } from '../person.server';
import { clipsAsked } from './clips-asked.server';

export async function loader({ params, request }: Route.LoaderArgs) {
  const projectId = idFrom(params.projectId, 'project') as ProjectId;
  const project = await projectById(db(), projectId);
  if (!project) throw new Response('There is no such project.', { status: 404 });
  const [placed, holdings, media, documents, shared, states, asked, parked, kept] = await Promise.all([
    projectHomes(db(), projectId),
    projectHoldings(db(), projectId),
    projectMedia(db(), projectId),
    projectDocuments(db(), projectId),
    borrowedBy(db(), projectId),
    statesOf(db(), projectId),
    clipsAsked(request, projectId),
    parkedOf(db(), projectId),
    keptOf(db(), projectId),
  ]);
  const { bins, loose, documentIds, filter } = asked;
  const [clips, timelines, titles] = await Promise.all([
    projectClips(db(), filter),
    projectTimelines(db(), documentIds),
    titleTroubles(
      db(),
      { id: projectId, name: project.name },
      documents.filter((document) => document.goneAt === null).map((document) => document.name),
    ),
  ]);
  return {
    project,
    ...shared,
    states,
    titles,
    ...placed,
    parked,
    kept,
    holdings,
    media,
    documents,
    bins,
    loose,
    bin: filter.bin,
    show: filter.show,
    scope: filter.scope,
    uses: filter.scope.enabledOnly ? 'on' : (filter.scope.only ?? ''),
    text: filter.text,
    kind: filter.kind,
    chosen: filter.clipIds.length,
    clips,
    more: clips.length === MOST_CLIPS,
    timelines,
  };
}

const undoable = (said: string, receiptId: number | null): Answer => ({
  ...{ ok: true, said },
  ...(receiptId === null ? {} : { undo: receiptId }),
});

export async function action({ request, params }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, projectForm, async (form) => {
    const now = new Date();
    const projectId = idFrom(params.projectId, 'project') as ProjectId;
    switch (form.intent) {
      case 'state':
        return undoable(
          `The project is ${form.state} ${form.since ? 'since that day' : 'now'}.`,
          await setState(db(), { projectId, state: form.state, since: form.since ?? now, who, now }),
        );
      case 'facts': {
        const { intent: _intent, ...facts } = form;
        await changeProject(db(), projectId, facts, { who, now });
        return 'Kept.';
      }
      case 'move':
      case 'park':
      case 'bring back':
      case 'gather':
        return addMove(form, projectId, now);
      case 'set aside': {
        const project = await projectById(db(), projectId);
        const clipIds = form.clips;
        const added = await addClipsAside(db(), { projectId, project: project?.name ?? '', clipIds, now });
        return `Added the setting aside of ${size(added.bytes)} in ${counted(added.files, 'file')} to the plan. What a timeline uses is not among it.`;
      }
      case 'make homes':
        await makeHomes(db(), projectId, { who, now });
        return 'The folders are being made; the tray shows how far.';
      case 'template':
        await templateFrom(db(), projectId, form.template, { who, now });
        return `Template ${form.template} saved. New projects can be made from it.`;
      case 'home':
        return undoable(
          `Its ${form.kind} belongs there now. Nothing was moved.`,
          await setHome(
            db(),
            projectId,
            { kind: form.kind, volumeId: form.volumeId as VolumeId, folder: form.folder },
            { who, now },
          ),
        );
      case 'suggest': {
        const n = await takeSuggestedHomes(db(), projectId, { who, now });
        return n === 0
          ? 'Every kind it has files of has a home already.'
          : `${counted(n, 'home')} set to where most of its files lie. Nothing was moved.`;
      }
    }
  });
}

type Asked = z.infer<typeof projectForm>;

/** Adds what moves files of the project to the plan, and says how much. */
async function addMove(
  form: Extract<Asked, { intent: 'move' | 'park' | 'bring back' | 'gather' }>,
  projectId: ProjectId,
  now: Date,
): Promise<string> {
  if (form.intent === 'gather') return gatheredWords(await addGathering(db(), { projectId, now }));
  const added = await (form.intent === 'move'
    ? addMoveHome(db(), { projectId, kind: form.kind, now })
    : form.intent === 'park'
      ? addParking(db(), { projectId, which: form.which, volumeId: form.volumeId as VolumeId, now })
      : addBringingBack(db(), { projectId, now }));
  return `Added to the plan: ${counted(added.files, 'file')}, ${size(added.bytes)}. Look at the plan in the tray.`;
}
