// What the shape route asks of the services, and what it changes through them.
import type { Route } from './+types/shape';
import { stageArchiveForm } from '#contract/forms.ts';
import { archiveFolderName, estimateSeconds } from '#core/archive/selection.ts';
import type { CarrierId, ProjectId } from '#core/model.ts';
import { nameOf } from '#core/paths.ts';
import { size } from '#core/wording/amounts.ts';
import { projectSelection } from '#server/archives/selection.ts';
import { addArchive } from '#server/steps/archive.ts';
import { projectById } from '#server/projects/projects.ts';
import { measuredRates } from '#server/archives/rates.ts';
import { carrierRows } from '#server/archives/shelf.ts';
import { answer, idFrom } from '../answer.server';
import { db } from '../db.server';

export async function loader({ params }: Route.LoaderArgs) {
  const projectId = idFrom(params.projectId, 'project') as ProjectId;
  const project = await projectById(db(), projectId);
  if (!project) throw new Response('There is no such project.', { status: 404 });
  const [selection, carriers, rates] = await Promise.all([
    projectSelection(db(), projectId),
    carrierRows(db()),
    measuredRates(db()),
  ]);
  const media = selection.chosen.filter((file) => !file.isDocument);
  return {
    project,
    carriers,
    folder: archiveFolderName(project.slug, new Date().toISOString().slice(0, 10)),
    totalBytes: selection.totalBytes,
    archiveBytes: selection.chosenBytes,
    borrowedBytes: selection.borrowedBytes,
    leftOut: selection.leftOut,
    missing: selection.missing,
    outside: selection.outside,
    mediaTotal: selection.mediaTotal,
    mediaFiles: media.length,
    mediaBytes: media.reduce((sum, file) => sum + file.sizeBytes, 0),
    documents: selection.chosen.filter((file) => file.isDocument).length,
    files: selection.chosen.slice(0, 5000).map((file) => ({
      key: file.fileId,
      payloadPath: file.payloadPath,
      sizeBytes: file.sizeBytes,
      volumeId: file.volumeId,
      path: file.path,
      renamed: nameOf(file.payloadPath) !== file.name,
    })),
    estimate: estimateSeconds(selection.chosenBytes, rates),
    measured: rates.measured,
  };
}

export async function action({ request, params }: Route.ActionArgs) {
  return answer(request, stageArchiveForm, async ({ carrierIds, folder }) => {
    const added = await addArchive(db(), {
      projectId: idFrom(params.projectId, 'project') as ProjectId,
      carrierIds: carrierIds as CarrierId[],
      folder,
      now: new Date(),
    });
    return `Added an archive of ${size(added.bytes)} to the plan. Review the plan and run it.`;
  });
}
