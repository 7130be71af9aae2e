// One step of the plan before it is run: its files, found by text or by what stands against them.
import type { Route } from './+types/step';
import { HELD_WORDS } from '#core/plan/plan.ts';
import { findingWords } from '#core/wording/findings.ts';
import { draftItems } from '#server/plan/items.ts';
import { currentPlan, findingsOf } from '#server/plan/plan.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';

const PAGE = 1000;

export async function loader({ params, request }: Route.LoaderArgs) {
  const stepId = idFrom(params.stepId, 'step');
  const search = new URL(request.url).searchParams;
  const after = Math.max(0, Number(search.get('after')) || 0);
  const text = (search.get('text') ?? '').slice(0, 400);
  const about = search.get('about');
  const step = await draftItems(db(), stepId, { after, most: PAGE, text, about: about ?? undefined });
  // It runs, or somebody took it out: this page is told so while it is looked at.
  if (!step) return null;
  const { steps } = await currentPlan(db());
  const findings = await findingsOf(
    db(),
    steps.filter((one) => one.stepId === stepId),
  );
  return {
    ...step,
    stepId,
    text,
    about,
    items: step.items.map((item) => ({ ...item, why: item.reason ? HELD_WORDS[item.reason] : null })),
    findings: findings.flatMap((finding) =>
      typeof finding.facts.about === 'string'
        ? [{ about: finding.facts.about, what: findingWords(finding, Date.now()).what }]
        : [],
    ),
    more: step.items.length === PAGE ? step.items.at(-1)!.id : null,
  };
}
