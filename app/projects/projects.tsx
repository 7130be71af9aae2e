// Projects: every one with its state, size, and what of its media is found.
import { projectsForm } from '#contract/forms.ts';
import { type ReactNode, useState } from 'react';
import { Link, useFetcher } from 'react-router';
import { z } from 'zod';
import type { Route } from './+types/projects';
import { PROJECT_STATES } from '#core/model.ts';
import { count, counted, exactTime, size } from '#core/wording/amounts.ts';
import { stateSince } from '#core/wording/lenses.ts';
import { useFrame } from '../shell/use-frame';
import { useAsked, useLens } from '../shell/links';
import type { Answer } from '../lib/answer';
import { copyText } from '../lib/copy';
import { useKept } from '../lib/kept';
import { Form } from '../ui/form';
import { Bar, Button, Chip, Empty, Field, inputLook, kindColour, Said, Sentence } from '../ui/parts';
import { type RowAction, Ticks } from '../ui/menu';
import { Sheet } from '../ui/sheet';
import { type Column, Table } from '../ui/table';
import { Select } from '../ui/select';
import { type Asked, EVERY, fits } from './fits';

export { loader, action } from './projects.server.ts';

type Row = Route.ComponentProps['loaderData']['projects'][number];

/** Columns that are of whole projects, on whichever volumes they lie. */
const wholeColumns: Column<Row>[] = [
  {
    key: 'unused',
    title: 'Unused',
    number: true,
    sort: (row) => row.unusedBytes,
    cell: (row) => size(row.unusedBytes),
  },
  {
    key: 'found',
    title: 'Media found',
    number: true,
    sort: (row) => row.missing,
    cell: (row) => (
      <>
        {count(row.media - row.missing)} <span className="text-ink-2">of {count(row.media)}</span>
      </>
    ),
  },
];

export default function Projects({ loaderData }: Route.ComponentProps) {
  const lens = useLens();
  const { nowMs } = useFrame();
  const [asked, setAsked] = useState(EVERY);
  const { projects } = loaderData;
  const shown = projects.filter((row) => fits(row, asked));
  const columns = columnsOf(loaderData.on.length > 0, Math.max(...projects.map((row) => row.bytes)), lens, nowMs);
  const [left, leave] = useKept('projects without columns', asKeys, NONE);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex items-start justify-between slim:flex-wrap gap-4">
        <Sentence>{loaderData.sentence}</Sentence>
        <NewProject templates={loaderData.templates} />
      </div>
      {projects.length > 1 && (
        <Narrow projects={projects} shown={shown.length} asked={asked} onAsk={setAsked}>
          <Columns columns={columns.slice(1)} left={left} onLeave={leave} />
        </Narrow>
      )}
      <div className="card py-1">
        {projects.length === 0 ? (
          <Empty>Read the volumes, and projects are found by their documents.</Empty>
        ) : shown.length === 0 ? (
          <Empty>No project fits.</Empty>
        ) : (
          <Table<Row>
            label="Projects"
            rows={shown}
            rowKey={(row) => row.projectId}
            first={{ by: 'size', down: true }}
            columns={columns.filter(({ key }) => !left.includes(key))}
            actions={(row) => actionsOf(row, lens)}
          />
        )}
      </div>
    </div>
  );
}

const narrowing = `${inputLook} h-8 !w-44 text-[13px]`;

interface NarrowProps {
  projects: readonly Row[];
  shown: number;
  asked: Asked;
  onAsk: (asked: Asked) => void;
  children: ReactNode;
}

/** By a word, by state, by client; of those only what there is. */
function Narrow({ projects, shown, asked, onAsk, children }: NarrowProps) {
  const clients = [...new Set(projects.map((row) => row.client).filter(Boolean))].sort();
  const states = PROJECT_STATES.filter((state) => projects.some((row) => row.state === state));
  const search = useAsked();
  const exported = (as: string): string =>
    `/projects/export?${new URLSearchParams({ ...asked, as, v: search.get('v') ?? '' }).toString()}`;
  return (
    <div role="search" aria-label="Projects" className="flex flex-wrap items-center gap-2">
      <input
        type="search"
        aria-label="Find a project"
        placeholder="Part of its name or client"
        value={asked.words}
        maxLength={200}
        onChange={(event) => onAsk({ ...asked, words: event.currentTarget.value })}
        className={`${inputLook} h-8 !w-56 text-[13px]`}
      />
      <Select
        aria-label="State"
        value={asked.state}
        onChange={(event) => onAsk({ ...asked, state: event.currentTarget.value })}
        className={narrowing}
      >
        <option value="">every state</option>
        {states.map((state) => (
          <option key={state}>{state}</option>
        ))}
      </Select>
      {clients.length > 0 && <Client clients={clients} asked={asked} onAsk={onAsk} />}
      {shown < projects.length && (
        <span role="status" className="text-[13px] text-ink-2">
          {count(shown)} of {counted(projects.length, 'project')}{' '}
          <button type="button" className="text-accent underline" onClick={() => onAsk(EVERY)}>
            show all
          </button>
        </span>
      )}
      <span className="ml-auto flex items-center gap-3 text-[13px]">
        {children}
        {(['csv', 'json'] as const).map((as) => (
          <a key={as} href={exported(as)} className="rounded px-1 py-0.5 text-ink-2 hover:underline" download>
            {as.toUpperCase()}
          </a>
        ))}
      </span>
    </div>
  );
}

function Client({ clients, asked, onAsk }: Pick<NarrowProps, 'asked' | 'onAsk'> & { clients: readonly string[] }) {
  return (
    <Select
      aria-label="Client"
      value={asked.client}
      onChange={(event) => onAsk({ ...asked, client: event.currentTarget.value })}
      className={narrowing}
    >
      <option value="">every client</option>
      {clients.map((client) => (
        <option key={client}>{client}</option>
      ))}
    </Select>
  );
}

/** What a person can do with a project from its row. */
function actionsOf(row: Row, lens: ReturnType<typeof useLens>): RowAction[] {
  const of = (path: string) => lens(path.replace(':id', String(row.projectId)));
  return [
    { name: 'Open it', letter: 'o', to: of('/projects/:id') },
    { name: 'What of it can go', letter: 'f', to: of('/reclaim?project=:id&work=1') },
    { name: 'Archive it', letter: 'a', to: of('/archive/:id') },
    { name: 'Hand it over', letter: 'h', to: of('/archive/:id?for=hand-over') },
    { name: 'How far back it goes', letter: 'b', to: of('/projects/:id/back') },
    ...(row.missing > 0 ? [{ name: 'What is missing', letter: 'x', to: of('/projects/:id/missing') }] : []),
    { name: 'Report on paper', letter: 'r', to: of('/projects/:id/report') },
    { name: 'Copy its name', letter: 'c', run: () => copyText(row.name) },
  ];
}

const asKeys = z.array(z.string().max(40)).max(20);
const NONE: string[] = [];

interface ColumnsProps {
  columns: readonly Column<Row>[];
  /** Those a person does not want to see. */
  left: readonly string[];
  onLeave: (left: string[]) => void;
}

function Columns({ columns, left, onLeave }: ColumnsProps) {
  const shown = new Set(columns.map(({ key }) => key).filter((key) => !left.includes(key)));
  return (
    <Ticks
      name="Columns"
      of={columns.map(({ key, title }) => ({ key, name: String(title) }))}
      chosen={shown}
      onChoose={(next) => onLeave(columns.map(({ key }) => key).filter((key) => !next.has(key)))}
    />
  );
}

type Templates = Route.ComponentProps['loaderData']['templates'];

/** A new project from a template: its homes are known from its first day. */
function NewProject({ templates }: { templates: Templates }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button tone="first" onClick={() => setOpen(true)}>
        New project
      </Button>
      <Sheet open={open} onOpen={setOpen} title="New project">
        <div className="mb-3 flex items-baseline justify-between gap-4">
          <h2 className="sentence">A new project, its homes decided before a default decides them.</h2>
          <Button onClick={() => setOpen(false)}>Close</Button>
        </div>
        {templates.length === 0 ? (
          <Empty>
            No template is there yet. Make one in{' '}
            <Link to="/settings" className="text-accent underline">
              Settings
            </Link>
            , or save the homes of a project as one. A project whose files are there already is registered from its
            folder, in Space.
          </Empty>
        ) : (
          <FromTemplate templates={templates} />
        )}
      </Sheet>
    </>
  );
}

/** @param most bytes of the largest project: every bar is as long as its project is large beside that */
const columnsOf = (narrowed: boolean, most: number, lens: ReturnType<typeof useLens>, nowMs: number): Column<Row>[] => [
  {
    key: 'name',
    title: 'Project',
    sort: (row) => row.name.toLowerCase(),
    cell: (row) => (
      <Link
        to={lens(`/projects/${row.projectId}`)}
        className="block max-w-96 truncate font-medium hover:underline"
        title={row.name}
      >
        {row.name}
      </Link>
    ),
  },
  {
    key: 'state',
    title: 'State',
    sort: (row) => row.state,
    cell: (row) => (
      <span title={exactTime(row.stateSince.getTime())}>{stateSince(row.state, row.stateSince.getTime(), nowMs)}</span>
    ),
  },
  { key: 'files', title: 'Files', number: true, sort: (row) => row.files, cell: (row) => count(row.files) },
  {
    key: 'size',
    title: narrowed ? 'Size there' : 'On disk',
    number: true,
    sort: (row) => row.bytes,
    cell: (row) => <b>{size(row.bytes)}</b>,
  },
  {
    key: 'kinds',
    title: 'By kind',
    cell: (row) => (
      <div className="w-28">
        <Bar
          parts={row.byKind.map(({ kind, bytes }) => ({ key: kind, bytes, colour: kindColour(kind), label: kind }))}
          whole={most}
          label={row.name}
        />
      </div>
    ),
  },
  ...(narrowed ? [] : wholeColumns),
  {
    key: 'note',
    title: 'To know',
    cell: (row) =>
      row.missing > 0 ? (
        <Chip tone="loss">{row.missing} missing</Chip>
      ) : row.archived ? (
        <Chip tone="ok">archived</Chip>
      ) : row.state === 'delivered' && row.bytes > 0 ? (
        <Chip tone="caution">left behind</Chip>
      ) : null,
  },
];

function FromTemplate({ templates }: { templates: Templates }) {
  const { volumes } = useFrame();
  const fetcher = useFetcher<Answer>();
  const [chosen, setChosen] = useState(templates[0]?.templateId);
  const template = templates.find((one) => one.templateId === chosen);
  return (
    <Form
      fetcher={fetcher}
      schema={projectsForm}
      method="post"
      className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-6"
    >
      <input type="hidden" name="intent" value="from template" />
      <div className="grid content-start gap-3">
        <TitleFields />
        <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
          Register the project
        </Button>
        <Said answer={fetcher.data} />
      </div>
      <div className="grid content-start gap-3">
        <Field label="Template">
          <Select
            name="templateId"
            className={inputLook}
            value={chosen}
            onChange={(event) => setChosen(Number(event.target.value))}
          >
            {templates.map((one) => (
              <option key={one.templateId} value={one.templateId}>
                {one.name}
              </option>
            ))}
          </Select>
        </Field>
        <ul className="rows">
          {template?.homes.map((home) => (
            <li key={home.kind} className="grid grid-cols-[90px_minmax(0,1fr)] py-1">
              <span>{home.kind}</span>
              <span className="path truncate">
                {volumes.find((volume) => volume.volumeId === home.volumeId)?.name ?? 'a retired volume'} /{' '}
                {home.folder}
              </span>
            </li>
          ))}
        </ul>
      </div>
    </Form>
  );
}

function TitleFields() {
  return (
    <>
      <Field label="Title">
        <input name="name" maxLength={250} className={inputLook} required />
      </Field>
      <div className="grid grid-cols-[minmax(0,1fr)_90px] gap-3">
        <Field label="Client">
          <input name="client" maxLength={200} className={inputLook} />
        </Field>
        <Field label="Year">
          <input name="year" inputMode="numeric" className={inputLook} />
        </Field>
      </div>
      <label className="flex items-center gap-2">
        <input type="checkbox" name="make" defaultChecked className="accent-accent" />
        Make the folders on disk
      </label>
    </>
  );
}
