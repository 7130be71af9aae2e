// Commands about the nights: what the last one came to, and what the next one would do.
import { type Command, Option } from 'commander';
import { ago, count, duration, exactTime, size } from '#core/wording/amounts.ts';
import { morningSentence, underHeadings } from '#core/wording/nights.ts';
import type { Database } from '#server/db/connect.ts';
import { morningOf } from '#server/nights/morning.ts';
import { tonightOf } from '#server/nights/tonight.ts';
import { lastMessages, postState } from '#server/post/outbox.ts';
import { postRuleOf } from '#server/post/post-rule.ts';
import { sendTest } from '#server/post/telling.ts';
import type { Out } from './shaping.ts';
import { table } from './table.ts';

export function addNightCommands(command: Command, open: () => Database, out: Out): void {
  command
    .command('morning')
    .description(
      'what happened since yesterday evening, what did not work and why, what waits, and how sure the shelf is',
    )
    .option('--json', 'as JSON')
    .action(({ json }: { json?: boolean }) => morning(open(), out, json));
  command
    .command('tonight')
    .description('what happens by itself, what it would do in the next night, and how long it took the last times')
    .option('--json', 'as JSON')
    .action(({ json }: { json?: boolean }) => tonight(open(), out, json));
  command
    .command('post')
    .description('what was sent by mail or posted, and what waits; --test sends one to see whether it arrives')
    .addOption(new Option('--test <by>', 'by mail or webhook').choices(['mail', 'webhook']))
    .option('--json', 'as JSON')
    .action((asked: { test?: 'mail' | 'webhook'; json?: boolean }) => post(open(), out, asked));
}

async function morning(db: Database, out: Out, json = false): Promise<void> {
  const now = new Date();
  const told = await morningOf(db, now);
  if (json) return out(JSON.stringify(told, null, 2));
  out(morningSentence(told));
  for (const { title, who, why } of told.failed) out(`Did not work: ${title} (${who}). ${why}`);
  for (const { title, for: awaited } of told.waiting)
    out(
      `Waits: ${title}, for ${awaited.map(({ name, where }) => (where === '' ? name : `${name} (${where})`)).join(', ')}`,
    );
  for (const { heading, items } of underHeadings(told.done, told.tally))
    out(
      table([
        [heading.toUpperCase(), 'WHO', 'FILES', 'SIZE', 'LEFT', ''],
        ...items.map((one) => [
          one.title,
          one.who,
          count(one.files),
          size(one.bytes),
          one.held === 0 ? '' : count(one.held),
          ago(one.atMs, now.getTime()),
        ]),
      ]),
    );
  const { archives, sure, oldestReadBackMs } = told.shelf;
  out(
    `${count(sure)} of ${count(archives)} archives have every copy they should${oldestReadBackMs === null ? '' : `; the oldest read-back is ${ago(oldestReadBackMs, now.getTime())}`}.`,
  );
}

async function tonight(db: Database, out: Out, json = false): Promise<void> {
  const told = await tonightOf(db, new Date());
  if (json) return out(JSON.stringify(told, null, 2));
  out(`From ${exactTime(told.fromMs)} to ${exactTime(told.toMs)}`);
  out(
    table([
      ['WHAT', 'WHEN', 'WHAT IT WOULD DO', 'NEEDS', 'TOOK LAST'],
      ...told.works.map(({ name, when, wouldDo, needs, took, meets }) => [
        name,
        when,
        [wouldDo, ...meets].join('; '),
        needs.join(', '),
        took[0] ? `${duration(took[0].seconds)}${took[0].ended === 'done' ? '' : `, ${took[0].ended}`}` : 'never',
      ]),
    ]),
  );
}

const MOST_MESSAGES = 20;

async function post(db: Database, out: Out, { test, json = false }: { test?: 'mail' | 'webhook'; json?: boolean }) {
  const now = new Date();
  if (test) {
    await sendTest(db, test, { who: 'keramion post', now });
    return out(
      json
        ? JSON.stringify({ sent: test })
        : `The test was taken by the ${test === 'mail' ? 'mail server' : 'webhook'}.`,
    );
  }
  const [rule, state, last] = [await postRuleOf(db), await postState(db), await lastMessages(db, MOST_MESSAGES)];
  if (json) return out(JSON.stringify({ rule, ...state, last: last.map(({ body: _body, ...one }) => one) }, null, 2));
  if (rule.host === '' && rule.webhook === '')
    return out('Nothing is sent by itself. Say in Settings what is told, and whom.');
  out(
    table([
      ['WHAT', 'BY', 'MADE', 'STATE', ''],
      ...last.map((one) => [
        one.subject,
        one.by,
        ago(one.madeAt.getTime(), now.getTime()),
        one.sentAt ? 'sent' : one.gaveUpAt ? 'given up' : `waits, tried ${count(one.tries)} times`,
        one.trouble ?? '',
      ]),
    ]),
  );
}
