// Reclaim: what may go, in groups, by how replaceable it is; or the least regretful set that frees so many bytes on a volume.
// What is chosen is added to the plan; nothing goes from here.
import { Form, Link, useFetcher, useNavigation } from 'react-router';
import type { Route } from './+types/reclaim';
import type { Level } from '#core/model.ts';
import { LEVEL_WORDS } from '#core/model.ts';
import { ago, count, counted, duration, exactTime, size } from '#core/wording/amounts.ts';
import { asideSentence, emptySentence, GROUP_WORDS, groupWords, worthSentence } from '#core/wording/reclaim.ts';
import type { Answer } from '../lib/answer';
import { useLens, useTo } from '../shell/links';
import { useFrame } from '../shell/use-frame';
import {
  Button,
  buttonLook,
  Card,
  Empty,
  Field,
  inputLook,
  LevelMark,
  Said,
  Sentence,
  VolumeOptions,
} from '../ui/parts';
import { type Column, Table } from '../ui/table';
import { Select } from '../ui/select';
import { LEVEL_COLOURS, LevelBar } from './level-bar';
import { Lines } from './lines';

export { loader, action } from './reclaim.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Sum = Data['sums'][number];

const allOf = (sums: readonly Sum[]): Record<Level, number> => {
  const all: Record<Level, number> = { 0: 0, 1: 0, 2: 0, 3: 0 };
  for (const sum of sums) for (const level of [0, 1, 2, 3] as const) all[level] += sum.byLevel[level];
  return all;
};

export default function Reclaim({ loaderData: data }: Route.ComponentProps) {
  const { group, goal, asked, isLeft } = data;
  const listed = goal !== null || group !== null || isLeft;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex items-end justify-between slim:flex-wrap gap-4">
        <Sentence above={<Above data={data} />}>{sentenceOf(data)}</Sentence>
        <Narrow data={data} />
      </div>
      <Narrowed data={data} />
      {!group && !isLeft && !data.find && !data.folder && <GoalForm data={data} />}
      {asked?.trouble && (
        <p role="alert" className="rounded-lg bg-loss-wash px-3 py-2 text-[13px] text-loss">
          {asked.trouble} Nothing was worked out.
        </p>
      )}
      {group === 'same twice' && <Compare links={data.links} />}
      {group === 'unused media' && data.project && (
        <p className="text-[13px] text-ink-2">
          Too good to let go, and in the way here?{' '}
          <Link to={`/projects/${data.project.id}?move=1`} className="text-accent underline">
            Park it on another volume instead
          </Link>
        </p>
      )}
      {listed ? (
        <Lines key={`${group} ${asked?.free} ${asked?.volumeId} ${asked?.highest} ${isLeft}`} data={data} />
      ) : (
        <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_270px] items-start gap-4">
          <Groups data={data} />
          <div className="grid gap-4">
            {!data.find && !data.folder && (
              <>
                <Left data={data} />
                <Aside data={data} />
              </>
            )}
            <Legend />
          </div>
        </div>
      )}
    </div>
  );
}

function sentenceOf({ sums, left, group, goal, project, folder, find, isLeft }: Data): string {
  if (goal) return goal.sentence;
  const of = sums.find((sum) => sum.group === group);
  if (of?.group === 'empty folders') return emptySentence(of.files);
  if (of) return worthSentence(of.byLevel, ` of ${groupWords(of.group, [])}`, of.group);
  const whose = whoseWords({ project, folder, find });
  return isLeft
    ? worthSentence(allOf(left), whose || ' of delivered and archived projects')
    : worthSentence(allOf(sums), whose);
}

function whoseWords({ project, folder, find }: Pick<Data, 'project' | 'folder' | 'find'>): string {
  const parts = [
    project && ` of ${project.name}`,
    find && ` of ${counted(find.files, 'file')} ${find.words}`,
    folder && ` in ${folder.name}`,
  ];
  return parts.filter(Boolean).join('');
}

/** The folder, or the search, that all of this is narrowed to. */
function Narrowed({ data: { folder, find } }: { data: Data }) {
  const to = useTo();
  if (!folder && !find) return null;
  const parts = [
    folder && { key: 'folder', words: `in ${folder.name}, ${folder.volume}` },
    find && { key: find.key, words: `files ${find.words}` },
  ];
  return (
    <div className="-mt-2 flex flex-wrap items-center gap-2 text-[13px] text-ink-2">
      Only
      {parts.map(
        (part) =>
          part && (
            <Link
              key={part.key}
              to={to({ [part.key]: null })}
              aria-label={`No longer only ${part.words}`}
              className={`${buttonLook()} !h-[24px] max-w-96 !px-2`}
            >
              <span className="truncate">{part.words}</span> ×
            </Link>
          ),
      )}
      {find && <span>Caches and empty folders go folder by folder, and are left out.</span>}
      {find?.trouble && <span className="text-caution">{find.trouble}</span>}
    </div>
  );
}

function Above({ data }: { data: Data }) {
  const to = useTo();
  if (data.group === null && data.goal === null && !data.isLeft)
    return data.assessedMs === null ? (
      'Not assessed yet: read the volumes, and it is worked out by itself'
    ) : (
      <span title={exactTime(data.assessedMs)}>
        worked out {ago(data.assessedMs, Math.max(data.nowMs, data.assessedMs))}
      </span>
    );
  return (
    <Link to={to({ group: null, free: null, on: null, level: null, left: null })} className="hover:underline">
      Reclaim
    </Link>
  );
}

const HIGHEST = [
  [0, 'only what rebuilds itself'],
  [1, 'what can be made again'],
  [2, 'what has a verified copy'],
  [3, 'also the only copies'],
] as const;

/** So many gigabytes, on that volume, at the least regret. */
function GoalForm({ data }: { data: Data }) {
  const { volumes } = useFrame();
  const { state } = useNavigation();
  const { asked, goal } = data;
  const fullest = [...volumes].sort(
    (a, b) => b.usedBytes / Math.max(1, b.capacityBytes) - a.usedBytes / Math.max(1, a.capacityBytes),
  )[0];
  return (
    <Card title="A goal instead of a list">
      <Form className="flex flex-wrap items-end gap-3" key={`${asked?.free} ${asked?.volumeId} ${asked?.highest}`}>
        {data.project && <input type="hidden" name="project" value={data.project.id} />}
        {data.inWork && <input type="hidden" name="work" value="1" />}
        <div className="w-28">
          <Field label="Free, in GB">
            <input name="free" inputMode="decimal" className={inputLook} defaultValue={asked?.free ?? '60'} required />
          </Field>
        </div>
        <div className="w-52">
          <Field label="On">
            <Select name="on" className={inputLook} defaultValue={asked?.volumeId ?? fullest?.volumeId}>
              <VolumeOptions volumes={volumes} />
            </Select>
          </Field>
        </div>
        <div className="w-60">
          <Field label="Taking at most">
            <Select name="level" className={inputLook} defaultValue={asked?.highest ?? 1}>
              {HIGHEST.map(([level, words]) => (
                <option key={level} value={level}>
                  {words}
                </option>
              ))}
            </Select>
          </Field>
        </div>
        <Button tone={goal ? 'plain' : 'first'} type="submit" disabled={state !== 'idle'}>
          Find the least regretful
        </Button>
      </Form>
      {goal && <Beyond goal={goal} />}
    </Card>
  );
}

function Beyond({ goal }: { goal: NonNullable<Data['goal']> }) {
  const { next, beyondBytes } = goal;
  return (
    <p className="mt-2 text-[13px] text-ink-2">
      {next
        ? `The next ${size(next.bytes)} would be what ${NEXT_WORDS[next.level]}${next.costSeconds >= 60 ? `, about ${duration(next.costSeconds)} to have it again` : ''}. `
        : 'That is all there is of this kind. '}
      {beyondBytes > 0 && `${size(beyondBytes)} more is harder to replace and is left alone.`}
    </p>
  );
}
const NEXT_WORDS: Record<Level, string> = {
  0: 'rebuilds itself',
  1: 'can be made again',
  2: 'has a verified copy',
  3: 'is the only copy',
};

function Groups({ data }: { data: Data }) {
  const to = useTo();
  const lens = useLens();
  // Of a search only what there is: caches and empty folders are never in it.
  const sums = data.sums.filter(({ files }) => !data.find || files > 0);
  const most = Math.max(1, ...sums.map((sum) => sum.bytes));
  const columns: Column<Sum>[] = [
    {
      key: 'group',
      title: 'What can go',
      cell: (sum) => (
        <Link
          to={
            sum.group === 'caches' && data.project === null && data.folder === null
              ? lens('/reclaim/caches')
              : to({ group: sum.group })
          }
          className="block hover:underline"
        >
          <span className="font-medium">{GROUP_WORDS[sum.group].name}</span>
          <span className="block text-[13px] text-ink-2">{GROUP_WORDS[sum.group].about}</span>
        </Link>
      ),
    },
    {
      key: 'levels',
      title: 'If it is needed again',
      width: '46%',
      cell: (sum) => <LevelBar byLevel={sum.byLevel} whole={most} label={GROUP_WORDS[sum.group].name} />,
    },
    {
      key: 'files',
      title: 'Files',
      number: true,
      cell: (sum) => (sum.files > 0 && sum.group !== 'empty folders' ? count(sum.files) : ''),
    },
    { key: 'size', title: 'Size', number: true, cell: (sum) => <b>{sizeOf(sum)}</b> },
  ];
  return (
    <div className="card py-1">
      {sums.every((sum) => sum.files === 0) ? (
        <Empty>
          {data.inWork || data.project
            ? 'Nothing here can go.'
            : 'Nothing here can go, but for what projects in work have. Tick them to see it.'}
        </Empty>
      ) : (
        <Table label="What can go" rows={sums} rowKey={(sum) => sum.group} rowHeight={48} columns={columns} />
      )}
    </div>
  );
}

/** Empty folders have no size: they are counted. */
const sizeOf = ({ group, files, bytes }: Sum): string =>
  files === 0 ? 'none' : group === 'empty folders' ? counted(files, 'folder') : size(bytes);

/** What may be the same is compared when it is asked for: it reads much. */
function Compare({ links }: { links: Data['links'] }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Card title="Compare the files">
      <fetcher.Form method="post" className="flex items-center gap-3">
        <p className="min-w-0 flex-1 text-[13px] text-ink-2">
          Files of one size are compared by both ends, then whole. Of two that are the same one stays: what a timeline
          uses before what none does, what is at home before what strayed. Two on one volume are the only copy still: a
          disk that dies takes both. What was compared once is not read again.
        </p>
        <Button type="submit" name="intent" value="compare" disabled={fetcher.state !== 'idle'}>
          Compare now
        </Button>
      </fetcher.Form>
      {links && links.files > 0 && (
        <p className="mt-2 text-[13px] text-ink-2">
          {counted(links.files, 'further name')} of files that are there already (hard links), {size(links.bytes)} by
          their size: removing one frees nothing, so they are not offered.
        </p>
      )}
      {links && links.clones.files > 0 && (
        <p className="mt-2 text-[13px] text-ink-2">
          {counted(links.clones.files, 'copy', 'copies')} that {links.clones.files === 1 ? 'shares' : 'share'} blocks on
          disk with what {links.clones.files === 1 ? 'it was' : 'they were'} copied from, {size(links.clones.bytes)} by
          their size: removing one frees nothing, so they are not offered.
        </p>
      )}
      <Said answer={fetcher.data} />
    </Card>
  );
}

function Legend() {
  return (
    <ul className="grid gap-1 px-1 text-[13px] text-ink-2" aria-label="Levels">
      {([0, 1, 2, 3] as const).map((level) => (
        <li key={level} className="flex items-center gap-2">
          <span
            aria-hidden
            className="size-3 rounded-[2px] border border-ink-3/40"
            style={{ background: LEVEL_COLOURS[level] }}
          />
          <LevelMark level={level} /> {LEVEL_WORDS[level]}
        </li>
      ))}
    </ul>
  );
}

/** All that projects have which are delivered or archived, whatever group it is in. */
function Left({ data }: { data: Data }) {
  const to = useTo();
  const levels = allOf(data.left);
  const bytes = levels[0] + levels[1] + levels[2] + levels[3];
  return (
    <Card title="Left behind">
      <p className="text-[13px] text-ink-2">
        {bytes === 0
          ? 'Delivered and archived projects have left nothing behind.'
          : `${size(bytes)} of this belongs to delivered and archived projects.`}
      </p>
      {bytes > 0 && (
        <>
          <div className="my-2">
            <LevelBar byLevel={levels} whole={bytes} label="Left behind" />
          </div>
          <Link to={to({ left: '1' })} className={buttonLook('plain')}>
            Show it
          </Link>
        </>
      )}
    </Card>
  );
}

function Aside({ data }: { data: Data }) {
  const lens = useLens();
  const { files, bytes, oldestMs } = data.aside;
  return (
    <Card title="Set aside">
      <p className="text-[13px] text-ink-2">
        {asideSentence({
          files,
          bytes,
          oldestDays: oldestMs === null ? null : Math.floor((data.nowMs - oldestMs) / 86_400_000),
        })}
      </p>
      {files > 0 && (
        <Link to={lens('/reclaim/aside')} className={`${buttonLook('plain')} mt-2`}>
          Show {counted(files, 'file')}
        </Link>
      )}
    </Card>
  );
}

/** One project at a time; projects in work are out until they are ticked. */
function Narrow({ data }: { data: Data }) {
  const to = useTo();
  return (
    <Form className="flex shrink-0 slim:shrink slim:flex-wrap items-center gap-3">
      <Kept except={['project', 'work']} />
      <Select
        name="project"
        aria-label="Project"
        key={data.project?.id}
        className={`${inputLook} !w-44`}
        defaultValue={data.project?.id ?? ''}
        onChange={(event) => event.currentTarget.form?.requestSubmit()}
      >
        <option value="">every project</option>
        {data.projects.map((one) => (
          <option key={one.projectId} value={one.projectId}>
            {one.name}
          </option>
        ))}
      </Select>
      {data.project === null && (
        <Link
          role="checkbox"
          aria-checked={data.inWork}
          to={to({ work: data.inWork ? null : '1' })}
          preventScrollReset
          className="flex items-center gap-2 text-[13px] whitespace-nowrap"
        >
          <span
            aria-hidden
            className={`flex size-4 items-center justify-center rounded-[4px] border text-xs ${data.inWork ? 'border-accent bg-accent text-on-accent' : 'border-ink-3 bg-raised'}`}
          >
            {data.inWork ? '✓' : ''}
          </span>
          also projects in work
        </Link>
      )}
    </Form>
  );
}

/** What the address has, but for what the form changes. */
function Kept({ except }: { except: readonly string[] }) {
  const to = useTo();
  const kept = new URLSearchParams(to({}));
  return [...kept].flatMap(([name, value]) =>
    except.includes(name) ? [] : [<input key={name} type="hidden" name={name} value={value} />],
  );
}
