// The clips of a project: what timelines use of each, where it lies, whose it is; filtered, exported, or as a picture of
// what uses what.
import clsx from 'clsx';
import { useState } from 'react';
import { Form, Link, useFetcher, useNavigation, useSearchParams, useSubmit } from 'react-router';
import { KINDS } from '#core/model.ts';
import { shareOf, shareText } from '#core/reach/scope.ts';
import { count, counted, size } from '#core/wording/amounts.ts';
import { UsedStrip } from '../charts/used-strip';
import { UsesPicture } from '../charts/uses-picture';
import { copyText } from '../lib/copy';
import type { RowAction } from '../ui/menu';
import type { Answer } from '../lib/answer';
import { useAsked, useLens, useTo } from '../shell/links';
import { Checkbox } from '../ui/checkbox';
import { Button, buttonLook, Chip, Empty, inputLook, KindDot, Said } from '../ui/parts';
import { Picture } from '../ui/picture';
import { Table } from '../ui/table';
import { Select } from '../ui/select';
import type { Route } from './+types/project';

type Data = Route.ComponentProps['loaderData'];
type Clip = Data['clips'][number];

const SHOWS = [
  ['all', 'all'],
  ['used', 'used'],
  ['unused', 'unused'],
  ['missing', 'missing'],
  ['borrowed', 'borrowed'],
  ['lent', 'lent'],
] as const;

/** As many as an address can name; see clips-asked.server.ts. */
const MOST_CHOSEN = 500;

const USES = [
  ['', 'all uses'],
  ['picture', 'picture only'],
  ['sound', 'sound only'],
  ['on', 'not those off'],
] as const;

/** What of the chosen clips no timeline uses leaves its place, once the plan is run. */
function SetAside({ clipIds }: { clipIds: readonly number[] }) {
  const fetcher = useFetcher<Answer>();
  return (
    <fetcher.Form method="post" className="flex flex-wrap items-center gap-3">
      <input type="hidden" name="clips" value={clipIds.join()} />
      <Button type="submit" name="intent" value="set aside" disabled={fetcher.state !== 'idle'}>
        Set aside what is unused of {counted(clipIds.length, 'clip')}
      </Button>
      <Said answer={fetcher.data} />
    </fetcher.Form>
  );
}

export function Clips({ data }: { data: Data }) {
  const navigation = useNavigation();
  const [search] = useSearchParams();
  const lens = useLens();
  const bin = data.bins.find((b) => b.binId === data.bin);
  const picture = search.get('as') === 'picture';
  const [marked, setMarked] = useState<ReadonlySet<number>>(new Set());
  const chosen = data.clips.filter((clip) => marked.has(clip.clipId));
  const bytes = (chosen.length > 0 ? chosen : data.clips).reduce((sum, clip) => sum + clip.bytes, 0);
  const clips = data.more ? `the first ${count(data.clips.length)} by name` : counted(data.clips.length, 'clip');
  const choose = (clipId: number, on: boolean) =>
    setMarked((before) => {
      const next = new Set(before);
      if (on) next.add(clipId);
      else next.delete(clipId);
      return next;
    });
  return (
    <div className="card" aria-busy={navigation.state !== 'idle'}>
      <header className="mb-1 grid gap-1.5">
        <div className="flex items-center justify-between slim:flex-wrap gap-3">
          <h2 className="card-title truncate">
            {bin?.name ?? (data.bin === null ? 'Not in any bin' : 'All clips')}{' '}
            <span className="font-normal text-ink-2">
              {chosen.length > 0 && chosen.length < data.clips.length
                ? `${count(chosen.length)} of ${clips} chosen`
                : clips}
              , {size(bytes)}
            </span>
          </h2>
          <Filters data={data} />
        </div>
        <Shows data={data} picture={picture} chosen={chosen.map((clip) => clip.clipId)} />
        {chosen.length > 0 && (
          <div className="flex flex-wrap items-center gap-3">
            <SetAside clipIds={chosen.map((clip) => clip.clipId)} />
            <Link
              to={lens(`/archive/${data.project.id}?clips=${chosen.map((clip) => clip.clipId).join()}`)}
              className={buttonLook('plain')}
            >
              Archive or hand over these alone
            </Link>
          </div>
        )}
      </header>
      {data.clips.length === 0 ? (
        <Empty>
          {data.show === 'all' && data.text === '' ? 'There are no clips here.' : 'No clip here is like that.'}
        </Empty>
      ) : picture ? (
        <UsesPicture clips={data.clips} />
      ) : (
        <ClipTable data={data} find={search.get('find')} marked={marked} onChoose={choose} />
      )}
    </div>
  );
}

function Filters({ data }: { data: Data }) {
  const search = useAsked();
  const submit = useSubmit();
  const kept = [...search].filter(([key]) => !['q', 'kind', 'uses', 'clips'].includes(key));
  return (
    <Form
      className="flex gap-2"
      onChange={(event) => event.target instanceof HTMLSelectElement && void submit(event.currentTarget)}
    >
      {kept.map(([key, value]) => (
        <input key={key} type="hidden" name={key} value={value} />
      ))}
      <Select
        name="uses"
        aria-label="What counts as a use"
        defaultValue={data.uses}
        className={clsx(inputLook, '!w-32')}
      >
        {USES.map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </Select>
      <Select name="kind" aria-label="Kind of file" defaultValue={data.kind ?? ''} className={clsx(inputLook, '!w-28')}>
        <option value="">any kind</option>
        {KINDS.map((kind) => (
          <option key={kind}>{kind}</option>
        ))}
      </Select>
      <input
        name="q"
        defaultValue={data.text}
        aria-label="Clips named"
        placeholder="Part of a name"
        className={clsx(inputLook, '!w-36')}
      />
    </Form>
  );
}

const word = (chosen: boolean) =>
  clsx(
    'rounded-md px-2 py-0.5 text-[13px] whitespace-nowrap',
    chosen ? 'bg-accent-wash font-semibold text-accent-deep' : 'text-ink-2 hover:text-ink',
  );

function Shows({ data, picture, chosen }: { data: Data; picture: boolean; chosen: readonly number[] }) {
  const to = useTo();
  const [first, second] = data.scope.timelineIds.map(
    (id) => data.timelines.find((one) => one.timelineId === id)?.name ?? '',
  );
  const comparing = data.scope.timelineIds.length === 2;
  const shows: (readonly [Data['show'], string])[] = comparing
    ? [...SHOWS, ['first', `only ${first}`], ['second', `only ${second}`], ['both', 'in both']]
    : [...SHOWS];
  return (
    <div className="flex flex-wrap items-center justify-between gap-x-4 gap-y-1">
      <div role="group" aria-label="Show" className="flex flex-wrap gap-1">
        {shows.map(([value, words]) => (
          <Link
            key={value}
            to={to({ show: value, clips: null })}
            preventScrollReset
            className={clsx(word(data.show === value), 'max-w-44 truncate')}
            aria-current={data.show === value ? 'true' : undefined}
          >
            {words}
          </Link>
        ))}
      </div>
      <SameAs data={data} picture={picture} chosen={chosen} />
    </div>
  );
}

interface ClipTableProps {
  data: Data;
  find: string | null;
  marked: ReadonlySet<number>;
  onChoose: (clipId: number, on: boolean) => void;
}

function ClipTable({ data, find, marked, onChoose }: ClipTableProps) {
  const lens = useLens();
  return (
    <Table
      label="Clips"
      rows={data.clips}
      rowKey={(clip) => clip.clipId}
      height="max(320px, calc(100vh - 330px))"
      marked={(clip) => clip.name === find}
      actions={(clip) => actionsOf(clip, { projectId: data.project.id, lens })}
      columns={[
        {
          key: 'choose',
          title: <span className="sr-only">Chosen</span>,
          width: 26,
          cell: (clip) => (
            <Checkbox
              checked={marked.has(clip.clipId)}
              onChange={(on) => onChoose(clip.clipId, on)}
              label={`Choose ${clip.name}`}
              disabled={!marked.has(clip.clipId) && marked.size >= MOST_CHOSEN}
            />
          ),
        },
        { key: 'name', title: 'Clip', sort: (clip) => clip.name, cell: (clip) => <ClipName clip={clip} data={data} /> },
        {
          key: 'used',
          title: 'Used',
          width: 190,
          sort: (clip) => shareOf(clip.used),
          cell: (clip) => <Reached clip={clip} projectId={data.project.id} />,
        },
        {
          key: 'length',
          title: 'Duration',
          number: true,
          sort: (clip) => clip.length ?? '',
          cell: (clip) => <span className="path">{clip.length ?? ''}</span>,
        },
        {
          key: 'size',
          title: 'Size',
          number: true,
          sort: (clip) => clip.bytes,
          cell: (clip) => (clip.bytes > 0 ? size(clip.bytes) : ''),
        },
        {
          key: 'timelines',
          title: 'Timelines',
          sort: (clip) => clip.timelines.map((one) => one.name).join(),
          cell: (clip) => <UsedBy clip={clip} />,
        },
      ]}
    />
  );
}

function actionsOf(
  clip: Clip,
  { projectId, lens }: { projectId: number; lens: ReturnType<typeof useLens> },
): RowAction[] {
  return [
    ...(clip.fileId === null
      ? []
      : [{ name: 'Where it lies, and who uses it', letter: 'o', to: lens(`/space?file=${clip.fileId}`) }]),
    { name: 'Archive it alone', letter: 'a', to: lens(`/archive/${projectId}?clips=${clip.clipId}`) },
    { name: 'Hand it over alone', letter: 'h', to: lens(`/archive/${projectId}?for=hand-over&clips=${clip.clipId}`) },
    ...(clip.mediaId === null
      ? []
      : [
          {
            name: 'Replace its media',
            letter: 'x',
            to: lens(`/projects/${projectId}/missing?media=${clip.mediaId}`),
          },
        ]),
    { name: 'Copy its name', letter: 'c', run: () => copyText(clip.name) },
  ];
}

/** The way from a clip to its place: uses, station paths and neighbours are told there. */
function ClipName({ clip, data }: { clip: Clip; data: Data }) {
  const lens = useLens();
  const title = clip.where ? `${clip.name}, ${clip.where}` : clip.name;
  return (
    <span className="flex max-w-56 items-center gap-1.5">
      {clip.fileId !== null ? <Poster clip={clip} /> : null}
      {clip.kind && <KindDot kind={clip.kind} />}
      {clip.fileId !== null ? (
        <Link to={lens(`/space?file=${clip.fileId}`)} className="path truncate hover:underline" title={title}>
          {clip.name}
        </Link>
      ) : (
        <span className="path truncate" title={title}>
          {clip.name}
        </span>
      )}
      {clip.mediaId !== null && clip.state === 'found' && (
        <Link
          to={lens(`/projects/${data.project.id}/missing?media=${clip.mediaId}`)}
          aria-label={`Replace the media of ${clip.name}`}
          title="Replace its media by another version"
          className="inline-flex size-6 shrink-0 items-center justify-center text-ink-3 hover:text-accent"
        >
          ⇄
        </Link>
      )}
    </span>
  );
}

const WITH_PICTURES = new Set([
  'mov',
  'mp4',
  'm4v',
  'mxf',
  'mkv',
  'avi',
  'png',
  'jpg',
  'jpeg',
  'tif',
  'tiff',
  'dpx',
  'exr',
]);

function Poster({ clip }: { clip: Clip }) {
  if (!WITH_PICTURES.has(clip.ending.toLowerCase())) return null;
  return (
    <span className="inline-block h-[22px] w-[39px] shrink-0 overflow-hidden rounded-[3px] bg-free">
      <Picture key={clip.fileId} fileId={clip.fileId!} />
    </span>
  );
}

function UsedBy({ clip }: { clip: Clip }) {
  const words = clip.timelines.map((one) => one.name).join(', ');
  const others = [
    clip.borrowedFrom && `from ${clip.borrowedFrom}`,
    clip.lentTo.length > 0 && `also in ${clip.lentTo.join(', ')}`,
  ].filter(Boolean);
  return (
    <span className="flex max-w-72 items-center gap-2">
      <span className={clsx('truncate', words === '' && 'text-ink-2')} title={words}>
        {words || 'none'}
      </span>
      {others.length > 0 && (
        <span className="shrink-0 truncate text-[13px] text-caution" title={others.join('; ')}>
          {others.join('; ')}
        </span>
      )}
    </span>
  );
}

/** The same clips as a picture, as a table to take away, or on paper. */
function SameAs({ data, picture, chosen }: { data: Data; picture: boolean; chosen: readonly number[] }) {
  const to = useTo();
  const lens = useLens();
  const search = useAsked();
  const exported = (as: string) => {
    const next = new URLSearchParams(search);
    next.set('as', as);
    if (chosen.length > 0) next.set('clips', chosen.join());
    return `/projects/${data.project.id}/export?${next.toString()}`;
  };
  return (
    <div role="group" aria-label="The same as" className="flex flex-wrap gap-1">
      {data.chosen > 0 && (
        <Link to={to({ clips: null })} preventScrollReset className={word(true)} aria-label="No longer only the chosen">
          only {count(data.chosen)} chosen ×
        </Link>
      )}
      <Link
        to={to(picture ? { as: null, clips: null } : { as: 'picture', clips: chosen.join() || search.get('clips') })}
        preventScrollReset
        className={word(picture)}
        aria-current={picture ? 'true' : undefined}
      >
        as a picture
      </Link>
      <a href={exported('csv')} className={word(false)} download>
        CSV
      </a>
      <a href={exported('json')} className={word(false)} download>
        JSON
      </a>
      <Link to={lens(`/projects/${data.project.id}/report`)} className={word(false)}>
        report
      </Link>
    </div>
  );
}

function Reached({ clip, projectId }: { clip: Clip; projectId: number }) {
  const lens = useLens();
  return clip.state === 'found' ? (
    <span className="flex items-center gap-2">
      <UsedStrip parts={clip.used} />
      <span aria-hidden className="w-8 text-right text-[12.5px] text-ink-2">
        {shareText(clip.used)}
      </span>
    </span>
  ) : clip.state === 'archived' ? (
    <Chip tone="ok">in an archive</Chip>
  ) : (
    <Link
      to={lens(`/projects/${projectId}/missing`)}
      className="rounded-md bg-loss-wash px-2 py-0.5 text-xs font-medium text-loss hover:underline"
    >
      {clip.state === 'outside' ? 'points outside' : 'missing'}
    </Link>
  );
}
