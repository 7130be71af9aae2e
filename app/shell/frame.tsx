// The frame around every lens: top bar, rack, tray. Its loader brings what is always there.
import { Outlet, useRouteLoaderData } from 'react-router';
import type { Route } from './+types/frame';
import { totals } from '#core/plan/plan.ts';
import { currentPlan } from '#server/services/plan.ts';
import { rackVolumes } from '#server/services/rack.ts';
import { siteName } from '#server/services/site.ts';
import { jobRows } from '#server/services/work.ts';
import { db } from '../db.server';
import { personOf, themeOf } from '../person.server';
import { Rack } from './rack';
import { TopBar } from './top-bar';
import { Tray } from './tray';

export async function loader({ request }: Route.LoaderArgs) {
  const [volumes, plan, site, jobs, who, theme] = await Promise.all([
    rackVolumes(db()),
    currentPlan(db()),
    siteName(db()),
    jobRows(db()),
    personOf(request),
    themeOf(request),
  ]);
  return {
    volumes,
    plan: { planId: plan.planId, version: plan.version, ...totals(plan.steps) },
    site,
    jobs,
    who,
    theme,
    nowMs: Date.now(),
  };
}

export type FrameData = Awaited<ReturnType<typeof loader>>;

/** What the frame knows, for any lens: volumes, and the time that ages are counted from. */
export function useFrame(): FrameData {
  const frame = useRouteLoaderData<typeof loader>('shell/frame');
  if (!frame) throw new Error('A lens was shown outside the frame.');
  return frame;
}

export default function Frame({ loaderData }: Route.ComponentProps) {
  return (
    <div className="grid h-screen grid-cols-[248px_minmax(0,1fr)] grid-rows-[50px_minmax(0,1fr)_42px]">
      <a href="#lens" className="sr-only focus:not-sr-only focus:absolute focus:z-30 focus:bg-raised focus:p-2">
        To the lens
      </a>
      <TopBar frame={loaderData} />
      <Rack frame={loaderData} />
      <main id="lens" tabIndex={-1} className="overflow-auto px-[22px] pt-5 pb-6 focus:outline-none">
        <Outlet />
      </main>
      <Tray frame={loaderData} />
    </div>
  );
}
