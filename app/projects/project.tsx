// One project: what it holds by kind and volume, its timelines, its bins and clips, what is found and what is used.
import clsx from 'clsx';
import { Popover } from 'radix-ui';
import { Link, useFetcher, useNavigate } from 'react-router';
import type { Route } from './+types/project';
import { KINDS_WITH_HOMES } from '#core/homes/homes.ts';
import { type Kind, KINDS, PROJECT_STATES, type VolumeId } from '#core/model.ts';
import { ago, count, counted, exactTime, size } from '#core/wording/amounts.ts';
import { stateSince } from '#core/wording/lenses.ts';
import { useFrame } from '../shell/use-frame';
import { useAsked, useLens, useTo } from '../shell/links';
import { Button, buttonLook, Card, Chip, Empty, Field, inputLook, KindDot, Said, VolumeOptions } from '../ui/parts';
import { Select } from '../ui/select';
import { About } from './about';
import { Clips } from './clips';
import { Elsewhere } from './elsewhere';
import type { action } from './project.server.ts';

export { loader, action } from './project.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Project({ loaderData }: Route.ComponentProps) {
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Head data={loaderData} />
      <Troubles data={loaderData} />
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1.7fr)_minmax(0,1fr)] gap-4">
        <Card title="Homes" aside={<SuggestHomes data={loaderData} />} className="max-h-[230px] overflow-auto">
          <Holdings data={loaderData} />
        </Card>
        <Card title="Timelines" aside={<HowFarBack data={loaderData} />} className="max-h-[230px] overflow-auto">
          <Timelines data={loaderData} />
        </Card>
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[200px_minmax(0,1fr)] gap-4">
        <Bins data={loaderData} />
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
        <div className="truncate text-ink-2">
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
        <h1 className="sentence truncate" title={project.name}>
          {project.name}
        </h1>
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
          <Link to={lens(`/archive/${project.id}`)} className={buttonLook('first')}>
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

function SuggestHomes({ data }: { data: Data }) {
  const fetcher = useFetcher<typeof action>();
  const without = KINDS_WITH_HOMES.some(
    (kind) =>
      data.holdings.some((row) => row.kind === kind && row.bytes > 0) && !data.homes.some((home) => home.kind === kind),
  );
  if (!without) return null;
  return (
    <fetcher.Form method="post">
      <button type="submit" name="intent" value="suggest" className="text-accent hover:underline">
        set them to where most lies
      </button>
    </fetcher.Form>
  );
}

function Holdings({ data }: { data: Data }) {
  const { volumes } = useFrame();
  const names = new Map(volumes.map((volume) => [volume.volumeId, volume.name]));
  const kinds = KINDS.filter(
    (kind) => data.holdings.some((row) => row.kind === kind) || data.homes.some((home) => home.kind === kind),
  );
  if (kinds.length === 0) return <Empty>Nothing of it is on any volume that was read.</Empty>;
  return (
    <ul className="rows">
      {kinds.map((kind) => {
        const rows = data.holdings.filter((row) => row.kind === kind).sort((a, b) => b.bytes - a.bytes);
        const home = data.homes.find((h) => h.kind === kind);
        const spread = rows.map((row) => `${names.get(row.volumeId)} ${size(row.bytes)}`).join(', ');
        const place = home
          ? `${names.get(home.volumeId) ?? 'a retired volume'}${home.folder === '' ? '' : ` / ${home.folder}`}`
          : spread;
        return (
          <li key={kind} className="grid grid-cols-[84px_minmax(0,1fr)_64px_minmax(0,178px)] items-center gap-2 py-1">
            <span className="flex items-center gap-1.5">
              <KindDot kind={kind} /> {kind}
            </span>
            <span className={clsx('truncate', home ? 'path' : 'text-ink-2')} title={`${place}; on disk: ${spread}`}>
              {place}
            </span>
            <span className="text-right font-medium">{size(rows.reduce((sum, row) => sum + row.bytes, 0))}</span>
            <HomeState data={data} kind={kind} home={home ?? null} names={names} />
          </li>
        );
      })}
    </ul>
  );
}

interface HomeStateProps {
  data: Data;
  kind: Kind;
  home: Data['homes'][number] | null;
  names: Map<VolumeId, string>;
}

/** Whether a kind is all at home, and the way to give it another. */
function HomeState({ data, kind, home, names }: HomeStateProps) {
  const strays = data.strays.filter((stray) => stray.kind === kind);
  const others = data.neighbours.filter((neighbour) => neighbour.kind === kind);
  if (!KINDS_WITH_HOMES.includes(kind)) return <span className="text-[13px] text-ink-2">no home</span>;
  return (
    <span className="flex items-center justify-between gap-2">
      {strays.length > 0 ? (
        <MoveHome kind={kind} strays={strays} names={names} />
      ) : home?.trouble ? (
        <span className="truncate text-[13px] text-caution" title={HOME_TROUBLES[home.trouble]}>
          {HOME_TROUBLES[home.trouble]}
        </span>
      ) : (
        <span
          className="truncate text-[13px] text-ink-2"
          title={
            others.length > 0
              ? `also here: ${others.map((o) => `${o.project} ${size(o.bytes)}`).join(', ')}`
              : undefined
          }
        >
          {home
            ? others.length > 0
              ? `shared with ${others.map((o) => o.project).join(', ')}`
              : 'all at home'
            : 'no home yet'}
        </span>
      )}
      <EditHome kind={kind} home={home} />
    </span>
  );
}

const HOME_TROUBLES = {
  unreachable: 'its volume cannot be reached',
  'read-only': 'its volume can only be read',
  'out of use': 'its volume is retired',
  'not made': 'the folder is not there yet',
} as const;

interface MoveHomeProps {
  kind: Kind;
  strays: Data['strays'];
  names: Map<VolumeId, string>;
}

/** Stages the strays of a kind to go home. */
function MoveHome({ kind, strays, names }: MoveHomeProps) {
  const fetcher = useFetcher<typeof action>();
  const bytes = size(strays.reduce((sum, stray) => sum + stray.bytes, 0));
  const from = strays.map((stray) => `${size(stray.bytes)} on ${names.get(stray.volumeId)}`).join(', ');
  if (fetcher.data?.ok) return <Chip tone="ok">move in the plan</Chip>;
  const words = fetcher.data && !fetcher.data.ok ? 'not added' : `move ${bytes} home`;
  return (
    <fetcher.Form method="post" className="min-w-0">
      <input type="hidden" name="kind" value={kind} />
      <button
        type="submit"
        name="intent"
        value="move"
        disabled={fetcher.state !== 'idle'}
        title={fetcher.data && !fetcher.data.ok ? fetcher.data.error : from}
        aria-label={`${words}: ${kind}, ${from}`}
        className="truncate rounded-md bg-caution-wash px-2 py-0.5 text-xs font-medium text-caution hover:underline"
      >
        {words}
      </button>
      {fetcher.data && !fetcher.data.ok && (
        <span role="alert" className="sr-only">
          {fetcher.data.error}
        </span>
      )}
    </fetcher.Form>
  );
}

function EditHome({ kind, home }: { kind: Kind; home: Data['homes'][number] | null }) {
  const { volumes } = useFrame();
  const fetcher = useFetcher<typeof action>();
  return (
    <Popover.Root>
      <Popover.Trigger
        className="text-[13px] text-accent hover:underline"
        aria-label={`${home ? 'Change' : 'Set'} the home of ${kind}`}
      >
        {home ? 'change' : 'set'}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          aria-label={`Home of ${kind}`}
          className="z-40 w-80 rounded-[10px] border border-line bg-raised p-4 focus:outline-none"
        >
          <fetcher.Form method="post" className="grid gap-3">
            <input type="hidden" name="intent" value="home" />
            <input type="hidden" name="kind" value={kind} />
            <Field label={`Files of the kind ${kind} belong on`}>
              <Select name="volumeId" className={inputLook} defaultValue={home?.volumeId}>
                <VolumeOptions volumes={volumes} />
              </Select>
            </Field>
            <Field label="In the folder" hint="Empty for the whole volume. Nothing is moved.">
              <input name="folder" className={`${inputLook} path`} defaultValue={home?.folder} />
            </Field>
            <Button tone="first" type="submit">
              Save this home
            </Button>
            <Said answer={fetcher.data} />
          </fetcher.Form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** The snapshots of its documents, where their timelines are listed. */
function HowFarBack({ data: { project, kept } }: { data: Data }) {
  const lens = useLens();
  return (
    <>
      length, media reached ·{' '}
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
                '-mx-2 grid grid-cols-[minmax(0,1fr)_auto_72px] items-center gap-3 rounded-md px-2 py-1.5',
                isChosen ? 'bg-accent-wash' : 'hover:bg-panel',
              )}
            >
              <span className="truncate font-medium" title={timeline.name}>
                {timeline.name}
              </span>
              <span className="path text-ink-2">{timeline.length}</span>
              <span className="text-right">{size(timeline.bytes)}</span>
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
