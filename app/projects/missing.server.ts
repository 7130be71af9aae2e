// What the missing route asks of the services, and what it changes through them.
import type { Route } from './+types/missing';
import { relinkForm } from '#contract/forms.ts';
import { canRelink } from '#core/documents/formats/registry.ts';
import type { ProjectId } from '#core/model.ts';
import { counted } from '#core/wording/amounts.ts';
import { candidatesFor, missingMedia, oldFolder } from '#server/readings/missing.ts';
import { projectById } from '#server/projects/projects.ts';
import { addRelinking } from '#server/steps/relink.ts';
import { answer, idFrom } from '../answer.server';
import { db, nameList } from '../db.server';

/** Clips whose candidates are worked out for one page; of more than these the page says how many there are. */
const MOST = 400;

export async function loader({ params, request }: Route.LoaderArgs) {
  const projectId = idFrom(params.projectId, 'project') as ProjectId;
  const project = await projectById(db(), projectId);
  if (!project) throw new Response('There is no such project.', { status: 404 });
  const search = new URL(request.url).searchParams;
  const replace = Number(search.get('media')) || null;
  const look = (search.get('look') ?? '').trim().slice(0, 100);
  const all =
    replace === null
      ? await missingMedia(db(), { projectId })
      : (await missingMedia(db(), { mediaIds: [replace] })).filter((item) => item.projectId === projectId);
  const shown = all.slice(0, MOST);
  const candidates = await candidatesFor(db(), shown, { names: nameList(), look: replace === null ? '' : look });
  return {
    project: { projectId, name: project.name },
    total: all.length,
    replacing: replace !== null,
    look,
    items: shown.map((item) => ({
      mediaId: item.mediaId,
      documentId: item.documentId,
      document: item.document,
      canBeWritten: canRelink(item.document),
      name: item.wanted.name,
      target: item.target,
      oldFolder: item.target === null ? '' : oldFolder(item.target),
      stills: item.targets,
      present: item.found,
      timelines: item.timelines,
      found: item.found > 0 && item.found >= item.targets,
      candidates: candidates.get(item.mediaId) ?? [],
    })),
  };
}

export async function action({ params, request }: Route.ActionArgs) {
  return answer(request, relinkForm, async ({ choices }) => {
    const projectId = idFrom(params.projectId, 'project') as ProjectId;
    const added = await addRelinking(db(), { projectId, choices, now: new Date() });
    return `Added to the plan: ${counted(added.files, 'document')} will get a new version beside the old one. Review the plan and run it.`;
  });
}
