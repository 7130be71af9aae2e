// What is set aside: looked at, taken back at once, or added to the plan to be removed for good.
import type { Route } from './+types/aside';
import { asideForm } from '#contract/forms.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { asideFiles, asideSteps, asideTotal } from '#server/reclaim/aside.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { runAtOnce } from '#server/plan/plan.ts';
import { addAsideRemoval } from '#server/steps/remove-aside.ts';
import { addTakingBack } from '#server/steps/take-back.ts';
import { answer, volumesAsked } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

const PAGE = 500;

export async function loader({ request }: Route.LoaderArgs) {
  const only = volumesAsked(request, await rackVolumes(db()));
  const search = new URL(request.url).searchParams;
  const before = Number(search.get('before') ?? 0);
  const [total, steps] = await Promise.all([asideTotal(db(), only), asideSteps(db(), only)]);
  const open = steps.find((step) => String(step.stepId) === search.get('step')) ?? steps[0] ?? null;
  const files = open ? await asideFiles(db(), open.stepId, { before: before > 0 ? before : null, most: PAGE }) : [];
  return { total, steps, open, files, more: files.length === PAGE ? files.at(-1)!.id : null, nowMs: Date.now() };
}

export async function action({ request }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, asideForm, async ({ intent, ids, steps }) => {
    const now = new Date();
    const what = `${ids.length > 0 ? counted(ids.length, 'file') : 'everything'} that ${ids.length === 1 ? 'was' : 'were'} set aside`;
    const choice = ids.length > 0 ? { ids } : { stepIds: steps };
    if (intent === 'take back') {
      await runAtOnce(db(), (tx, planId) => addTakingBack(tx, { ...choice, what, planId, now }), { who, now });
      return 'Begun: what was chosen goes back to where it was.';
    }
    const added = await addAsideRemoval(db(), { ...choice, what, now });
    const bytes = added.reduce((sum, one) => sum + one.bytes, 0);
    return `Added the removal of ${size(bytes)} to the plan. Nothing goes before the plan is run.`;
  });
}
