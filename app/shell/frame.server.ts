// What the frame route asks of the services, and what it changes through them.
import type { Route } from './+types/frame';
import { houseDay } from '#core/house-time.ts';
import { totals } from '#core/plan/plan.ts';
import { currentPlan } from '#server/plan/plan.ts';
import { forecasts } from '#server/readings/growth.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { siteName } from '#server/site/site.ts';
import { pulseOf } from '#server/site/pulse.ts';
import { jobRows } from '#server/site/work.ts';
import { db } from '../db.server';
import { personOf, themeOf } from '../person.server';

export async function loader({ request }: Route.LoaderArgs) {
  const nowMs = Date.now();
  const [volumes, plan, site, jobs, pulse, who, theme] = await Promise.all([
    rackVolumes(db()),
    currentPlan(db()),
    siteName(db()),
    jobRows(db()),
    pulseOf(db()),
    personOf(request),
    themeOf(request),
  ]);
  const growing = new Map((await forecasts(db(), volumes, houseDay(nowMs))).map((g) => [g.volumeId, g.forecast]));
  return {
    volumes: volumes.map((volume) => ({ ...volume, forecast: growing.get(volume.volumeId)! })),
    plan: { planId: plan.planId, version: plan.version, ...totals(plan.steps) },
    site,
    jobs,
    pulse,
    who,
    theme,
    nowMs,
  };
}
