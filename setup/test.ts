// Every check and test, one after the other; the last line says how many passed and failed. A part that cannot even
// run counts as one that failed.
import { spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';

interface Part {
  name: string;
  passed: number;
  failed: number;
}

const bin = (name: string) => path.join('node_modules', '.bin', name);

/** A check counts as one: it passes or it does not. */
function check(name: string, command: string, args: readonly string[]): Part {
  console.log(`\n— ${name}`);
  const { status } = spawnSync(command, args, { stdio: 'inherit', env: process.env });
  return { name, passed: status === 0 ? 1 : 0, failed: status === 0 ? 0 : 1 };
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
  const parts = [
    check('formatting', bin('prettier'), ['--check', '--log-level', 'warn', '.']),
    check('route types', bin('react-router'), ['typegen']),
    check('types', bin('tsc'), []),
    check('lint', bin('eslint'), ['.']),
    check('import directions', bin('depcruise'), [
      '--config',
      '.dependency-cruiser.cjs',
      'app',
      'bench',
      'cli',
      'contract',
      'core',
      'demo',
      'disk',
      'server',
      'setup',
    ]),
  ];
  if (existsSync('../shared/tools/check-terms.mjs'))
    parts.push(check('names of our own', process.execPath, ['../shared/tools/check-terms.mjs', '.']));
  parts.push(unit(), check('build', bin('react-router'), ['build']), browser());
  const sum = (of: (part: Part) => number) => parts.reduce((n, part) => n + of(part), 0);
  for (const part of parts) if (part.failed > 0) console.log(`failed: ${part.name}`);
  const failed = sum((part) => part.failed);
  console.log(`\n${sum((part) => part.passed)} passed, ${failed} failed`);
  process.exitCode = failed === 0 ? 0 : 1;
}
