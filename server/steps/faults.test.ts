// The real worker is killed, stopped past its lease and continued, or refused by the system, at exact calls; another goes
// on. Nothing is lost, nothing half is seen, nothing is left over, and every receipt is true. A bounded part here;
// `npm run bench -- faults` sweeps every call.
import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { isOfToday } from '#test/of-today.ts';
import { plainWorker } from '#test/faults/plain.ts';
import { Wire } from '#test/faults/wire.ts';
import { TestSite, until } from '#test/site.ts';
import { allEnded, type Figures, judge, type Scenario, SCENARIOS, visible } from '#test/faults/scenarios.ts';

const LEASE_SECONDS = 1;
const STOP_SECONDS = 3;
/**
 * How many points of each scenario: a number, or all of them: every call in every way. `each` is every call in one way, which
 * is another for the next call and, with another TURN, another for the same call.
 */
const EACH = process.env.FAULTS === 'each';
const WHOLE = process.env.FAULTS === 'all' || EACH;
const TURN = Number(process.env.TURN ?? 0);
/** Only these: one that was found is looked at again. */
const POINTS = process.env.POINTS?.split(',');
const WANTED = Number(process.env.FAULTS ?? 0) || 2;
/** Many workers are started, and each is there at once. */
const PROGRAM = [plainWorker('faults')];
const sum = { points: 0, met: 0, bytesLost: 0, halfFiles: 0, orphans: 0, untrue: 0 };
const folder = mkdtempSync(path.join(os.tmpdir(), 'faults-'));

afterAll(() => {
  rmSync(folder, { recursive: true, force: true });
  console.error(
    `faults: ${sum.points} points, ${sum.met} met; ${sum.bytesLost} files lost, ${sum.halfFiles} half files, ${sum.orphans} orphans, ${sum.untrue} untrue sayings`,
  );
});

/** A real worker with the fault in it; `url` where its database answers to it. */
function startFaulty(
  site: TestSite,
  fault: string,
  { log, url = site.database.url }: { log?: string; url?: string } = {},
): ChildProcess {
  return spawn(process.execPath, ['--require', './test/faults/preload.cjs', ...PROGRAM], {
    env: {
      ...process.env,
      KERAMION_DATABASE: url,
      KERAMION_LEASE_SECONDS: String(LEASE_SECONDS),
      // Several batches of a few files, so that one is met while another is being written down.
      KERAMION_BATCH: '2',
      FAULT: fault,
      FAULT_ROOT: site.root,
      FAULT_LOG: log,
    },
    stdio: 'ignore',
  });
}

const isStopped = (pid: number): boolean => {
  try {
    return / T /.test(readFileSync(`/proc/${pid}/stat`, 'utf8'));
  } catch {
    return false;
  }
};
const hasExited = (child: ChildProcess) => child.exitCode !== null || child.signalCode !== null;

async function end(child: ChildProcess): Promise<void> {
  if (hasExited(child)) return;
  const gone = new Promise((resolve) => child.once('exit', resolve));
  child.kill('SIGCONT');
  child.kill('SIGTERM');
  const killer = setTimeout(() => child.kill('SIGKILL'), 8_000);
  await gone;
  clearTimeout(killer);
}

/** Which operations a scenario makes, each with how many calls of it there are. */
async function callsOf(scenario: Scenario): Promise<Map<string, number>> {
  const log = path.join(folder, 'log');
  rmSync(log, { force: true });
  const site = await TestSite.open();
  await scenario.set(site);
  const wire = await Wire.open(site.database.url);
  const worker = startFaulty(site, '', { log, url: wire.url });
  await until(() => allEnded(site));
  const counts = new Map([['database', wire.questions]]);
  await end(worker);
  await wire.close();
  await site.close();
  if (existsSync(log))
    for (const name of readFileSync(log, 'utf8').split('\n').filter(Boolean))
      counts.set(name, (counts.get(name) ?? 0) + 1);
  return counts;
}

/** One point: the fault at that call, then another worker, then one more start. */
async function runPoint(scenario: Scenario, fault: string): Promise<Figures> {
  const site = await TestSite.open();
  try {
    await scenario.set(site);
    const before = visible(site);
    const wire = await Wire.open(site.database.url, fault);
    const worker = startFaulty(site, fault, { url: wire.url });
    let met = false;
    await until(async () => {
      met ||= hasExited(worker) || isStopped(worker.pid!) || wire.isCut;
      return met || (await allEnded(site));
    });
    // The second goes on while the first is dead or stopped; a stopped one wakes up in the middle of it.
    const second = site.worker(LEASE_SECONDS);
    await until(() => allEnded(site));
    if (fault.includes(':stop:') && met) await new Promise((resolve) => setTimeout(resolve, STOP_SECONDS * 1000));
    await end(worker);
    await wire.close();
    await second.stop();
    const third = site.worker(LEASE_SECONDS);
    await until(async () => (await allEnded(site)) && third.isIdle());
    await third.stop();
    sum.met += Number(met || fault.includes(':fail:'));
    return await judge(site, before);
  } finally {
    site.checked = false;
    await site.close();
  }
}

/** How each operation is made to go wrong. */
const WAYS = ['kill', `stop:${STOP_SECONDS}`, 'fail:EIO', 'fail:ENOSPC', 'fail:EBUSY'];
/** The database goes away for longer than the lease: before it heard the n-th question, or before it was heard answering. */
const WIRE_WAYS = ['unasked', 'unanswered'];
/** How many points run beside each other: they mostly wait for leases to end. */
const BESIDE = WHOLE || WANTED > 20 ? 5 : 1;

function waysOf(operation: string): string[] {
  if (operation === 'database') return WIRE_WAYS;
  return WAYS.filter((way) => {
    if (way === 'fail:EBUSY') return /unlink|rename/.test(operation);
    return way !== 'fail:ENOSPC' || /open|mkdir|link|rename|write|fsync/.test(operation);
  });
}

/** What everything else is built of. */
const SWEPT_FIRST = /^(a purge|a move|an archive to two|a restore|a relinking)/;

/** The calls that change something, with the ways that make sense for each; bounded: some of each. */
function pointsOf(calls: ReadonlyMap<string, number>, { name, turn }: { name: string; turn: number }): string[] {
  const all: string[] = [];
  for (const [operation, count] of calls)
    for (let n = 1; n <= count; n++) {
      const ways = waysOf(operation).map((way) => `${operation}:${n}:${way}`);
      all.push(...(EACH ? [ways[(n + TURN) % ways.length]!] : ways));
    }
  if (WHOLE) return all;
  const weighty = all.filter((point) => /^(unlink|rename|link)Sync/.test(point) && !point.includes('fail'));
  const asked = all.filter((point) => point.startsWith('database'));
  const step = (list: string[], wanted: number, offset: number) =>
    Array.from(
      { length: Math.min(wanted, list.length) },
      (_, i) => list[(i * Math.max(1, Math.floor(list.length / wanted)) + offset) % list.length]!,
    );
  const some = Math.ceil(WANTED / 4);
  // Of what is built of the same parts as another, one point here: a whole sweep has them all.
  if (WANTED <= 2 && !SWEPT_FIRST.test(name))
    return step(turn % 2 === 0 && weighty.length > 0 ? weighty : asked, 1, turn * 5);
  return [
    ...new Set([
      ...step(weighty, WANTED - 1, turn),
      // Where it is only looked whether it still holds, what weighs and what is asked of the database.
      ...(WANTED > 2 ? step(all, some, turn * 7) : []),
      ...step(asked, some, turn * 5),
    ]),
  ];
}

/** Here what everything else is built of, and of the rest every fourth, others on the next day: a sweep has them all. */
const isToday = ({ name, turn }: { name: string; turn: number }): boolean =>
  WHOLE || POINTS !== undefined || WANTED > 2 || SWEPT_FIRST.test(name) || isOfToday(turn, 4);

test.each(SCENARIOS.map((scenario, turn) => ({ scenario, turn, name: scenario.name })).filter(isToday))(
  '$name loses nothing, whatever happens at whichever call',
  async ({ scenario, turn }) => {
    const points = POINTS ?? pointsOf(await callsOf(scenario), { name: scenario.name, turn });
    expect(points.length).toBeGreaterThan(0);
    if (WHOLE) process.stderr.write(`${scenario.name}: ${points.length} points\n`);
    const wrong: string[] = [];
    const tell = (lines: readonly string[]) => {
      wrong.push(...lines);
      // A sweep takes hours: what it finds is told as it is found.
      if (WHOLE) for (const line of lines) process.stderr.write(`${scenario.name}: ${line}\n`);
    };
    const waiting = points.values();
    const one = async () => {
      for (const point of waiting) {
        sum.points++;
        try {
          const figures = await runPoint(scenario, point);
          for (const key of ['bytesLost', 'halfFiles', 'orphans', 'untrue'] as const) sum[key] += figures[key];
          tell(figures.lines.map((line) => `${point}: ${line}`));
        } catch (error) {
          tell([`${point}: not run to its end: ${String(error)}`]);
        }
        if (WHOLE && sum.points % 50 === 0)
          process.stderr.write(`${scenario.name}: ${sum.points} points, ${wrong.length} wrong\n`);
      }
    };
    await Promise.all(Array.from({ length: BESIDE }, one));
    expect(wrong).toEqual([]);
  },
  WHOLE ? 8 * 3_600_000 : Math.max(3, WANTED) * 60_000,
);
