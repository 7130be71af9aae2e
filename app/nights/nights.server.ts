// What the nights page asks of the services.
import { morningSentence, underHeadings } from '#core/wording/nights.ts';
import { houseDecisions } from '#server/nights/decisions.ts';
import { morningOf } from '#server/nights/morning.ts';
import { tonightOf } from '#server/nights/tonight.ts';
import { postponedNow } from '#server/site/postponed.ts';
import { siteName } from '#server/site/site.ts';
import { currentPlan } from '#server/plan/plan.ts';
import { db } from '../db.server';

export async function loader() {
  const now = new Date();
  const [morning, tonight, every, later, plan, site] = await Promise.all([
    morningOf(db(), now),
    tonightOf(db(), now),
    houseDecisions(db(), now),
    postponedNow(db(), now),
    currentPlan(db()),
    siteName(db()),
  ]);
  const decisions = every.filter(({ key }) => !later.has(key));
  return {
    sentence: morningSentence(morning),
    headings: underHeadings(morning.done, morning.tally),
    morning,
    tonight,
    decisions: { all: decisions.length, first: decisions.slice(0, 5) },
    plan: { steps: plan.steps.length, version: plan.version },
    site,
    nowMs: now.getTime(),
  };
}
