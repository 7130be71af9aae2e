// The plan as data, and what can be done with it: take a step out, empty it, run it.
import type { Route } from './+types/plan-data';
import { planForm } from '#contract/forms.ts';
import type { PlanId } from '#core/model.ts';
import { byLevel, effects, type Finding, levelOf } from '#core/plan/plan.ts';
import { counted, listed, size } from '#core/wording/amounts.ts';
import { findingWords } from '#core/wording/findings.ts';
import { ifNeededAgain, planSentence, planTroubleWords } from '#core/wording/plan.ts';
import { leaveOut } from '#server/plan/items.ts';
import { currentPlan, emptyPlan, findingsOf, removeStep, runPlan } from '#server/plan/plan.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { answer } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

export async function loader() {
  const [plan, volumes] = await Promise.all([currentPlan(db()), rackVolumes(db())]);
  const names = new Map(volumes.map((volume) => [volume.volumeId, volume.name]));
  const findings = await findingsOf(db(), plan.steps);
  return {
    planId: plan.planId,
    version: plan.version,
    steps: plan.steps.map((step) => ({
      ...step,
      level: levelOf(step.what),
      undoing: ifNeededAgain(step.what),
      where: listed(step.onVolumes.map((part) => names.get(part.volumeId) ?? '')),
    })),
    sentence: planSentence(plan.steps),
    levels: byLevel(plan.steps),
    effects: effects(plan.steps, volumes),
    findings: toldOnce(
      findings.map((finding) => ({
        weight: finding.weight,
        stepId: finding.stepId,
        about: typeof finding.facts.about === 'string' ? finding.facts.about : null,
        settle: settleAt(finding),
        ...findingWords(finding, Date.now()),
      })),
    ),
    stopped: findings.some((finding) => finding.weight === 'stop'),
    nowMs: Date.now(),
  };
}

/** What is about no files, and the same for several steps, is told once. */
const toldOnce = <One extends { what: string; detail: string; about: string | null }>(all: readonly One[]): One[] =>
  all.filter(
    (one, i) =>
      one.about !== null || all.findIndex((other) => other.what === one.what && other.detail === one.detail) === i,
  );

/** Where what stands against a step can be looked at, or changed. */
function settleAt({ code, facts }: Finding): { to: string; words: string } | null {
  if (code === 'project in work' || code === 'documents unread')
    return { to: `/projects/${facts.projectId}`, words: 'Open the project' };
  if (code.startsWith('volume ') || code === 'other stations') return { to: '/storage', words: 'Look at the storage' };
  if (code === 'copy not good' || code.startsWith('carrier ')) return { to: '/shelf', words: 'Look at the shelf' };
  return null;
}

export async function action({ request }: Route.ActionArgs) {
  const who = await personOf(request);
  return answer(request, planForm, async (form) => {
    const now = new Date();
    if (form.intent === 'unstage') {
      await removeStep(db(), form.stepId, now);
      return 'Taken out. Nothing on any disk was changed.';
    }
    if (form.intent === 'leave out') {
      const { stepId, ids, text, about } = form;
      if (!ids && !text && !about) return { ok: false, error: 'Nothing is chosen, so nothing was left out.' };
      const out = await leaveOut(db(), { stepId, ids, text, about, now });
      return `Left out: ${counted(out.files, 'file')}, ${size(out.bytes)}. They stay where they are.`;
    }
    if (form.intent === 'empty') {
      await emptyPlan(db(), now);
      return 'The plan is empty. Nothing on any disk was changed.';
    }
    const result = await runPlan(db(), {
      planId: form.planId as PlanId,
      version: form.version,
      who,
      now,
      typed: form.typed,
    });
    return result.ok
      ? `Begun: ${counted(result.jobs.length, 'piece')} of work.`
      : { ok: false, error: planTroubleWords(result.trouble) };
  });
}
