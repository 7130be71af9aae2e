// Every check and test, one after the other; the last line says how many passed and failed. A part that cannot even
// run counts as one that failed.
import { spawn, spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';
import { build } from './build.ts';
import { buildThreads } from './threads.ts';

interface Part {
  name: string;
  passed: number;
  failed: number;
}

const bin = (name: string) => path.join('node_modules', '.bin', name);

/** A check counts as one: it passes or it does not. What it said is told when it ends: others run beside it. */
function check(name: string, command: string, args: readonly string[]): Promise<Part> {
  return new Promise((resolve) => {
    const said: Buffer[] = [];
    const child = spawn(command, args, { stdio: ['ignore', 'pipe', 'pipe'], env: process.env });
    for (const stream of [child.stdout, child.stderr]) stream.on('data', (chunk: Buffer) => void said.push(chunk));
    const ended = (passed: boolean) => {
      process.stdout.write(`\n— ${name}\n${Buffer.concat(said).toString('utf8')}`);
      resolve({ name, passed: passed ? 1 : 0, failed: passed ? 0 : 1 });
    };
    child.on('error', () => ended(false));
    child.on('close', (code) => ended(code === 0));
  });
}

type Check = [name: string, command: string, args: readonly string[]];

/** One after the other. */
async function inTurn(checks: readonly Check[]): Promise<Part[]> {
  const parts: Part[] = [];
  for (const [name, command, args] of checks) parts.push(await check(name, command, args));
  return parts;
}

function unit(): Part {
  console.log('\n— unit tests, and services against MariaDB');
  const report = path.resolve('var/jest.json');
  rmSync(report, { force: true });
  const { status } = spawnSync(bin('jest'), ['--json', `--outputFile=${report}`, '--forceExit'], {
    stdio: ['ignore', 'ignore', 'inherit'],
  });
  if (!existsSync(report)) return { name: 'jest', passed: 0, failed: 1 };
  const { numPassedTests, numFailedTests, numRuntimeErrorTestSuites } = JSON.parse(
    readFileSync(report, 'utf8'),
  ) as Record<string, number>;
  const failed = numFailedTests! + numRuntimeErrorTestSuites!;
  return { name: 'jest', passed: numPassedTests!, failed: failed === 0 && status !== 0 ? 1 : failed };
}

/** What the browser opens. */
function built(): Part {
  try {
    build();
    return { name: 'build', passed: 1, failed: 0 };
  } catch (error) {
    console.log((error as Error).message);
    return { name: 'build', passed: 0, failed: 1 };
  }
}

function browser(): Part {
  console.log('\n— the interface in the browser');
  const report = path.resolve('var/e2e/report.json');
  rmSync(report, { force: true });
  const { status } = spawnSync(bin('playwright'), ['test'], { stdio: 'inherit' });
  if (!existsSync(report)) return { name: 'browser', passed: 0, failed: 1 };
  const { stats } = JSON.parse(readFileSync(report, 'utf8')) as {
    stats: { expected: number; unexpected: number; flaky: number };
  };
  return {
    name: 'browser',
    passed: stats.expected + stats.flaky,
    failed: stats.unexpected === 0 && status !== 0 ? 1 : stats.unexpected,
  };
}

export async function test(): Promise<void> {
  mkdirSync('var', { recursive: true });
  const rooms = ['app', 'bench', 'cli', 'contract', 'core', 'demo', 'disk', 'server', 'setup'];
  const terms = '../shared/tools/check-terms.mjs';
  await buildThreads();
  const parts = [
    await check('route types', bin('react-router'), ['typegen']),
    // Two at a time, as long as they take.
    ...(
      await Promise.all([
        inTurn([
          ['types', bin('tsc'), []],
          ['formatting', bin('prettier'), ['--check', '--log-level', 'warn', '.']],
          ...(existsSync(terms) ? [['names of our own', process.execPath, [terms, '.']] as Check] : []),
        ]),
        inTurn([
          ['lint', bin('eslint'), ['.']],
          ['import directions', bin('depcruise'), ['--config', '.dependency-cruiser.cjs', ...rooms]],
        ]),
      ])
    ).flat(),
    unit(),
    built(),
    browser(),
  ];
  const sum = (of: (part: Part) => number) => parts.reduce((n, part) => n + of(part), 0);
  for (const part of parts) if (part.failed > 0) console.log(`failed: ${part.name}`);
  const failed = sum((part) => part.failed);
  console.log(`\n${sum((part) => part.passed)} passed, ${failed} failed`);
  process.exitCode = failed === 0 ? 0 : 1;
}
