// The tray: left the plan, right the work under way. Each opens upward into its whole.
import { type Dispatch, type SetStateAction, useCallback, useEffect, useRef, useState } from 'react';
import { useFetchers, useLocation, useNavigation, useRevalidator } from 'react-router';
import { ago, counted, size } from '#core/wording/amounts.ts';
import type { JobRow } from '#server/site/work.ts';
import { Button } from '../ui/parts';
import type { FrameData } from './use-frame';
import { ProgressBar, progressWords } from './progress';
import { KeySheet } from './key-sheet';
import { listening } from './listening';
import { onOpenTray } from './open-tray';
import { isTyping } from './typing';
import { PlanSheet } from './plan-sheet';
import { awaitedWords, WorkSheet } from './work-sheet';

type Opened = 'plan' | 'work' | 'keys' | null;

export function Tray({ frame }: { frame: FrameData }) {
  const [open, setOpen] = useState<Opened>(null);
  const { jobs, pulse } = useLive(frame);
  useKeys(setOpen);
  const { pathname } = useLocation();
  useEffect(() => setOpen(null), [pathname]);
  useEffect(() => onOpenTray(setOpen), []);
  const { plan } = frame;
  // What waits until somebody connects a carrier may wait for weeks: it never hides what runs.
  const waiting = jobs.filter((job) => isOpen(job) && !job.question && job.waitsFor.length > 0);
  const running = jobs.filter((job) => isOpen(job) && !job.question && job.waitsFor.length === 0);
  const asking = jobs.filter((job) => job.question);
  const last = jobs.find((job) => !isOpen(job));
  return (
    <footer
      aria-label="Plan and work"
      className="print:hidden relative z-30 col-span-2 flex items-center gap-4 border-t border-line bg-panel px-4"
    >
      <span className="font-semibold">Plan</span>
      <span className="truncate" data-testid="plan-summary">
        {planWords(plan)}
      </span>
      {plan.steps > 0 && (
        <Button tone={open === 'plan' ? 'plain' : 'first'} onClick={() => setOpen(open === 'plan' ? null : 'plan')}>
          {open === 'plan' ? 'Close' : 'Review plan'}
        </Button>
      )}
      <div className="ml-auto flex min-w-0 items-center gap-3">
        {asking[0] && (
          <span className="truncate font-medium text-caution" title={asking[0].title}>
            {asking.length === 1 ? 'Work waits for an answer' : `${asking.length} pieces of work wait for an answer`}
          </span>
        )}
        {pulse.workers === 0 ? (
          <NoWorker pulse={pulse} nowMs={frame.nowMs} />
        ) : running[0] ? (
          <Progress job={running[0]} more={running.length + waiting.length - 1} />
        ) : (
          <span className="truncate text-ink-2" title={waiting[0]?.title}>
            {lastWords(last)}
            {waiting[0] && `, ${waitingWords(waiting)}`}
          </span>
        )}
        <Button onClick={() => setOpen(open === 'work' ? null : 'work')}>{open === 'work' ? 'Close' : 'Work'}</Button>
      </div>
      <PlanSheet
        open={open === 'plan'}
        onOpen={(value) => setOpen(value ? 'plan' : null)}
        onRun={() => setOpen('work')}
      />
      <KeySheet open={open === 'keys'} onOpen={(value) => setOpen(value ? 'keys' : null)} />
      <WorkSheet
        open={open === 'work'}
        onOpen={(value) => setOpen(value ? 'work' : null)}
        jobs={jobs}
        nowMs={frame.nowMs}
      />
    </footer>
  );
}

function planWords(plan: FrameData['plan']): string {
  if (plan.steps === 0) return 'nothing in the plan';
  const effects = [
    plan.freedBytes > 0 ? `frees ${size(plan.freedBytes)}` : '',
    plan.writtenBytes > 0 ? `writes ${size(plan.writtenBytes)}` : '',
  ].filter(Boolean);
  return [counted(plan.steps, 'step'), ...effects].join(', ');
}

function lastWords(job: JobRow | undefined): string {
  if (!job) return 'Nothing running';
  if (job.state === 'failed') return `${job.title}: did not work`;
  return 'Nothing running';
}

const isOpen = (job: JobRow): boolean => job.finishedMs === null;

const waitingWords = (waiting: readonly JobRow[]): string =>
  waiting.length === 1
    ? `one piece of work waits for ${awaitedWords(waiting[0]!)}`
    : `${waiting.length} pieces of work wait for what is away`;

function Progress({ job, more }: { job: JobRow; more: number }) {
  return (
    <>
      <span className="truncate text-ink-2" title={job.title}>
        {job.title}
        {job.phase && job.kind !== 'read volume' ? `, ${job.phase}` : ''}
      </span>
      <ProgressBar job={job} />
      <span className="text-[13px] whitespace-nowrap text-ink-2">{progressWords(job)}</span>
      {more > 0 && <span className="text-[13px] whitespace-nowrap text-ink-3">and {more} more</span>}
    </>
  );
}

/** Work waits, and nothing on the screen gets newer, until a worker runs: that is said before anything else. */
function NoWorker({ pulse, nowMs }: { pulse: FrameData['pulse']; nowMs: number }) {
  const since = pulse.lastSeenMs === null ? '' : `, the last ${ago(pulse.lastSeenMs, Math.max(nowMs, Date.now()))}`;
  return (
    <span
      role="alert"
      className="truncate font-medium text-loss"
      title="Work waits until one runs, and nothing is lost."
    >
      No worker answers{since}. Start one on a machine that reaches the disks: npm start.
    </span>
  );
}

/** Single keys, while nobody writes into a field. */
function useKeys(open: Dispatch<SetStateAction<Opened>>): void {
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (isTyping(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      const wanted = ({ p: 'plan', w: 'work', '?': 'keys' } as const)[event.key];
      if (!wanted) return;
      event.preventDefault();
      open((now) => (now === wanted ? null : wanted));
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, [open]);
}

interface Live {
  jobs: JobRow[];
  pulse: FrameData['pulse'];
}

/** As it is now, from the server's event stream. Everything on the screen is asked again when work ends, or when somebody changed something. */
function useLive({ jobs: initial, pulse: first }: Live): Live {
  const [live, setLive] = useState<Live>({ jobs: initial, pulse: first });
  const askAgain = useAskAgain();
  const before = useRef<Live>({ jobs: initial, pulse: first });
  useEffect(() => {
    const hear = (event: MessageEvent<string>) => {
      const next = JSON.parse(event.data) as Live;
      const { jobs, pulse } = before.current;
      const wasOpen = new Set(jobs.filter((job) => job.finishedMs === null).map((job) => job.jobId));
      const ended = next.jobs.some(
        (job) => job.finishedMs !== null && (wasOpen.has(job.jobId) || !jobs.some((old) => old.jobId === job.jobId)),
      );
      const changed = next.pulse.mark !== pulse.mark;
      before.current = next;
      setLive(next);
      if (ended || changed) askAgain();
    };
    return listening('/events', hear);
  }, [askAgain]);
  useEffect(() => {
    setLive((now) =>
      initial[0] && !now.jobs.some((job) => job.jobId === initial[0]!.jobId) ? { ...now, jobs: initial } : now,
    );
  }, [initial]);
  return live;
}

/**
 * Asks everything on the screen again, once, as soon as nothing else is under way. In the middle of it a form would lose
 * the page that it leads to, and a page that opens would begin anew with every change that anybody makes.
 */
function useAskAgain(): () => void {
  const { revalidate, state } = useRevalidator();
  const navigation = useNavigation();
  const fetchers = useFetchers();
  const [wanted, setWanted] = useState(false);
  const quiet =
    state === 'idle' && navigation.state === 'idle' && fetchers.every((fetcher) => fetcher.state === 'idle');
  useEffect(() => {
    if (!wanted || !quiet) return;
    setWanted(false);
    void revalidate();
  }, [wanted, quiet, revalidate]);
  return useCallback(() => setWanted(true), []);
}
