// One project: what it holds by kind and volume, its timelines, its bins and clips, what is found and what is used.
import clsx from 'clsx';
import { Link, useFetcher, useNavigate } from 'react-router';
import type { Route } from './+types/project';
import { PROJECT_STATES } from '#core/model.ts';
import { ago, count, counted, exactTime, size } from '#core/wording/amounts.ts';
import { stateSince } from '#core/wording/lenses.ts';
import { useFrame } from '../shell/use-frame';
import { useAsked, useLens, useTo } from '../shell/links';
import { buttonLook, Card, Empty, inputLook, Said } from '../ui/parts';
import { Select } from '../ui/select';
import { About } from './about';
import { Clips } from './clips';
import { Elsewhere } from './elsewhere';
import { Homes } from './homes';
import type { action } from './project.server.ts';
import { Scroll } from '../ui/scroll';

export { loader, action } from './project.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Project({ loaderData }: Route.ComponentProps) {
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Head data={loaderData} />
      <Troubles data={loaderData} />
      <Homes data={loaderData} />
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[236px_minmax(0,1fr)] gap-4">
        <div className="grid grid-cols-[minmax(0,1fr)] content-start gap-4">
          <Card title="Timelines" aside={<HowFarBack data={loaderData} />}>
            <Scroll label="Timelines of the project" maxHeight={280} className="-mx-2">
              <div className="px-2">
                <Timelines data={loaderData} />
              </div>
            </Scroll>
          </Card>
          <Bins data={loaderData} />
        </div>
        <Clips data={loaderData} />
      </div>
    </div>
  );
}

function Head({ data }: { data: Data }) {
  const { project, documents } = data;
  const { nowMs } = useFrame();
  const lens = useLens();
  // No plain form: what it says would go with the next change that anybody makes.
  const fetcher = useFetcher<typeof action>();
  const living = documents.find((document) => document.goneAt === null) ?? documents[0];
  const facts = [project.client, project.year].filter(Boolean).join(', ');
  return (
    <div className="flex items-end justify-between slim:flex-wrap gap-5">
      <div className="min-w-0">
        <div
          className="truncate text-ink-2"
          title={living && `Read from ${living.name} ${ago(living.readAt.getTime(), nowMs)}`}
        >
          {facts !== '' && `${facts}, `}
          <span title={exactTime(project.stateSince.getTime())}>
            {stateSince(project.state, project.stateSince.getTime(), nowMs)}
          </span>
          {living && (
            <>
              , read from {living.name} {ago(living.readAt.getTime(), nowMs)}
            </>
          )}
        </div>
        <h1 className="sentence break-words">{project.name}</h1>
        <Said answer={fetcher.data} />
      </div>
      <div className="flex shrink-0 items-end gap-3 slim:shrink slim:flex-wrap">
        <Figures data={data} />
        <div>
          <fetcher.Form method="post" onChange={(event) => void fetcher.submit(event.currentTarget)}>
            <input type="hidden" name="intent" value="state" />
            <Select
              name="state"
              aria-label="State of the project"
              key={project.state}
              defaultValue={project.state}
              className={clsx(inputLook, 'w-28')}
            >
              {PROJECT_STATES.map((state) => (
                <option key={state}>{state}</option>
              ))}
            </Select>
          </fetcher.Form>
        </div>
        <About data={data} />
        <Elsewhere data={data} />
        <div>
          <Link
            to={lens(`/archive/${project.id}`)}
            // What is delivered is to go; of what is in work an archive is a step on the way.
            className={buttonLook(project.state === 'delivered' ? 'first' : 'plain')}
          >
            Shape an archive
          </Link>
        </div>
      </div>
    </div>
  );
}

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div>
      <dt className="text-[13px] text-ink-3">{name}</dt>
      <dd className="text-[17px] font-semibold whitespace-nowrap">{children}</dd>
    </div>
  );
}

function Troubles({ data }: { data: Data }) {
  const broken = data.documents.filter((document) => document.state === 'broken' && document.goneAt === null);
  return broken.map((document) => (
    <p key={document.documentId} role="alert" className="rounded-lg bg-loss-wash px-3 py-2 text-loss">
      {document.name} cannot be read: {document.trouble}. What an earlier reading told is shown; the file was not
      touched. Save it again from where it was made, then read the volume.
    </p>
  ));
}

/** The snapshots of its documents, where their timelines are listed. */
function HowFarBack({ data: { project, kept } }: { data: Data }) {
  const lens = useLens();
  return (
    <>
      <Link to={lens(`/projects/${project.id}/back`)} className="text-accent underline">
        {kept.count === 0 ? 'how far back' : counted(kept.count, 'snapshot')}
      </Link>
    </>
  );
}

/** Timelines; the chosen ones are the scope that used and unused are told of. */
function Timelines({ data }: { data: Data }) {
  const to = useTo();
  const navigate = useNavigate();
  const asked = (useAsked().get('t') ?? '').split(',').map(Number);
  const chosen = asked.filter((id) => data.timelines.some((one) => one.timelineId === id));
  if (data.timelines.length === 0) return <Empty>Its documents hold no timeline.</Empty>;
  return (
    <ul className="rows">
      {data.timelines.map((timeline) => {
        const isChosen = chosen.includes(timeline.timelineId);
        const next = isChosen ? chosen.filter((id) => id !== timeline.timelineId) : [...chosen, timeline.timelineId];
        const address = to({ t: next.join(',') || null, bin: 'all', clips: null });
        return (
          <li key={timeline.timelineId}>
            <Link
              to={address}
              preventScrollReset
              onClick={(event) => {
                if (event.button !== 0 || event.ctrlKey || event.metaKey || event.shiftKey || event.altKey) return;
                event.preventDefault();
                // Told at once, so that the next click adds to this one.
                void navigate(address, { preventScrollReset: true, flushSync: true });
              }}
              aria-current={isChosen ? 'true' : undefined}
              title={isChosen ? 'No longer only what this timeline reaches' : 'Only what this timeline reaches'}
              className={clsx(
                '-mx-2 grid grid-cols-[minmax(0,1fr)_auto] items-baseline gap-x-3 rounded-md px-2 py-1',
                isChosen ? 'bg-accent-wash' : 'hover:bg-panel',
              )}
            >
              <span className="col-span-2 truncate font-medium" title={timeline.name}>
                {timeline.name}
              </span>
              <span className="path text-ink-2">{timeline.length}</span>
              <span className="text-right text-[13px]">{size(timeline.bytes)}</span>
            </Link>
          </li>
        );
      })}
    </ul>
  );
}

function Bins({ data }: { data: Data }) {
  const to = useTo();
  const children = (parent: number | null, depth: number): { bin: Data['bins'][number]; depth: number }[] =>
    data.bins
      .filter((bin) => bin.parentId === parent)
      .flatMap((bin) => [{ bin, depth }, ...children(bin.binId, depth + 1)]);
  const all = data.bins.reduce((sum, bin) => sum + bin.clips, data.loose);
  const look = (chosen: boolean) =>
    clsx(
      'flex items-baseline justify-between gap-2 py-1 pr-4',
      chosen ? 'bg-accent-wash font-semibold' : 'hover:bg-panel',
    );
  return (
    <nav aria-label="Bins" className="card !px-0">
      <h2 className="card-title mb-1 px-4">Bins</h2>
      {children(null, 0).map(({ bin, depth }) => (
        <Link
          key={bin.binId}
          to={to({ bin: String(bin.binId), clips: null })}
          preventScrollReset
          className={look(data.bin === bin.binId)}
          style={{ paddingLeft: 16 + depth * 14 }}
          aria-current={data.bin === bin.binId ? 'true' : undefined}
        >
          <span className="truncate" title={bin.name}>
            {bin.name}
          </span>
          {bin.missing > 0 ? (
            <span className="text-[13px] whitespace-nowrap text-loss">{bin.missing} missing</span>
          ) : (
            bin.clips > 0 && <span className="text-[13px] text-ink-2">{count(bin.clips)}</span>
          )}
        </Link>
      ))}
      {data.loose > 0 && (
        <Link
          to={to({ bin: 'none', clips: null })}
          preventScrollReset
          className={look(data.bin === null)}
          aria-current={data.bin === null ? 'true' : undefined}
          style={{ paddingLeft: 16 }}
        >
          Not in any bin <span className="text-[13px] text-ink-2">{count(data.loose)}</span>
        </Link>
      )}
      <Link
        to={to({ bin: 'all', clips: null })}
        preventScrollReset
        className={look(data.bin === 'all')}
        aria-current={data.bin === 'all' ? 'true' : undefined}
        style={{ paddingLeft: 16 }}
      >
        All clips <span className="text-[13px] text-ink-2">{count(all)}</span>
      </Link>
    </nav>
  );
}

function Figures({ data }: { data: Data }) {
  const { project, media, holdings } = data;
  const lens = useLens();
  const bytes = holdings.reduce((sum, row) => sum + row.bytes, 0);
  return (
    <dl className="flex items-end gap-5 text-right">
      <Fact name="On disk">{size(bytes)}</Fact>
      <Fact name="Media found">
        {count(media.total - media.missing)}{' '}
        <span className="text-[13.5px] font-normal text-ink-2">of {count(media.total)}</span>
        {media.missing > 0 && (
          <Link
            to={lens(`/projects/${project.id}/missing`)}
            className="ml-2 text-[13.5px] font-medium text-accent hover:underline"
          >
            find {count(media.missing)}
          </Link>
        )}
      </Fact>
      <Fact name="Unused">
        {media.unusedBytes > 0 ? (
          <Link to={lens(`/reclaim?project=${project.id}&group=unused media`)} className="hover:underline">
            {size(media.unusedBytes)}
          </Link>
        ) : (
          size(0)
        )}
      </Fact>
    </dl>
  );
}
