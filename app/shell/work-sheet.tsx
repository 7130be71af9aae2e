// All work: what runs, what waits, what ended and how. From here work is cancelled and volumes are read again.
import { useFetcher } from 'react-router';
import { canBeTriedAgain, HELD_WORDS } from '#core/plan/plan.ts';
import { ago, exactTime, listed, size } from '#core/wording/amounts.ts';
import type { JobRow } from '#server/site/work.ts';
import type { Answer } from '../lib/answer';
import { Button, Chip, Empty, Said, type Tone } from '../ui/parts';
import { Sheet } from '../ui/sheet';
import { useChosen } from './links';
import { ProgressBar, progressWords } from './progress';

const STATE: Record<JobRow['state'], { words: string; tone: Tone }> = {
  queued: { words: 'waiting', tone: 'plain' },
  running: { words: 'running', tone: 'plain' },
  done: { words: 'done', tone: 'ok' },
  failed: { words: 'did not work', tone: 'loss' },
  cancelled: { words: 'ended early', tone: 'caution' },
};

export function WorkSheet({
  open,
  onOpen,
  jobs,
  nowMs,
}: {
  open: boolean;
  onOpen: (open: boolean) => void;
  jobs: JobRow[];
  nowMs: number;
}) {
  const fetcher = useFetcher<Answer>();
  const chosen = useChosen();
  const open_ = jobs.filter((job) => job.finishedMs === null && !job.question && job.waitsFor.length === 0).length;
  const asking = jobs.filter((job) => job.question).length;
  const waiting = jobs.filter((job) => !job.question && job.waitsFor.length > 0).length;
  return (
    <Sheet open={open} onOpen={onOpen} title="Work">
      <div className="mb-3 flex items-start justify-between slim:flex-wrap gap-4">
        <h2 className="sentence">
          {open_ === 0 ? 'Nothing is running' : `${open_ === 1 ? 'One piece' : `${open_} pieces`} of work under way`}
          {asking > 0 && `, ${asking === 1 ? 'one waits' : `${asking} wait`} for an answer`}
          {waiting > 0 && `, ${waiting === 1 ? 'one waits' : `${waiting} wait`} for what is away`}.
        </h2>
        <fetcher.Form method="post" action="/work">
          <input type="hidden" name="volumes" value={chosen.join(',')} />
          <Button type="submit" name="intent" value="read">
            {chosen.length === 0
              ? 'Read all volumes'
              : `Read ${chosen.length === 1 ? 'the chosen volume' : `${chosen.length} volumes`}`}
          </Button>
        </fetcher.Form>
      </div>
      <Said answer={fetcher.data} />
      <div className="card rows mt-3 py-1">
        {jobs.length === 0 && <Empty>No work has been done yet.</Empty>}
        {jobs.map((job) => (
          <Job key={job.jobId} job={job} nowMs={nowMs} fetcher={fetcher} />
        ))}
      </div>
    </Sheet>
  );
}

/** "KD-0004 (lent to Ida Holm)" */
export const awaitedWords = ({ waitsFor }: JobRow): string =>
  listed(waitsFor.map(({ name, where }) => (where === '' ? name : `${name} (${where})`)));

interface AsksProps {
  title: string;
  question: NonNullable<JobRow['question']>;
  fetcher: ReturnType<typeof useFetcher<Answer>>;
}

/** What is written is kept until somebody says what is to become of one file. */
function Asks({ title, question: { questionId, path, sizeBytes, reason }, fetcher }: AsksProps) {
  return (
    <fetcher.Form method="post" action="/work" className="my-1 max-w-[70em] whitespace-normal text-caution">
      <p className="break-words">
        {path} ({size(sizeBytes)}) cannot go in: {HELD_WORDS[reason]}. What is written so far is kept.
      </p>
      <input type="hidden" name="questionId" value={questionId} />
      <span className="mt-1 flex flex-wrap gap-2">
        <Button type="submit" name="intent" value="leave out" aria-label={`Leave it out and go on: ${title}`}>
          Leave it out and go on
        </Button>
        {canBeTriedAgain(reason) && (
          <Button type="submit" name="intent" value="try again" aria-label={`Try again: ${title}`}>
            Try again
          </Button>
        )}
      </span>
    </fetcher.Form>
  );
}

interface JobProps {
  job: JobRow;
  nowMs: number;
  fetcher: ReturnType<typeof useFetcher<Answer>>;
}

function Job({ job, nowMs, fetcher }: JobProps) {
  return (
    <div className="flex items-center gap-4 py-2">
      <div className="min-w-0 flex-1">
        <div className="truncate font-medium">
          {job.title}
          {(job.state === 'running' || job.isPutOff) && job.phase && (
            <span className="font-normal text-ink-2">, {job.phase}</span>
          )}
        </div>
        <div className="text-[13px] text-ink-2" title={exactTime(job.createdMs)}>
          by {job.who}, {ago(job.finishedMs ?? job.createdMs, Math.max(nowMs, job.finishedMs ?? job.createdMs))}
          {job.waitsFor.length > 0 && (
            <span className="block text-caution">
              Waits for {awaitedWords(job)}. Connect {job.waitsFor.length === 1 ? 'it' : 'them'}, and it goes on by
              itself.
            </span>
          )}
          {job.question && <Asks title={job.title} question={job.question} fetcher={fetcher} />}
          {job.trouble && <span className="block max-w-[70em] whitespace-normal text-loss">{job.trouble}</span>}
        </div>
      </div>
      {job.finishedMs === null && (
        <>
          <ProgressBar job={job} />
          <span className="w-64 text-[13px] text-ink-2">{progressWords(job)}</span>
        </>
      )}
      {job.question ? (
        <Chip tone="caution">asks</Chip>
      ) : (
        <Chip tone={STATE[job.state].tone}>{STATE[job.state].words}</Chip>
      )}
      {job.finishedMs === null && (
        <fetcher.Form method="post" action="/work">
          <input type="hidden" name="jobId" value={job.jobId} />
          <Button type="submit" name="intent" value="cancel" disabled={job.cancelAsked}>
            Cancel
          </Button>
        </fetcher.Form>
      )}
    </div>
  );
}
