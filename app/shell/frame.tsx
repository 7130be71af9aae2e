// The frame around every lens: top bar, rack, tray. Its loader brings what is always there.
import { Outlet } from 'react-router';
import type { Route } from './+types/frame';
import { Toasts } from '../ui/toasts';
import { Rack } from './rack';
import { TopBar } from './top-bar';
import { Tray } from './tray';

export { loader } from './frame.server.ts';

export default function Frame({ loaderData }: Route.ComponentProps) {
  return (
    <div className="grid h-screen print:block print:h-auto grid-cols-[var(--rack)_minmax(0,1fr)] grid-rows-[var(--bar)_minmax(0,1fr)_42px]">
      <a href="#lens" className="sr-only focus:not-sr-only focus:absolute focus:z-30 focus:bg-raised focus:p-2">
        Skip to content
      </a>
      <TopBar frame={loaderData} />
      <Rack frame={loaderData} />
      <main
        id="lens"
        tabIndex={-1}
        className="@container/lens col-start-2 row-start-2 overflow-auto px-[22px] max-[699px]:px-3.5 pt-5 pb-6 focus:outline-none print:overflow-visible print:p-0"
      >
        <Outlet />
      </main>
      <Tray frame={loaderData} />
      <Toasts />
    </div>
  );
}
