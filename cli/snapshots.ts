// Snapshots of a project's documents: what is kept, and one of them put beside its document.
import type { Command } from 'commander';
import { counted, exactTime, listed, size } from '#core/wording/amounts.ts';
import type { Database } from '#server/db/connect.ts';
import { Refused } from '#server/runtime/refused.ts';
import { linesOf } from '#server/snapshots/line.ts';
import { askToPutBeside } from '#server/snapshots/put-beside.ts';
import { projectNamed } from './names.ts';
import type { Out } from './shaping.ts';
import { table } from './table.ts';

export function addSnapshotCommands(command: Command, open: () => Database, out: Out): void {
  command
    .command('snapshots')
    .description('snapshots of a project’s documents, with what changed from one to the next')
    .argument('<project>', 'its name')
    .option('--put-beside <number>', 'puts this one beside its document as the next version; a worker does it')
    .option('--json', 'as JSON')
    .action((project: string, asked: { putBeside?: string; json?: boolean }) =>
      snapshots(open(), out, { project, ...asked }),
    );
}

interface Asked {
  project: string;
  putBeside?: string;
  json?: boolean;
}

async function snapshots(db: Database, out: Out, { project, putBeside, json }: Asked): Promise<void> {
  const { projectId, name } = await projectNamed(db, project);
  const lines = await linesOf(db, projectId);
  if (putBeside !== undefined) {
    const own = lines.flatMap((line) => line.snapshots).find((one) => String(one.snapshotId) === putBeside);
    if (!own) throw new Refused(`${name} has no snapshot ${putBeside}. Nothing was begun.`);
    const by = { who: process.env.USER ?? 'the command line', now: new Date() };
    const asked = await askToPutBeside(db, own.snapshotId, by);
    return out(`It is put beside ${asked.name} as its next version as soon as a worker reaches both volumes.`);
  }
  if (json) return out(JSON.stringify(lines, null, 2));
  if (lines.length === 0) return out(`No snapshot of ${name} was taken yet.`);
  for (const line of lines) {
    out(`${line.name}, ${line.volume} / ${line.path}: ${counted(line.snapshots.length, 'snapshot')}`);
    out(
      table([
        ['NUMBER', 'TAKEN', 'SIZE', 'SINCE THE ONE BEFORE'],
        ...line.snapshots.map(({ snapshotId, takenMs, bytes, since }) => [
          String(snapshotId),
          exactTime(takenMs),
          size(bytes),
          since === null ? 'the first' : since.length === 0 ? 'nothing told' : listed(since),
        ]),
      ]),
    );
    const [latest] = line.autosaves;
    if (latest)
      out(
        `Its program saved ${counted(line.autosaves.length, 'copy', 'copies')} by itself, the last ${exactTime(latest.modifiedMs)}: ${latest.volume} / ${latest.path}${latest.isBesideIt ? ', on the volume of the document' : ''}`,
      );
  }
}
