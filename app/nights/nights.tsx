// Nights: what the last one came to, what waits this morning, and what the next one would do. On paper as on the screen.
import { Link } from 'react-router';
import type { Route } from './+types/nights';
import { ago, count, counted, day, duration, exactTime, size, timeOfDay } from '#core/wording/amounts.ts';
import { useLens } from '../shell/links';
import { Weight } from '../shell/plan-sheet';
import { Button, Card, Chip, Empty, Sentence } from '../ui/parts';
import { Scroll } from '../ui/scroll';

export { loader } from './nights.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Nights({ loaderData: data }: Route.ComponentProps) {
  const lens = useLens();
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex items-end justify-between slim:flex-wrap gap-4">
        <Sentence
          above={
            <Link to={lens('/')} className="hover:underline print:no-underline">
              Site
            </Link>
          }
        >
          {data.sentence}
        </Sentence>
        <div className="shrink-0 print:hidden">
          <Button type="button" onClick={() => window.print()}>
            Print
          </Button>
        </div>
      </div>
      <p className="hidden text-ink-2 print:block">
        {data.site}, {exactTime(data.nowMs)}
      </p>
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,7fr)_minmax(0,5fr)] items-start gap-4 print:grid-cols-1">
        <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
          {data.morning.failed.length > 0 && <Failed data={data} />}
          <Done data={data} />
        </div>
        <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
          <Waiting data={data} />
          <Sure data={data} />
        </div>
      </div>
      <Tonight data={data} />
    </div>
  );
}

function Failed({ data: { morning, nowMs } }: { data: Data }) {
  return (
    <Card title={<span className="text-loss">What did not work, and why</span>}>
      <ul className="rows">
        {morning.failed.map((one) => (
          <li key={`${one.atMs} ${one.title}`} className="py-1.5">
            <span className="flex items-baseline justify-between gap-3">
              <b className="min-w-0 font-medium">{one.title}</b>
              <span className="shrink-0 text-[13px] text-ink-2" title={exactTime(one.atMs)}>
                {one.who}, {ago(one.atMs, nowMs)}
              </span>
            </span>
            <span className="block text-[13px] text-ink-2">{one.why}</span>
          </li>
        ))}
      </ul>
    </Card>
  );
}

/** Long lists are told by their amounts; the ledger has every line. */
const MOST_LINES = 6;

function Done({ data: { headings, morning, nowMs } }: { data: Data }) {
  const lens = useLens();
  const { readings, snapshots } = morning;
  const quiet = [
    readings.volumes > 0 ? `${counted(readings.volumes, 'reading')} of volumes` : '',
    snapshots.snapshots > 0
      ? `${counted(snapshots.snapshots, 'snapshot')} of ${counted(snapshots.documents, 'document')}`
      : '',
  ].filter(Boolean);
  return (
    <Card
      title="What happened"
      aside={
        <Link to={lens('/ledger')} className="text-accent hover:underline print:hidden">
          ledger
        </Link>
      }
    >
      {headings.length === 0 && quiet.length === 0 && <Empty>Nothing since yesterday at six in the evening.</Empty>}
      <div className="grid gap-3">
        {headings.map(({ heading, items, receipts, bytes }) => (
          <section key={heading}>
            <h3 className="flex items-baseline justify-between gap-3 text-[13px] text-ink-2">
              <span>{heading}</span>
              {/* Of what is not about bytes none are told. */}
              <span>{bytes === 0 ? '' : size(bytes)}</span>
            </h3>
            <ul className="rows">
              {items.slice(0, MOST_LINES).map((one) => (
                <li key={one.receiptId}>
                  <Link
                    to={lens(`/ledger/${one.receiptId}`)}
                    className="flex items-baseline justify-between gap-3 py-1 hover:underline"
                  >
                    <span className="min-w-0">
                      {one.title} {one.byItself && <Chip>by itself</Chip>}{' '}
                      {one.held > 0 && <Chip tone="caution">{count(one.held)} left</Chip>}
                    </span>
                    <span className="shrink-0 text-[13px] text-ink-2" title={exactTime(one.atMs)}>
                      {one.byItself ? '' : `${one.who}, `}
                      {ago(one.atMs, nowMs)}
                    </span>
                  </Link>
                </li>
              ))}
            </ul>
            {receipts > Math.min(items.length, MOST_LINES) && (
              <p className="text-[13px] text-ink-2">
                and {count(receipts - Math.min(items.length, MOST_LINES))} more in the ledger
              </p>
            )}
          </section>
        ))}
      </div>
      {quiet.length > 0 && (
        <p className="mt-2 border-t border-line-soft pt-2 text-[13px] text-ink-2">{quiet.join(', ')}</p>
      )}
    </Card>
  );
}

function Waiting({ data: { morning, decisions, plan } }: { data: Data }) {
  const lens = useLens();
  const isNothing = morning.waiting.length === 0 && decisions.all === 0 && plan.steps === 0;
  return (
    <Card
      title="What waits"
      aside={
        decisions.all > 0 && (
          <Link to={lens('/')} className="text-accent hover:underline">
            {decisions.all === decisions.first.length ? 'decide on Site' : `all ${decisions.all} on Site`}
          </Link>
        )
      }
    >
      {isNothing && <Empty>Nothing waits for anybody.</Empty>}
      <ul className="rows">
        {plan.steps > 0 && (
          <li className="py-1.5">
            <b className="font-medium">A plan of {counted(plan.steps, 'step')}</b>
            <span className="block text-[13px] text-ink-2">It waits to be reviewed and run.</span>
          </li>
        )}
        {morning.waiting.map((job) => (
          <li key={job.title} className="py-1.5">
            <b className="font-medium">{job.title}</b>
            <span className="block text-[13px] text-ink-2">
              waits for {job.for.map(({ name, where }) => (where === '' ? name : `${name} (${where})`)).join(', ')}
            </span>
          </li>
        ))}
        {decisions.first.map((decision) => (
          <li key={decision.key} className="flex items-start gap-3 py-1.5">
            <Weight weight={decision.weight} />
            <span className="min-w-0">
              <b className="font-medium">{decision.what}</b>
              <span className="block text-[13px] text-ink-2">{decision.detail}</span>
            </span>
          </li>
        ))}
      </ul>
    </Card>
  );
}

function Sure({ data: { morning, nowMs } }: { data: Data }) {
  const { shelf, backup, check } = morning;
  const rows: [string, React.ReactNode][] = [
    [
      'Archives',
      shelf.archives === 0
        ? 'none yet'
        : `${count(shelf.sure)} of ${count(shelf.archives)} have every copy they should`,
    ],
    ...(shelf.damaged > 0
      ? [
          ['Damaged', <span className="text-loss">{counted(shelf.damaged, 'archive')} with a damaged copy</span>] as [
            string,
            React.ReactNode,
          ],
        ]
      : []),
    ...(shelf.short > 0
      ? [
          [
            'Short',
            <span className="text-caution">{counted(shelf.short, 'archive')} short of copies or places</span>,
          ] as [string, React.ReactNode],
        ]
      : []),
    [
      'Read back',
      shelf.oldestReadBackMs === null ? 'nothing yet' : `the oldest read-back is ${ago(shelf.oldestReadBackMs, nowMs)}`,
    ],
    [
      'Catalogue',
      !backup.isWanted
        ? 'not backed up: no folder is named'
        : backup.atMs === null
          ? 'not backed up yet'
          : `backed up ${ago(backup.atMs, nowMs)}${backup.provenMs === null ? '' : `, proven ${ago(backup.provenMs, nowMs)}`}`,
    ],
    [
      'Checked',
      check === null
        ? 'not yet'
        : `${ago(check.atMs, nowMs)}, ${check.findings === 0 ? 'nothing found' : `${counted(check.findings, 'thing')} found`}`,
    ],
  ];
  return (
    <Card title="How sure it is">
      <dl className="grid grid-cols-[84px_minmax(0,1fr)] gap-y-1">
        {rows.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-ink-2">{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      </dl>
    </Card>
  );
}

type Work = Data['tonight']['works'][number];

function Tonight({ data: { tonight, nowMs } }: { data: Data }) {
  const lens = useLens();
  const isOn = tonight.fromMs <= nowMs;
  return (
    <Card
      title={isOn ? 'Tonight, going on' : `Tonight, ${day(tonight.fromMs)}`}
      aside={
        <>
          {timeOfDay(tonight.fromMs)} to {timeOfDay(tonight.toMs)} by the clock of the house,{' '}
          <Link to={lens('/settings?show=hours')} className="text-accent hover:underline">
            change the hours
          </Link>
        </>
      }
    >
      <Scroll label="What happens by itself" isWide>
        <table className="table">
          <thead>
            <tr>
              <th>What</th>
              <th>
                When
                <Scale />
              </th>
              <th>What it would do</th>
              <th>Needs</th>
              <th>Last times</th>
            </tr>
          </thead>
          <tbody>
            {tonight.works.map((work) => (
              <Line key={work.key} work={work} fromMs={tonight.noonMs} />
            ))}
          </tbody>
        </table>
      </Scroll>
    </Card>
  );
}

const AXIS = 132;
const DAY_MS = 86_400_000;

/** From noon to noon: the night is in the middle. */
function Scale() {
  return (
    <svg aria-hidden width={AXIS} height="12" className="block text-[10px]">
      {['12', '18', '0', '6'].map((hour, i) => (
        <text key={hour} x={(i * AXIS) / 4} y="10" className="fill-[var(--ink-3)]">
          {hour}
        </text>
      ))}
    </svg>
  );
}

/** The hours that it has between this noon and the next, and how long of them it takes by the last times. */
function Band({ work: { span, took }, fromMs }: { work: Work; fromMs: number }) {
  const place = (ms: number) => Math.min(1, Math.max(0, (ms - fromMs) / DAY_MS)) * AXIS;
  const [from, to] = span ? [place(span.fromMs), place(span.toMs)] : [0, AXIS];
  const usual = took.map((one) => one.seconds).sort((a, b) => a - b)[Math.floor(took.length / 2)];
  return (
    <svg aria-hidden width={AXIS} height="8" className="mt-1 block">
      <rect width={AXIS} height="8" rx="2" className="fill-[var(--line-soft)]" />
      <rect x={from} width={Math.max(0, to - from)} height="8" rx="2" className="fill-[var(--accent)] opacity-35" />
      {span && usual !== undefined && to > from && (
        <rect
          x={from}
          width={Math.min(to - from, Math.max(2, ((usual * 1000) / DAY_MS) * AXIS))}
          height="8"
          className="fill-[var(--accent)]"
        />
      )}
    </svg>
  );
}

function Line({ work, fromMs }: { work: Work; fromMs: number }) {
  const lens = useLens();
  return (
    <tr>
      <td className="max-w-64 whitespace-normal">
        <Link to={lens(work.setIn)} className="block font-medium hover:underline">
          {work.name}
        </Link>
      </td>
      <td className="max-w-56 whitespace-normal text-ink-2">
        {work.when}
        {work.isOn && <Band work={work} fromMs={fromMs} />}
      </td>
      <td className={`max-w-72 whitespace-normal ${work.isDue ? '' : 'text-ink-2'}`}>
        {work.wouldDo}
        {work.meets.map((words) => (
          <span key={words} className="block text-[13px] text-caution">
            {words}: one waits for the other
          </span>
        ))}
      </td>
      <td className="max-w-40 whitespace-normal text-ink-2">{work.needs.join(', ')}</td>
      <td>
        <Times work={work} />
      </td>
    </tr>
  );
}

/** The oldest on the left, each as long as it took beside the longest; what failed in the colour of loss. */
function Times({ work: { took, name } }: { work: Work }) {
  if (took.length === 0) return <span className="text-ink-2">never yet</span>;
  const longest = Math.max(...took.map((one) => one.seconds), 1);
  const last = took[0]!;
  const failed = took.filter((one) => one.ended === 'failed').length;
  return (
    <span className="flex items-end gap-2">
      <svg
        role="img"
        aria-label={`${name}, the last ${counted(took.length, 'time')}: ${took.map((one) => `${duration(one.seconds)}${one.ended === 'done' ? '' : `, ${one.ended}`}`).join('; ')}`}
        width={took.length * 8}
        height="22"
        className="shrink-0"
      >
        {[...took].reverse().map((one, i) => {
          const height = Math.max(2, (one.seconds / longest) * 22);
          return (
            <rect
              key={one.atMs}
              x={i * 8}
              y={22 - height}
              width="6"
              height={height}
              className={one.ended === 'done' ? 'fill-[var(--accent)]' : 'fill-[var(--loss)]'}
            />
          );
        })}
      </svg>
      <span className="text-[13px] whitespace-nowrap text-ink-2">
        {duration(last.seconds)}
        {failed > 0 && <span className="text-loss">, {count(failed)} failed</span>}
      </span>
    </span>
  );
}
