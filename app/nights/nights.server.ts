// What the nights page asks of the services.
import { morningSentence, underHeadings } from '#core/wording/nights.ts';
import { morningOf } from '#server/nights/morning.ts';
import { tonightOf } from '#server/nights/tonight.ts';
import { postponedNow } from '#server/site/postponed.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { siteName } from '#server/site/site.ts';
import { currentPlan } from '#server/plan/plan.ts';
import { db } from '../db.server';
import { decisionsOf, knownOf } from '../site/decisions.server';

export async function loader() {
  const now = new Date();
  const volumes = await rackVolumes(db());
  const today = Math.floor(now.getTime() / 86_400_000);
  const [morning, tonight, every, later, plan, site] = await Promise.all([
    morningOf(db(), now),
    tonightOf(db(), now),
    knownOf(volumes, volumes, [], today).then(decisionsOf),
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
