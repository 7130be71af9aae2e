// What the page that shows how far back a project can go asks of the services, and what it changes through them.
import type { Route } from './+types/back';
import { snapshotForm } from '#contract/forms.ts';
import type { ProjectId } from '#core/model.ts';
import { projectNight } from '#core/nights/project-nights.ts';
import { placesOf, projectSnapshots } from '#core/snapshots/snapshots.ts';
import { listed } from '#core/wording/amounts.ts';
import { carrierRows } from '#server/archives/shelf.ts';
import { projectNights, setProjectNight } from '#server/archives/project-nights.ts';
import { projectById } from '#server/projects/projects.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { keptOf, linesOf } from '#server/snapshots/line.ts';
import { askToPutBeside } from '#server/snapshots/put-beside.ts';
import { projectSnapshotRules, setProjectSnapshots, snapshotRuleOf } from '#server/snapshots/rule.ts';
import { answer, idFrom } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

export async function loader({ params }: Route.LoaderArgs) {
  const projectId = idFrom(params.projectId, 'project') as ProjectId;
  const project = await projectById(db(), projectId);
  if (!project) throw new Response('There is no such project.', { status: 404 });
  const [lines, kept, rule, own, volumes, [night], carriers] = await Promise.all([
    linesOf(db(), projectId),
    keptOf(db(), projectId),
    snapshotRuleOf(db()),
    projectSnapshotRules(db()),
    rackVolumes(db()),
    projectNights(db(), projectId),
    carrierRows(db()),
  ]);
  return {
    project: { projectId, name: project.name, state: project.state },
    /** The archive of it that is made every night; null where none is. */
    night: night ?? null,
    // What is always there is what is meant most often.
    carriers: carriers
      .map(({ carrierId, name, place, freeBytes, state, kind }) => ({
        ...{ carrierId, name, place, freeBytes, kind },
        isHere: state === 'reachable',
      }))
      .sort((a, b) => Number(b.isHere) - Number(a.isHere) || Number(b.kind === 'disk') - Number(a.kind === 'disk')),
    lines,
    kept,
    everyMinutes: (own.get(projectId) ?? rule).everyMinutes,
    /** What the house says, and what this project wants otherwise. */
    rule: { house: rule, own: own.get(projectId) ?? null },
    /** Where they go; null where none are made. */
    on:
      rule.volumeId === null
        ? null
        : listed(placesOf(rule).flatMap((id) => volumes.find((volume) => volume.volumeId === id)?.name ?? [])),
    nowMs: Date.now(),
  };
}

export async function action({ request, params }: Route.ActionArgs) {
  return answer(request, snapshotForm, async (form) => {
    const by = { who: await personOf(request), now: new Date() };
    if (form.intent === 'put beside') {
      const { name } = await askToPutBeside(db(), form.snapshotId, by);
      return `It is put beside ${name} as its next version; nothing is written over. The tray shows how far it is, and the ledger what it is called.`;
    }
    const projectId = idFrom(params.projectId, 'project') as ProjectId;
    if (form.intent === 'each night' || form.intent === 'not at night') {
      const { intent: _, ...given } = form;
      const night = form.intent === 'not at night' ? null : projectNight.parse(given);
      await setProjectNight(db(), { projectId, rule: night }, by);
      return night === null
        ? 'Saved. It is not archived at night any more; what was archived stays.'
        : 'Saved. It is archived from the next night on, as long as it is in work.';
    }
    const { intent, ...given } = form;
    const rule = intent === 'as the house' ? null : projectSnapshots.parse(intent === 'none' ? { isOff: true } : given);
    return `Saved. Snapshots of this project: ${await setProjectSnapshots(db(), { projectId, rule }, by)}.`;
  });
}
