// Where the files of a project belong: one line of what it holds, kind by kind, with the step that brings home what has strayed; opened,
// each kind with its home.
import { projectForm } from '#contract/forms.ts';
import clsx from 'clsx';
import { useFetcher } from 'react-router';
import { z } from 'zod';
import type { Route } from './+types/project';
import { KINDS_WITH_HOMES } from '#core/homes/homes.ts';
import { type Kind, KINDS, type VolumeId } from '#core/model.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { useKept } from '../lib/kept';
import { useFrame } from '../shell/use-frame';
import { Form } from '../ui/form';
import { Pop } from '../ui/pop';
import { Button, Chip, Empty, Field, inputLook, KindDot, PathText, Said, VolumeOptions } from '../ui/parts';
import { Select } from '../ui/select';
import type { action } from './project.server.ts';

type Data = Route.ComponentProps['loaderData'];

const asOpen = z.boolean();

export function Homes({ data }: { data: Data }) {
  const [isOpen, open] = useKept('homes open', asOpen, false);
  const { volumes } = useFrame();
  const names = new Map(volumes.map((volume) => [volume.volumeId, volume.name]));
  const kinds = kindsOf(data);
  return (
    <section aria-label="Homes" className="card !py-2.5">
      <div className="flex flex-wrap items-center gap-x-2.5 gap-y-1.5">
        <h2 className="card-title">
          <button
            type="button"
            aria-expanded={isOpen}
            className="flex min-h-6 items-center gap-1.5 hover:underline"
            onClick={() => open(!isOpen)}
          >
            <span aria-hidden className="inline-block w-3 text-[10px] text-ink-2">
              {isOpen ? '▼' : '▶'}
            </span>
            Homes
          </button>
        </h2>
        {!isOpen &&
          kinds.map((kind) => (
            <span key={kind} className="flex items-center gap-1 text-[13px] whitespace-nowrap">
              <KindDot kind={kind} /> {kind} <b>{size(bytesOf(data, kind))}</b>
              <Strayed data={data} kind={kind} names={names} />
            </span>
          ))}
        <Lacks data={data} kinds={kinds} />
        <SuggestHomes data={data} />
      </div>
      {isOpen && <Holdings data={data} />}
    </section>
  );
}

const kindsOf = (data: Data): Kind[] =>
  KINDS.filter(
    (kind) => data.holdings.some((row) => row.kind === kind) || data.homes.some((home) => home.kind === kind),
  );

const bytesOf = (data: Data, kind: Kind): number =>
  data.holdings.filter((row) => row.kind === kind).reduce((sum, row) => sum + row.bytes, 0);

function Strayed({ data, kind, names }: { data: Data; kind: Kind; names: Map<VolumeId, string> }) {
  const strays = data.strays.filter((stray) => stray.kind === kind);
  return strays.length > 0 && <MoveHome kind={kind} strays={strays} names={names} isShort />;
}

/** Of the homes what somebody has to look at. */
function Lacks({ data, kinds }: { data: Data; kinds: readonly Kind[] }) {
  const inTrouble = data.homes.filter((home) => home.trouble && bytesOf(data, home.kind) > 0).length;
  const without = kinds.filter(
    (kind) => KINDS_WITH_HOMES.includes(kind) && !data.homes.some((home) => home.kind === kind),
  ).length;
  const words = [
    ...(inTrouble > 0 ? [`${counted(inTrouble, 'home')} to look at`] : []),
    ...(without > 0 ? [`${counted(without, 'kind')} without a home`] : []),
  ];
  return words.length > 0 && <Chip tone="caution">{words.join(', ')}</Chip>;
}

function SuggestHomes({ data }: { data: Data }) {
  const fetcher = useFetcher<typeof action>();
  const without = KINDS_WITH_HOMES.some(
    (kind) =>
      data.holdings.some((row) => row.kind === kind && row.bytes > 0) && !data.homes.some((home) => home.kind === kind),
  );
  if (!without) return null;
  return (
    <Form fetcher={fetcher} schema={projectForm} method="post" className="ml-auto text-[13px]">
      <button type="submit" name="intent" value="suggest" className="text-accent hover:underline">
        set them to where most lies
      </button>
    </Form>
  );
}

function Holdings({ data }: { data: Data }) {
  const { volumes } = useFrame();
  const names = new Map(volumes.map((volume) => [volume.volumeId, volume.name]));
  const kinds = kindsOf(data);
  if (kinds.length === 0) return <Empty>Nothing of it is on any volume that was read.</Empty>;
  return (
    <ul className="rows mt-1">
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
            <span className={clsx('min-w-0', !home && 'text-ink-2')} title={`${place}; on disk: ${spread}`}>
              {home ? <PathText path={place} /> : <span className="block truncate">{place}</span>}
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
  isShort?: boolean;
}

/** Stages the strays of a kind to go home. */
function MoveHome({ kind, strays, names, isShort = false }: MoveHomeProps) {
  const fetcher = useFetcher<typeof action>();
  const bytes = size(strays.reduce((sum, stray) => sum + stray.bytes, 0));
  const from = strays.map((stray) => `${size(stray.bytes)} on ${names.get(stray.volumeId)}`).join(', ');
  if (fetcher.data?.ok) return <Chip tone="ok">move in the plan</Chip>;
  const words = fetcher.data && !fetcher.data.ok ? 'not added' : `move ${bytes} home`;
  return (
    <Form fetcher={fetcher} schema={projectForm} method="post" className="min-w-0">
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
        {isShort ? words.replace(/ home$/, '') : words}
      </button>
      {fetcher.data && !fetcher.data.ok && (
        <span role="alert" className="sr-only">
          {fetcher.data.error}
        </span>
      )}
    </Form>
  );
}

function EditHome({ kind, home }: { kind: Kind; home: Data['homes'][number] | null }) {
  const { volumes } = useFrame();
  const fetcher = useFetcher<typeof action>();
  return (
    <Pop
      label={`Home of ${kind}`}
      opener={{
        className: 'text-[13px] text-accent hover:underline',
        'aria-label': `${home ? 'Change' : 'Set'} the home of ${kind}`,
        children: home ? 'change' : 'set',
      }}
    >
      <Form fetcher={fetcher} schema={projectForm} method="post" className="grid gap-3">
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
      </Form>
    </Pop>
  );
}
