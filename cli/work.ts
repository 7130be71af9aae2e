// The work under way: what runs, what waits and for what, and what asks; answered and cancelled from here too.
import type { Command } from 'commander';
import type { JobId } from '#core/model.ts';
import { canBeTriedAgain, HELD_WORDS } from '#core/plan/plan.ts';
import { listed, size } from '#core/wording/amounts.ts';
import type { Database } from '#server/db/connect.ts';
import { type Answered, answerQuestion } from '#server/runtime/questions.ts';
import { cancelJob } from '#server/runtime/queue.ts';
import { Refused } from '#server/runtime/refused.ts';
import { type JobRow, jobRows } from '#server/site/work.ts';
import type { Out } from './shaping.ts';
import { table } from './table.ts';

export function addWorkCommand(command: Command, open: () => Database, out: Out): void {
  command
    .command('work')
    .description('what runs, what waits, and what asks about a file that cannot go in')
    .option('--leave-out <number>', 'what this work asks about stays out, and it goes on')
    .option('--try-again <number>', 'what this work asks about is tried again')
    .option('--cancel <number>', 'this work ends early')
    .option('--json', 'as JSON')
    .action((asked: Asked) => work(open(), out, asked));
}

interface Asked {
  leaveOut?: string;
  tryAgain?: string;
  cancel?: string;
  json?: boolean;
}

async function work(db: Database, out: Out, { leaveOut, tryAgain, cancel, json }: Asked): Promise<void> {
  const jobs = (await jobRows(db, 0)).filter((job) => job.finishedMs === null);
  if (leaveOut !== undefined) return reply(db, out, { jobs, number: leaveOut, answer: 'leave out' });
  if (tryAgain !== undefined) return reply(db, out, { jobs, number: tryAgain, answer: 'try again' });
  if (cancel !== undefined) {
    const ended = await cancelJob(db, numbered(jobs, cancel).jobId as JobId);
    return out(
      ended === 'ended'
        ? 'It ended before it began. Nothing was changed.'
        : 'It ends early. What it had finished stays; the rest is left as it was.',
    );
  }
  if (json) return out(JSON.stringify(jobs, null, 2));
  if (jobs.length === 0) return out('Nothing is running.');
  out(table([['NUMBER', 'WORK', 'IS'], ...jobs.map((job) => [String(job.jobId), job.title, stateOf(job)])]));
  for (const { jobId, question } of jobs)
    if (question)
      out(
        `${jobId} asks: ${question.path} (${size(question.sizeBytes)}) cannot go in, since ${HELD_WORDS[question.reason]}. What is written so far is kept. --leave-out ${jobId}${canBeTriedAgain(question.reason) ? `, --try-again ${jobId}` : ''} or --cancel ${jobId}.`,
      );
}

const stateOf = ({ question, waitsFor, isPutOff, state, phase }: JobRow): string =>
  question
    ? 'asks'
    : waitsFor.length > 0
      ? `waits for ${listed(waitsFor.map((one) => one.name))}`
      : state === 'queued' && !isPutOff
        ? 'waiting'
        : phase || 'running';

function numbered(jobs: readonly JobRow[], number: string): JobRow {
  const job = jobs.find((one) => String(one.jobId) === number);
  if (!job) throw new Refused(`There is no work ${number} under way. Nothing was changed.`);
  return job;
}

interface Reply {
  jobs: readonly JobRow[];
  number: string;
  answer: Answered;
}

async function reply(db: Database, out: Out, { jobs, number, answer }: Reply): Promise<void> {
  const { question, title } = numbered(jobs, number);
  if (!question) throw new Refused(`${title} asks nothing. Nothing was changed.`);
  const who = process.env.USER ?? 'the command line';
  await answerQuestion(db, { questionId: question.questionId, answer, who, now: new Date() });
  out(
    answer === 'leave out'
      ? `${question.path} stays out, which the archive and the receipt say. The work goes on from where it was.`
      : 'It is tried again. The work goes on from where it was.',
  );
}
