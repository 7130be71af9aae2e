// What the projects route asks of the services, and what it changes through them.
import { redirect } from 'react-router';
import type { Route } from './+types/projects';
import { projectsForm } from '#contract/forms.ts';
import type { FolderId, ProjectId } from '#core/model.ts';
import { counted } from '#core/wording/amounts.ts';
import { projectsSentence } from '#core/wording/lenses.ts';
import { giveFolders } from '#server/projects/give-folders.ts';
import { projectRows } from '#server/projects/projects.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { projectFromFolder, projectFromTemplate, templateRows } from '#server/projects/register-project.ts';
import type { Answer } from '../lib/answer';
import { answer, volumesAsked } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

export async function loader({ request }: Route.LoaderArgs) {
  const all = await rackVolumes(db());
  const only = volumesAsked(request, all);
  const [rows, templates] = await Promise.all([projectRows(db(), only), templateRows(db())]);
  const on = all.filter((volume) => only.includes(volume.volumeId)).map((volume) => volume.name);
  // Narrowed to volumes, only what is known by volume is told: media and what is unused are of whole projects.
  const projects = on.length > 0 ? rows.filter((row) => row.files > 0) : rows;
  return { projects, templates, on, sentence: projectsSentence(projects, on) };
}

export async function action({ request }: Route.ActionArgs) {
  const by = { who: await personOf(request), now: new Date() };
  return answer(request, projectsForm, async (form) => {
    if (form.intent === 'give folders') return given(form, by);
    const { name, client, year, people, privateNotes, publicComments } = form;
    const facts = { name, client, year, people, privateNotes, publicComments };
    const projectId =
      form.intent === 'from folder'
        ? await projectFromFolder(db(), { folderId: form.folderId as FolderId, facts }, by)
        : (await projectFromTemplate(db(), { templateId: form.templateId, facts, make: form.make }, by)).projectId;
    throw redirect(`/projects/${projectId}`);
  });
}

async function given(
  { projectId, folderIds }: { projectId: number; folderIds: number[] },
  by: { who: string; now: Date },
): Promise<Answer> {
  const asked = { projectId: projectId as ProjectId, folderIds: folderIds as FolderId[] };
  const { receiptId, name } = await giveFolders(db(), asked, by);
  return { ok: true, said: `${counted(folderIds.length, 'folder')} given to ${name}.`, undo: receiptId };
}
