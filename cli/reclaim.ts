// Commands about what may go: reclaim, plan and aside. They add to the same plan as the interface, and run it as it does.
import type { Command } from 'commander';
import type { Level, PlanId, ProjectId } from '#core/model.ts';
import { LEVEL_WORDS } from '#core/model.ts';
import { HELD_WORDS } from '#core/plan/plan.ts';
import { cutDay } from '#core/reclaim/cuts.ts';
import { understand } from '#core/search/query.ts';
import { ago, count, counted, size } from '#core/wording/amounts.ts';
import { csvText } from '#core/wording/csv.ts';
import { findingWords } from '#core/wording/findings.ts';
import { planSentence, planTroubleWords } from '#core/wording/plan.ts';
import { goalSentence, GROUP_WORDS, REASON_WORDS, worthSentence } from '#core/wording/reclaim.ts';
import type { Database } from '#server/db/connect.ts';
import { currentPlan, findingsOf, itemsOf, runAtOnce, runPlan } from '#server/plan/plan.ts';
import { asideFiles, asideSteps } from '#server/reclaim/aside.ts';
import { goalOn, YOUNGEST_DAYS } from '#server/reclaim/goal.ts';
import { groupSums, type Scope } from '#server/reclaim/lines.ts';
import { assess } from '#server/reclaim/assess.ts';
import { askToCompare, twinPairs } from '#server/reclaim/twins.ts';
import { currentAssessment } from '#server/db/worth.ts';
import { awaitJob } from '#server/runtime/await-job.ts';
import { Refused } from '#server/runtime/refused.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { addChosen } from '#server/steps/chosen.ts';
import { addAsideRemoval } from '#server/steps/remove-aside.ts';
import { addTakingBack } from '#server/steps/take-back.ts';
import { projectNamed } from './names.ts';
import { table } from './table.ts';

type Out = (text: string) => void;
const WAITS_SECONDS = 24 * 3600;
const who = () => process.env.USER ?? 'the command line';

export function addReclaimCommands(command: Command, open: () => Database, out: Out): void {
  command
    .command('reclaim')
    .description('what may go by group and level; with --free the least regretful of it, added to the plan')
    .option('--free <size>', 'so much, for example 60GB')
    .option('--on <volume>', 'on this volume')
    .option('--level <0-3>', '0 rebuilds itself, 1 can be made again, 2 a verified copy exists, 3 the only copy', '1')
    .option('--project <name>', 'of this project alone')
    .option('--in-work', 'also of projects in work')
    .option('--dry-run', 'only says what it would add')
    .option('--json', 'as JSON')
    .action((asked: ReclaimOptions) => reclaim(open(), out, asked));
  command
    .command('twins')
    .description('the same file twice: compares what may be the same, and tells which one may go')
    .option('--known', 'compares nothing, tells what is known')
    .option('--json', 'as JSON')
    .action((asked: { known?: boolean; json?: boolean }) => twins(open(), out, asked));
  const plan = command.command('plan').description('the plan that everybody shares');
  plan
    .command('show')
    .description('its steps, and what problems they have')
    .option('--json', 'as JSON')
    .action((asked: { json?: boolean }) => showPlan(open(), out, asked));
  plan
    .command('run')
    .description('runs it, and waits until its work has ended')
    .option('--only-copies <size>', 'the size of the only copies in it, as it is shown')
    .option('--json', 'as JSON')
    .action((asked: { onlyCopies?: string; json?: boolean }) => run(open(), out, asked));
  plan
    .command('export')
    .description('every file of it as comma-separated text')
    .action(() => exportPlan(open(), out));
  const aside = command.command('aside').description('what is set aside');
  aside
    .command('list')
    .description('by the step that did it; with --files file by file')
    .option('--files', 'every file')
    .option('--json', 'as JSON')
    .action((asked: { files?: boolean; json?: boolean }) => listAside(open(), out, asked));
  aside
    .command('back')
    .description('takes back what a step set aside, or only files whose paths contain a text')
    .argument('<step>', 'its number, from aside list')
    .option('--path <text>', 'only files whose paths contain this')
    .action((step: string, asked: { path?: string }) => back(open(), out, { step, ...asked }));
  aside
    .command('empty')
    .description('adds the removal for good of what a step set aside to the plan')
    .argument('<step>', 'its number, from aside list')
    .action((step: string) => empty(open(), out, step));
}

async function twins(db: Database, out: Out, { known, json }: { known?: boolean; json?: boolean }): Promise<void> {
  if (!known) {
    await awaitJob(db, await askToCompare(db, { who: who(), now: new Date() }), WAITS_SECONDS);
    await assess(db);
  }
  const assessment = await currentAssessment(db);
  const pairs = assessment ? await twinPairs(db, assessment.run, MOST_FILES) : [];
  if (json) return out(JSON.stringify(pairs, null, 2));
  if (pairs.length === 0) return out('No file is known to be there twice.');
  out(
    table([
      ['MAY GO', 'STAYS', 'SIZE'],
      ...pairs.map(({ goes, stays, bytes }) => [
        `${goes.volume}/${goes.path}`,
        `${stays.volume}/${stays.path}`,
        size(bytes),
      ]),
    ]),
  );
  out(`${size(pairs.reduce((sum, pair) => sum + pair.bytes, 0))} can be set aside.`);
}

interface ReclaimOptions {
  free?: string;
  on?: string;
  level: string;
  project?: string;
  inWork?: boolean;
  dryRun?: boolean;
  json?: boolean;
}

async function scopeOf(db: Database, { project, inWork }: ReclaimOptions): Promise<Scope> {
  const own = project === undefined ? null : await projectNamed(db, project);
  return { only: [], projectId: own?.projectId ?? (null as ProjectId | null), inWork: inWork === true };
}

/** "60GB", "1.5 TB". */
function bytesOf(text: string): number {
  const { minBytes } = understand(`over ${text}`).query;
  if (!(minBytes! > 0)) throw new Refused(`"${text}" is no size. Give one like 60GB. Nothing was added.`);
  return minBytes!;
}

async function reclaim(db: Database, out: Out, asked: ReclaimOptions): Promise<void> {
  const scope = await scopeOf(db, asked);
  if (asked.free === undefined) return showGroups(db, out, { scope, json: asked.json });
  const volumes = await rackVolumes(db);
  const volume = volumes.find((one) => one.name.toLowerCase() === asked.on?.toLowerCase());
  if (!volume)
    throw new Refused(
      `${asked.on === undefined ? 'Say on which volume with --on.' : `There is no volume named ${asked.on}.`} Known are: ${volumes.map((one) => one.name).join(', ') || 'none'}. Nothing was added.`,
    );
  const highest = ([0, 1, 2, 3] as const).find((level) => String(level) === asked.level);
  if (highest === undefined) throw new Refused(`--level is 0, 1, 2 or 3, not ${asked.level}. Nothing was added.`);
  const now = new Date();
  const cut = cutDay(now.getTime(), YOUNGEST_DAYS);
  const wantedBytes = bytesOf(asked.free);
  const found = await goalOn(db, scope, { volumeId: volume.volumeId, wantedBytes, highest, cutDay: cut });
  const added =
    asked.dryRun || found.keys.length === 0 ? null : await addChosen(db, { keys: found.keys, cutDay: cut, now });
  if (asked.json)
    return out(JSON.stringify({ ...found, rest: undefined, wantedBytes, volume: volume.name, added }, null, 2));
  if (found.chosen.length > 0)
    out(
      table([
        ['FOLDER', 'WHAT', 'IF IT IS NEEDED AGAIN', 'FILES', 'SIZE'],
        ...found.chosen.map((line) => [
          line.path || '(top)',
          GROUP_WORDS[line.group].name,
          REASON_WORDS[line.reason],
          count(line.files),
          size(line.bytes),
        ]),
      ]),
    );
  out(goalSentence({ ...found, wantedBytes, volume: volume.name }));
  out(
    added ? `Added ${size(added.bytes)} to the plan. Nothing goes before it is run.` : 'Nothing was added to the plan.',
  );
}

async function showGroups(db: Database, out: Out, { scope, json }: { scope: Scope; json?: boolean }): Promise<void> {
  const sums = await groupSums(db, scope);
  if (json) return out(JSON.stringify(sums, null, 2));
  const all: Record<Level, number> = { 0: 0, 1: 0, 2: 0, 3: 0 };
  for (const sum of sums) for (const level of [0, 1, 2, 3] as const) all[level] += sum.byLevel[level];
  const some = sums.filter((sum) => sum.files > 0);
  if (some.length > 0)
    out(
      table([
        ['WHAT', 'FILES', 'SIZE', ...[0, 1, 2, 3].map((level) => LEVEL_WORDS[level as Level].toUpperCase())],
        ...some.map((sum) => [
          GROUP_WORDS[sum.group].name,
          count(sum.files),
          size(sum.bytes),
          ...([0, 1, 2, 3] as const).map((level) => (sum.byLevel[level] > 0 ? size(sum.byLevel[level]) : '')),
        ]),
      ]),
    );
  out(worthSentence(all, ''));
}

async function showPlan(db: Database, out: Out, { json }: { json?: boolean }): Promise<void> {
  const plan = await currentPlan(db);
  const findings = (await findingsOf(db, plan.steps)).map((finding) => ({
    weight: finding.weight,
    ...findingWords(finding, Date.now()),
  }));
  if (json) return out(JSON.stringify({ ...plan, findings }, null, 2));
  if (plan.steps.length > 0)
    out(
      table([
        ['STEP', 'FILES', 'SIZE'],
        ...plan.steps.map((step) => [step.title, count(step.files), size(step.bytes)]),
      ]),
    );
  out(planSentence(plan.steps));
  for (const { what, detail } of findings) out(`${what}. ${detail}`);
}

async function run(
  db: Database,
  out: Out,
  { onlyCopies, json }: { onlyCopies?: string; json?: boolean },
): Promise<void> {
  const { planId, version } = await currentPlan(db);
  if (planId === null) throw new Refused(planTroubleWords({ code: 'nothing staged' }));
  const ran = await runPlan(db, { planId: planId as PlanId, version, who: who(), now: new Date(), typed: onlyCopies });
  if (!ran.ok) throw new Refused(planTroubleWords(ran.trouble));
  for (const job of ran.jobs) await awaitJob(db, job, WAITS_SECONDS);
  const held = (await itemsOf(db, planId)).filter((item) => item.state === 'held');
  if (json) return out(JSON.stringify({ jobs: ran.jobs, held }, null, 2));
  for (const item of held.slice(0, 100)) out(`Left: ${item.path}, since ${HELD_WORDS[item.reason!]}`);
  out(
    `Done: ${counted(ran.jobs.length, 'piece')} of work${held.length > 0 ? `, ${counted(held.length, 'file')} left` : ''}.`,
  );
}

async function exportPlan(db: Database, out: Out): Promise<void> {
  const { planId } = await currentPlan(db);
  if (planId === null) throw new Refused(planTroubleWords({ code: 'nothing staged' }));
  const rows = await itemsOf(db, planId);
  out(
    csvText(
      ['step', 'volume', 'path', 'bytes', 'state'],
      rows.map((item) => [item.step, item.volume ?? '', item.path, String(item.sizeBytes), item.state]),
    ).trimEnd(),
  );
}

const MOST_FILES = 1_000_000;

async function listAside(db: Database, out: Out, { files, json }: { files?: boolean; json?: boolean }): Promise<void> {
  const steps = await asideSteps(db, []);
  const all = files
    ? (await Promise.all(steps.map((step) => asideFiles(db, step.stepId, { before: null, most: MOST_FILES })))).flat()
    : null;
  if (json) return out(JSON.stringify(all ?? steps, null, 2));
  if (steps.length === 0) return out('Nothing is set aside.');
  if (all)
    return out(
      table([
        ['VOLUME', 'IT WAS', 'SIZE', 'NOW'],
        ...all.map((file) => [file.volume, file.path, size(file.sizeBytes), file.asidePath]),
      ]),
    );
  out(
    table([
      ['STEP', 'WHAT', 'FILES', 'SIZE', 'ONLY COPIES', 'SINCE'],
      ...steps.map((step) => [
        String(step.stepId),
        step.title,
        count(step.files),
        size(step.bytes),
        step.onlyBytes > 0 ? size(step.onlyBytes) : '',
        ago(step.atMs, Date.now()),
      ]),
    ]),
  );
}

async function stepAside(db: Database, text: string) {
  const step = (await asideSteps(db, [])).find((one) => String(one.stepId) === text);
  if (!step)
    throw new Refused(`Nothing of step ${text} is set aside. "keramion aside list" shows the steps. Nothing was done.`);
  return step;
}

async function back(db: Database, out: Out, { step: text, path }: { step: string; path?: string }): Promise<void> {
  const step = await stepAside(db, text);
  const files = await asideFiles(db, step.stepId, { before: null, most: MOST_FILES });
  const chosen = path === undefined ? null : files.filter((file) => file.path.includes(path)).map((file) => file.id);
  if (chosen?.length === 0) throw new Refused(`No file of step ${text} has "${path}" in its path. Nothing was done.`);
  const now = new Date();
  const what = `${counted(chosen?.length ?? step.files, 'file')} set aside by step ${text}`;
  const choice = chosen ? { ids: chosen } : { stepIds: [step.stepId] };
  const job = await runAtOnce(db, (tx, planId) => addTakingBack(tx, { ...choice, what, planId, now }), {
    who: who(),
    now,
  });
  await awaitJob(db, job, WAITS_SECONDS);
  const left = await asideFiles(db, step.stepId, { before: null, most: MOST_FILES });
  out(
    `${counted(files.length - left.length, 'file')} taken back.${left.length > 0 ? ` ${counted(left.length, 'file')} still set aside.` : ''}`,
  );
}

async function empty(db: Database, out: Out, text: string): Promise<void> {
  const step = await stepAside(db, text);
  const added = await addAsideRemoval(db, { stepIds: [step.stepId], what: step.title, now: new Date() });
  const bytes = added.reduce((sum, one) => sum + one.bytes, 0);
  out(`Added the removal of ${size(bytes)} to the plan. Nothing goes before it is run.`);
}
