// Media that a project's documents name and nobody finds: what each may be, with the evidence for and against it. Only
// what is certain is chosen from the start; what a person takes becomes a new version of the document.
import clsx from 'clsx';
import { useMemo, useState } from 'react';
import { Form, Link, useFetcher } from 'react-router';
import type { Route } from './+types/missing';
import { tellingApart } from '#core/missing/judge.ts';
import { followersOf } from '#core/missing/followers.ts';
import { ago, count, counted, exactTime, size } from '#core/wording/amounts.ts';
import { missingSentence } from '#core/wording/lenses.ts';
import type { Answer } from '../lib/answer';
import { useFrame } from '../shell/use-frame';
import { useLens } from '../shell/links';
import { Button, buttonLook, Card, Chip, Empty, inputLook, KindDot, Said, Sentence } from '../ui/parts';
import { Table } from '../ui/table';

export { loader, action } from './missing.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Item = Data['items'][number];

export default function Missing({ loaderData: data }: Route.ComponentProps) {
  const lens = useLens();
  const fetcher = useFetcher<Answer>();
  const [taken, setTaken] = useState<Map<number, number>>(() => certain(data.items));
  const [at, setAt] = useState<number | null>(() => firstOpen(data.items));
  const item = data.items.find((one) => one.mediaId === at) ?? data.items[0];
  const choices = [...taken]
    .filter(([mediaId]) => data.items.some((one) => one.mediaId === mediaId && one.canBeWritten))
    .map(([mediaId, fileId]) => ({ mediaId, fileId }));
  const take = (mediaId: number, fileId: number | null) =>
    setTaken((before) => {
      const next = new Map(before);
      if (fileId === null) next.delete(mediaId);
      else next.set(mediaId, fileId);
      return next;
    });
  const sure = data.items.filter((one) => one.candidates[0]?.verdict === 'certain').length;
  const documents = new Set(
    data.items.filter((one) => one.canBeWritten && taken.has(one.mediaId)).map((one) => one.document),
  );
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex items-end justify-between slim:flex-wrap gap-4">
        <Sentence
          above={
            <Link to={lens(`/projects/${data.project.projectId}`)} className="hover:underline">
              {data.project.name}
            </Link>
          }
        >
          {missingSentence({ total: data.total, certain: sure, replacing: data.replacing ? (item?.name ?? '') : null })}
        </Sentence>
        {data.items.length > 0 && <AddRelinking fetcher={fetcher} choices={choices} documents={documents} />}
      </div>
      <Said answer={fetcher.data} />
      {item && (
        <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_minmax(0,1.1fr)] items-start gap-4">
          <Card
            title={data.replacing ? 'The clip' : 'Missing clips'}
            aside={
              data.total > data.items.length
                ? `the first ${count(data.items.length)} of ${count(data.total)}`
                : undefined
            }
          >
            <List data={data} taken={taken} at={item.mediaId} onPick={setAt} />
          </Card>
          <Candidates data={data} item={item} taken={taken} onTake={take} onMany={setTaken} />
        </div>
      )}
    </div>
  );
}

/** The first that somebody has to choose for; else the first. */
const firstOpen = (items: readonly Item[]): number | null =>
  (items.find((one) => one.candidates.length > 0 && one.candidates[0]!.verdict !== 'certain') ?? items[0])?.mediaId ??
  null;

/** What is certain is chosen from the start; it can be left out again. */
const certain = (items: readonly Item[]) =>
  new Map(
    items.flatMap((one) =>
      one.candidates[0]?.verdict === 'certain' && !one.found && one.canBeWritten
        ? [[one.mediaId, one.candidates[0].fileId] as const]
        : [],
    ),
  );

function List({
  data,
  taken,
  at,
  onPick,
}: {
  data: Data;
  taken: ReadonlyMap<number, number>;
  at: number;
  onPick: (mediaId: number) => void;
}) {
  return (
    <Table
      label="Missing clips"
      rows={data.items}
      rowKey={(item) => item.mediaId}
      rowHeight={46}
      height="calc(100vh - 260px)"
      marked={(item) => item.mediaId === at}
      columns={[
        {
          key: 'name',
          title: 'Clip',
          sort: (item) => item.name,
          cell: (item) => (
            <button type="button" className="block w-full text-left" onClick={() => onPick(item.mediaId)}>
              <span className="path block max-w-52 truncate">{item.name}</span>
              <span className="block max-w-52 truncate text-xs text-ink-2" title={item.target ?? undefined}>
                {item.stills > 1 && `${count(item.stills - item.present)} of ${counted(item.stills, 'still')}, `}
                {item.target === null ? 'the document names no file' : endOf(item.oldFolder) || 'named without a path'}
              </span>
            </button>
          ),
        },
        {
          key: 'timelines',
          title: 'Timelines',
          number: true,
          sort: (item) => item.timelines,
          cell: (item) => count(item.timelines),
        },
        {
          key: 'state',
          title: 'What it may be',
          cell: (item) => <State item={item} taken={taken.has(item.mediaId)} />,
        },
      ]}
    />
  );
}

/** The end of a folder's path says more than its beginning. */
function endOf(folder: string): string {
  const parts = folder.split(/[\\/]/);
  return parts.length > 3 ? `… / ${parts.slice(-2).join(' / ')}` : folder;
}

function State({ item, taken }: { item: Item; taken: boolean }) {
  if (taken) return <Chip tone="ok">chosen</Chip>;
  const [first] = item.candidates;
  if (!first) return <Chip tone="loss">nothing like it</Chip>;
  if (first.verdict === 'certain') return <Chip tone="ok">certain</Chip>;
  const many = item.candidates.filter((one) => one.verdict === first.verdict).length;
  return <Chip tone="caution">{many === 1 ? first.verdict : `${many} are ${first.verdict}`}</Chip>;
}

const VERDICTS = {
  certain: ['ok', 'certain'],
  likely: ['caution', 'likely'],
  possible: ['plain', 'possible'],
  unlikely: ['loss', 'unlikely'],
} as const;

function Candidates({
  data,
  item,
  taken,
  onTake,
  onMany,
}: {
  data: Data;
  item: Item;
  taken: ReadonlyMap<number, number>;
  onTake: (mediaId: number, fileId: number | null) => void;
  onMany: (next: Map<number, number>) => void;
}) {
  const chosen = taken.get(item.mediaId);
  const following = useMemo(
    () =>
      chosen === undefined
        ? new Map<number, number>()
        : followersOf(data.items, { mediaId: item.mediaId, fileId: chosen }),
    [data.items, item.mediaId, chosen],
  );
  const apart = useMemo(() => tellingApart(item.candidates), [item.candidates]);
  const left = [...following].filter(([mediaId]) => !taken.has(mediaId));
  return (
    <Card title={<span className="path">{item.name}</span>} aside={`named by ${item.document}`}>
      {data.replacing && <LookFor mediaId={item.mediaId} look={data.look} />}
      {!item.canBeWritten && (
        <p className="mb-2 rounded-lg bg-caution-wash px-3 py-2 text-caution">
          {item.document} is a bundle that is read and not written. Relink it in the program that wrote it.
        </p>
      )}
      {item.candidates.length === 0 ? (
        <NothingLike item={item} />
      ) : (
        <ul className="rows" aria-label={`What ${item.name} may be`}>
          {item.candidates.map((one) => (
            <Choice
              key={one.fileId}
              one={one}
              apart={apart.get(one.fileId)}
              chosen={chosen === one.fileId}
              disabled={!item.canBeWritten}
              onTake={() => onTake(item.mediaId, chosen === one.fileId ? null : one.fileId)}
            />
          ))}
        </ul>
      )}
      {left.length > 0 && <Followers left={left.length} onTake={() => onMany(new Map([...taken, ...left]))} />}
    </Card>
  );
}

interface ChoiceProps {
  one: Item['candidates'][number];
  /** What of it is not said of the others that are as good. */
  apart: ReadonlySet<string> | undefined;
  chosen: boolean;
  disabled: boolean;
  onTake: () => void;
}

function Choice({ one, apart, chosen, disabled, onTake }: ChoiceProps) {
  const { nowMs } = useFrame();
  const lens = useLens();
  const [tone, words] = VERDICTS[one.verdict];
  return (
    <li className={clsx('py-2.5', chosen && 'bg-accent-wash')}>
      <div className="flex items-center gap-3">
        <div className="min-w-0 flex-1">
          <div className="flex items-center gap-2">
            <KindDot kind={one.kind} />
            <Link to={lens(`/space?file=${one.fileId}`)} className="path truncate hover:underline" title={one.name}>
              {one.name}
            </Link>
            <Chip tone={tone}>{words}</Chip>
          </div>
          <div className="truncate text-[13px] text-ink-2" title={`${one.where}, ${exactTime(one.modifiedUs / 1000)}`}>
            {one.where}, {size(one.bytes)}, changed {ago(one.modifiedUs / 1000, nowMs)}
          </div>
        </div>
        <button
          type="button"
          aria-pressed={chosen}
          aria-label={`${chosen ? 'Chosen' : 'Use this file'}: ${one.name} in ${one.where}`}
          disabled={disabled}
          onClick={onTake}
          className={buttonLook(chosen ? 'first' : 'plain')}
        >
          {chosen ? 'Chosen' : 'Use this file'}
        </button>
      </div>
      <Evidence one={one} apart={apart} />
    </li>
  );
}

interface AddProps {
  fetcher: ReturnType<typeof useFetcher<Answer>>;
  choices: { mediaId: number; fileId: number }[];
  documents: ReadonlySet<string>;
}

function AddRelinking({ fetcher, choices, documents }: AddProps) {
  const [asked, setAsked] = useState<string | null>(null);
  const said = JSON.stringify(choices);
  return (
    <fetcher.Form method="post" className="shrink-0" onSubmit={() => setAsked(said)}>
      <input type="hidden" name="choices" value={said} />
      <Button
        tone="first"
        type="submit"
        disabled={choices.length === 0 || fetcher.state !== 'idle' || (fetcher.data?.ok === true && asked === said)}
        title={[...documents].map((name) => `${name} gets a new version; it stays as it is`).join('; ')}
      >
        {choices.length === 0
          ? 'Add relinking to the plan'
          : `Add the relinking of ${counted(choices.length, 'clip')} to the plan`}
      </Button>
    </fetcher.Form>
  );
}

function LookFor({ mediaId, look }: { mediaId: number; look: Data['look'] }) {
  return (
    <Form className="mb-3 flex gap-2">
      <input type="hidden" name="media" value={mediaId} />
      <input
        name="look"
        defaultValue={look}
        aria-label="Look for files named"
        placeholder="Part of another file’s name"
        className={inputLook}
      />
      <Button type="submit">Search</Button>
    </Form>
  );
}

function NothingLike({ item }: { item: Item }) {
  return (
    <Empty>
      {item.stills === 1
        ? 'No file of this name was ever read. Connect the disk it may lie on, and read it.'
        : item.present > 0
          ? `${count(item.present)} of ${counted(item.stills, 'still')} are where the document names them. No other folder with stills of these names is known.`
          : 'No folder with stills of these names was ever read. Connect the disk it may lie on, and read it.'}
    </Empty>
  );
}

function Followers({ left, onTake }: { left: number; onTake: () => void }) {
  return (
    <div className="mt-3 flex items-center justify-between gap-3 rounded-lg bg-accent-wash px-3 py-2">
      <span>
        {left === 1 ? 'One other clip' : `${count(left)} other clips`} of this folder would follow into the same one.
      </span>
      <Button type="button" onClick={onTake}>
        Take {left === 1 ? 'it' : 'them'} too
      </Button>
    </div>
  );
}

function Evidence({ one, apart }: Pick<ChoiceProps, 'one' | 'apart'>) {
  return (
    <ul className="mt-1 flex flex-wrap gap-x-4 gap-y-0.5 text-[13px]">
      {one.evidence.map((each) => (
        <li
          key={each.code}
          className={clsx(
            each.fits ? 'text-ok' : 'text-loss',
            apart?.has(each.code) && 'font-semibold underline decoration-dotted underline-offset-4',
          )}
          title={apart?.has(each.code) ? 'This differs from the others' : undefined}
        >
          <span aria-hidden>{each.fits ? '✓' : '✕'}</span>
          <span className="sr-only">{each.fits ? 'for it:' : 'against it:'}</span> {each.says}
        </li>
      ))}
      {!one.known && <li className="text-ink-3">its structure was not read yet</li>}
    </ul>
  );
}
