// How far back a project can go: each of its documents with its snapshots, what changed from one to the next and since, and one
// of them put beside the document.
import { snapshotForm } from '#contract/forms.ts';
import { useState } from 'react';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/back';
import { ago, counted, exactTime, listed, size } from '#core/wording/amounts.ts';
import { backSentence } from '#core/wording/lenses.ts';
import type { Answer } from '../lib/answer';
import { useLens } from '../shell/links';
import { KeptFor } from '../settings/kept-for';
import { Form } from '../ui/form';
import { Button, Card, Chip, Field, inputLook, NumberField, Said, Sentence } from '../ui/parts';
import { type Column, Table } from '../ui/table';
import { Select } from '../ui/select';
import { AtNight } from './at-night';
import { ComparedWithNow } from './compared';

export { loader, action } from './back.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Line = Data['lines'][number];
type Snapshot = Line['snapshots'][number];
type Autosave = Line['autosaves'][number];
/** One moment of a document's line. */
type Moment = { at: number; key: string } & ({ snapshot: Snapshot } | { autosave: Autosave });

export default function Back({ loaderData: data }: Route.ComponentProps) {
  const lens = useLens();
  const { project, kept, nowMs, lines, on } = data;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Sentence
        above={
          <Link to={lens(`/projects/${project.projectId}`)} className="hover:underline">
            {project.name}
          </Link>
        }
      >
        {backSentence({ project: project.name, ...kept, nowMs })}
      </Sentence>
      <p className="text-ink-2">
        {on === null
          ? 'No snapshots are made now. '
          : data.rule.own?.isOff
            ? 'No snapshots of this project are made, as was said here. '
            : `Documents of projects in work that changed are kept on ${on}, at most every ${data.everyMinutes === 1 ? 'minute' : counted(data.everyMinutes, 'minute')}. `}
        <Link to="/settings?show=snapshots" className="text-accent underline">
          {on === null ? 'Say in Settings where they go' : 'What the house says is in Settings'}
        </Link>
      </p>
      {lines.map((line) => (
        <Document key={line.fileId} line={line} projectId={project.projectId} nowMs={nowMs} />
      ))}
      {on !== null && <OwnRule {...data.rule} />}
      <AtNight project={project} night={data.night} carriers={data.carriers} nowMs={nowMs} />
    </div>
  );
}

const HOWS = { 'as the house': 'as the house says', own: 'otherwise', none: 'none are made' };

/** What this project wants otherwise than the house. */
function OwnRule({ house, own }: Data['rule']) {
  const fetcher = useFetcher<Answer>();
  const [how, setHow] = useState<keyof typeof HOWS>(own === null ? 'as the house' : own.isOff ? 'none' : 'own');
  const rule = own?.isOff === false ? own : house;
  return (
    <Card title="Snapshots of this project">
      <Form fetcher={fetcher} schema={snapshotForm} method="post" className="grid gap-3">
        <Field label="How often, and how long they stay">
          <Select
            name="intent"
            value={how}
            onChange={(event) => setHow(event.target.value as keyof typeof HOWS)}
            className={`${inputLook} !w-auto`}
          >
            {Object.entries(HOWS).map(([key, words]) => (
              <option key={key} value={key}>
                {words}
              </option>
            ))}
          </Select>
        </Field>
        {how === 'own' && (
          <>
            <NumberField
              name="everyMinutes"
              label="Minutes between two of one document, at least"
              value={rule.everyMinutes}
            />
            <KeptFor legend="What is kept of each document" rule={rule} />
          </>
        )}
        {how === 'none' && (
          <p className="text-[13px] text-ink-2">
            Those that are there stay as they are. Nothing of it is told as missing.
          </p>
        )}
        <div>
          <Button type="submit" disabled={fetcher.state !== 'idle'}>
            Save
          </Button>
        </div>
        <Said answer={fetcher.data} />
      </Form>
    </Card>
  );
}

const phrases = (all: readonly string[]): string => {
  const some = all.slice(0, 4);
  return listed(all.length > some.length ? [...some, `${all.length - some.length} more`] : some);
};

const momentsOf = ({ snapshots, autosaves }: Line): Moment[] =>
  [
    ...snapshots.map((snapshot) => ({ at: snapshot.takenMs, key: `s${snapshot.snapshotId}`, snapshot })),
    ...autosaves.map((autosave) => ({ at: autosave.modifiedMs, key: `a${autosave.fileId}`, autosave })),
  ].sort((a, b) => b.at - a.at);

function Document({ line, projectId, nowMs }: { line: Line; projectId: number; nowMs: number }) {
  const [chosen, setChosen] = useState(line.snapshots[0]?.snapshotId ?? null);
  const picked = line.snapshots.find((one) => one.snapshotId === chosen) ?? line.snapshots[0] ?? null;
  const moments = momentsOf(line);
  const beside = line.autosaves.filter((one) => one.isBesideIt).length;
  return (
    <Card
      title={line.name}
      aside={
        <span className="path">
          {line.volume} / {line.path}
          {!line.isThere && ', which is gone'}
        </span>
      }
    >
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)] items-start gap-6">
        <Table
          label={`Snapshots of ${line.name}`}
          rows={moments}
          rowKey={(row) => row.key}
          rowHeight={44}
          height={Math.min(moments.length * 44 + 40, 320)}
          columns={columnsOf(picked?.snapshotId ?? null, setChosen, nowMs)}
          marked={(row) => 'snapshot' in row && row.snapshot.snapshotId === picked?.snapshotId}
        />
        <div className="grid gap-3">
          {picked && <Picked picked={picked} />}
          {beside > 0 && (
            <p className="text-[13px] text-caution">
              {beside === 1 ? 'One copy that its program made lies' : `${beside} copies that its program made lie`} on{' '}
              {line.volume}, where the document is: one disk takes both.
            </p>
          )}
        </div>
      </div>
      {picked && line.isThere && (
        <div className="mt-4 border-t border-line-soft pt-3">
          <ComparedWithNow key={picked.snapshotId} projectId={projectId} snapshotId={picked.snapshotId} />
        </div>
      )}
    </Card>
  );
}

/** The snapshot that was chosen: what the document has since, and itself put beside it. */
function Picked({ picked }: { picked: Snapshot }) {
  const fetcher = useFetcher<Answer>();
  return (
    <>
      <h3 className="font-medium">As it was {exactTime(picked.takenMs)}</h3>
      <Until picked={picked} />
      <p className="text-[13px] text-ink-2">
        Kept on {picked.on}, <span className="path break-all">{picked.path}</span>
      </p>
      <Form fetcher={fetcher} schema={snapshotForm} method="post" className="grid gap-2">
        <input type="hidden" name="intent" value="put beside" />
        <input type="hidden" name="snapshotId" value={picked.snapshotId} />
        <div>
          <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
            Put it beside the document
          </Button>
        </div>
        <Said answer={fetcher.data} />
      </Form>
    </>
  );
}

function Until({ picked }: { picked: Snapshot }) {
  if (picked.untilNow === null) return <p className="text-ink-2">What the document says now is not known.</p>;
  if (picked.untilNow.length === 0)
    return (
      <p>
        <Chip tone="ok">as the document is now</Chip>
      </p>
    );
  return (
    <div>
      <p className="text-[13px] text-ink-2">Since then</p>
      <ul className="mt-1 grid gap-0.5">
        {picked.untilNow.slice(0, 8).map((phrase) => (
          <li key={phrase}>{phrase}</li>
        ))}
        {picked.untilNow.length > 8 && <li className="text-ink-2">and {picked.untilNow.length - 8} more</li>}
      </ul>
    </div>
  );
}

const columnsOf = (picked: number | null, onPick: (snapshotId: number) => void, nowMs: number): Column<Moment>[] => [
  {
    key: 'when',
    title: 'When',
    width: 120,
    sort: (row) => row.at,
    cell: (row) =>
      'snapshot' in row ? (
        <button
          type="button"
          aria-pressed={row.snapshot.snapshotId === picked}
          onClick={() => onPick(row.snapshot.snapshotId)}
          title={exactTime(row.at)}
          className="font-medium text-accent hover:underline"
        >
          {ago(row.at, nowMs)}
        </button>
      ) : (
        <span title={exactTime(row.at)}>{ago(row.at, nowMs)}</span>
      ),
  },
  {
    key: 'since',
    title: 'What changed since the one before',
    cell: (row) =>
      'snapshot' in row ? (
        <span className="line-clamp-2 whitespace-normal">{sinceWords(row.snapshot.since)}</span>
      ) : (
        <ByProgram autosave={row.autosave} />
      ),
  },
  {
    key: 'size',
    title: 'Size',
    number: true,
    width: 90,
    sort: (row) => ('snapshot' in row ? row.snapshot.bytes : row.autosave.bytes),
    cell: (row) => size('snapshot' in row ? row.snapshot.bytes : row.autosave.bytes),
  },
];

function sinceWords(since: Snapshot['since']): string {
  if (since === null) return 'the first that is kept';
  return since.length === 0 ? 'nothing in timelines, clips or media' : phrases(since);
}

/** What its program saved: where it lies, and its file's page. */
function ByProgram({ autosave: { fileId, volume, path } }: { autosave: Autosave }) {
  return (
    <span className="block max-w-96 truncate text-ink-2" title={`${volume} / ${path}`}>
      saved by its program,{' '}
      <Link to={`/space?file=${fileId}`} className="text-accent hover:underline">
        {volume} / {path}
      </Link>
    </span>
  );
}
