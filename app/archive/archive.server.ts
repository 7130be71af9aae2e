// What the archive route asks of the services, and what it changes through them.
import { archiveLensSentence } from '#core/wording/lenses.ts';
import { projectRows } from '#server/projects/projects.ts';
import { archiveRows } from '#server/archives/shelf.ts';
import { db } from '../db.server';

export async function loader() {
  const [projects, archives] = await Promise.all([projectRows(db()), archiveRows(db())]);
  const ready = { delivered: 0, finishing: 1, 'in work': 2, planned: 3, archived: 4 };
  const rows = projects
    .map((project) => ({
      ...project,
      archives: archives
        .filter((archive) => archive.projectId === project.projectId)
        .map((archive) => ({
          state: archive.state,
          carriers: archive.copies.map((copy) => copy.carriers.map((one) => one.name).join(' + ')),
          originalsBytes: archive.originalsBytes,
          short: archive.short,
        })),
    }))
    .sort((a, b) => ready[a.state] - ready[b.state]);
  return { rows, sentence: archiveLensSentence(projects) };
}
