// Loaded into a real worker before anything else: makes the n-th call of one system operation on the site's disks kill the
// process, stop it for longer than its lease, or fail. Also writes down which calls there are, so that all can be swept.
//   FAULT=operation:n:kill | operation:n:stop:seconds | operation:n:fail:CODE      FAULT_LOG=file
const fs = require('node:fs');
const { spawn } = require('node:child_process');
const { syncBuiltinESMExports } = require('node:module');

const [operation, count, what, argument] = (process.env.FAULT ?? '').split(':');
const log = process.env.FAULT_LOG ? fs.openSync(process.env.FAULT_LOG, 'a') : null;
const original = { writeSync: fs.writeSync };
const OPERATIONS = [
  'openSync',
  'linkSync',
  'renameSync',
  'unlinkSync',
  'mkdirSync',
  'rmSync',
  'fsyncSync',
  'ftruncateSync',
  'utimesSync',
  'writeSync',
  'readdirSync',
];
const PROMISED = ['open', 'rm', 'readdir', 'unlink'];
let calls = 0;

/** Paths of the site alone: the process opens many others. Open files have numbers. */
const isOurs = (args) =>
  args.some((arg) => {
    const text = typeof arg === 'string' ? arg : Buffer.isBuffer(arg) ? arg.toString('latin1') : '';
    return text.includes('/proc/self/fd/') || (process.env.FAULT_ROOT && text.startsWith(process.env.FAULT_ROOT));
  }) || typeof args[0] === 'number';

function met(name, args) {
  if (!isOurs(args) || args[0] === log || args[0] === 1 || args[0] === 2) return null;
  if (log !== null) original.writeSync.call(fs, log, `${name}\n`);
  if (name !== operation || ++calls !== Number(count)) return null;
  if (what === 'kill') process.kill(process.pid, 'SIGKILL');
  if (what === 'stop') {
    spawn('sh', ['-c', `sleep ${argument}; kill -CONT ${process.pid}`], { detached: true, stdio: 'ignore' }).unref();
    process.kill(process.pid, 'SIGSTOP');
  }
  return what === 'fail'
    ? Object.assign(new Error(`${argument}: made to fail`), { code: argument, syscall: name })
    : null;
}

for (const name of OPERATIONS) {
  const plain = fs[name];
  fs[name] = function (...args) {
    const error = met(name, args);
    if (error) throw error;
    return plain.apply(this, args);
  };
}
for (const name of PROMISED) {
  const plain = fs.promises[name];
  fs.promises[name] = async function (...args) {
    const error = met(`promises.${name}`, args);
    if (error) throw error;
    return plain.apply(this, args);
  };
}
syncBuiltinESMExports();
