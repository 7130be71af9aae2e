// Sweeps every call of every kind of work with every way in which it can go wrong, and prints the figures. Takes hours.
// usage: npm run bench -- faults [points of each scenario]
import { spawnSync } from 'node:child_process';
import path from 'node:path';

const points = process.argv[2] ?? 'all';
const jest = path.join('node_modules', '.bin', 'jest');
const args = ['--selectProjects', 'services', '--testPathPatterns', 'steps/faults', '--forceExit'];
process.exitCode = spawnSync(jest, args, { stdio: 'inherit', env: { ...process.env, FAULTS: points } }).status ?? 1;
