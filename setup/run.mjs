// The one way in: `node setup/run.mjs demo | start | test | bench`. Plain JavaScript without packages, because on a fresh
// machine there are none yet: brings the machine up to what is needed, then goes on in TypeScript.
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';

const root = path.dirname(path.dirname(fileURLToPath(import.meta.url)));
process.chdir(root);

const give = (sentence) => {
  console.error(`\n${sentence}\n`);
  process.exit(1);
};

const [major, minor] = process.versions.node.split('.').map(Number);
if (major !== 20 || minor < 19)
  give(`Keramion runs on Node 20.19 or a later 20; this is ${process.versions.node}. Install Node 20 and start again.`);

const NEEDED = [
  { debian: 'mariadb-server', programs: ['mariadbd', 'mariadb-install-db'] },
  { debian: 'ffmpeg', programs: ['ffmpeg', 'ffprobe'] },
  { debian: 'e2fsprogs', programs: ['filefrag'] },
  { debian: 'chromium', programs: ['chromium'], only: ['test', 'demo'] },
  { debian: 'xxhash', programs: ['xxhsum'], only: ['test', 'bench'] },
  { debian: 'btrfs-progs', programs: ['mkfs.btrfs'], only: ['test'] },
  { debian: 'attr', programs: ['setfattr'], only: ['test'] },
  { debian: 'unzip', programs: ['unzip'], only: ['test'] },
  { debian: 'zip', programs: ['zip'], only: ['test'] },
  { debian: 'rdfind', programs: ['rdfind'], only: ['bench'] },
  { debian: 'rsync', programs: ['rsync'], only: ['bench'] },
  { debian: 'sox', programs: ['sox'], only: ['test'] },
  { debian: 'netpbm', programs: ['ppmrainbow', 'pnmtopng', 'pnmtotiff', 'pnmtojpeg'], only: ['test'] },
];
const FOLDERS = [...(process.env.PATH ?? '').split(path.delimiter), '/usr/sbin', '/usr/local/sbin', '/sbin'];
const isHere = (program) => FOLDERS.some((folder) => folder && existsSync(path.join(folder, program)));

function installPackages(command) {
  const missing = NEEDED.filter((p) => (!p.only || p.only.includes(command)) && !p.programs.every(isHere)).map(
    (p) => p.debian,
  );
  if (missing.length === 0) return;
  const list = missing.join(' ');
  if (!isHere('apt-get'))
    give(
      `These Debian packages are missing: ${list}. This machine has no apt-get; install them its own way and start again.`,
    );
  const asRoot = process.getuid() === 0 ? [] : isHere('sudo') ? ['sudo', '-n'] : null;
  if (!asRoot)
    give(
      `These Debian packages are missing: ${list}. Installing them needs root, and there is no sudo. Run 'apt-get install ${list}' as root and start again.`,
    );
  console.log(`Installing ${list} with apt …`);
  const apt = (...args) => {
    const [program, ...rest] = [...asRoot, 'env', 'DEBIAN_FRONTEND=noninteractive', 'apt-get', '-q', '-y', ...args];
    return spawnSync(program, rest, { encoding: 'utf8', maxBuffer: 1 << 26 });
  };
  apt('update');
  const result = apt('install', '--no-install-recommends', ...missing);
  if (result.status !== 0)
    give(
      `Installing ${list} did not work: ${(result.stderr || result.error?.message || '').trim().split('\n').slice(-2).join(' ')}\nRun 'apt-get install ${list}' as root and start again.`,
    );
}

function installModules() {
  const wanted = createHash('sha256').update(readFileSync('package-lock.json')).digest('hex');
  const stamp = 'node_modules/.keramion-lock';
  if (existsSync(stamp) && readFileSync(stamp, 'utf8') === wanted) return;
  console.log('Installing packages with npm ci …');
  const result = spawnSync('npm', ['ci', '--no-audit', '--no-fund'], { encoding: 'utf8', maxBuffer: 1 << 26 });
  if (result.status !== 0)
    give(
      `npm ci did not work: ${(result.stderr ?? '').trim().split('\n').slice(-4).join('\n')}\nCheck that the npm registry and this disk are in order, and start again.`,
    );
  writeFileSync(stamp, wanted);
}

const [command = '', ...args] = process.argv.slice(2);
if (!['demo', 'start', 'test', 'bench'].includes(command))
  give('usage: node setup/run.mjs demo [--fresh] | start | test | bench NAME');
mkdirSync('var', { recursive: true });
installPackages(command);
installModules();
const { register } = await import('tsx/esm/api');
register();
try {
  if (command === 'test') await (await import('./test.ts')).test();
  else if (command === 'bench') await (await import('./bench.ts')).bench(args);
  else await (await import('./start.ts')).main(command, args);
} catch (error) {
  if (error?.name === 'SetupError') give(error.message);
  throw error;
}
