// Keramion's own backup: one now, and one brought back into an empty database.
import path from 'node:path';
import type { Command } from 'commander';
import { counted, size } from '#core/wording/amounts.ts';
import { askToBackUp, lastOwnBackup, restoreCatalogue } from '#server/backup/own-backup.ts';
import type { Database } from '#server/db/connect.ts';
import { awaitJob } from '#server/runtime/await-job.ts';
import type { Out } from './shaping.ts';

const WAITS_SECONDS = 24 * 3600;

export function addBackupCommands(command: Command, open: () => Database, out: Out): void {
  command
    .command('backup')
    .description('backs the catalogue, the ledger and the settings up, reads it back and proves it; a worker does it')
    .option('--to <folder>', 'another folder than the one in Settings')
    .option('--json', 'as JSON')
    .action(async ({ to, json }: { to?: string; json?: boolean }) => {
      const db = open();
      const who = process.env.USER ?? 'the command line';
      await awaitJob(
        db,
        await askToBackUp(db, { who, now: new Date(), folder: to && path.resolve(to), prove: true }),
        WAITS_SECONDS,
      );
      const last = (await lastOwnBackup(db))!;
      if (last.wrong.length > 0) process.exitCode = 1;
      if (json) return out(JSON.stringify(last, null, 2));
      out(`${last.file}, ${size(last.bytes)}; ${counted(last.kept, 'backup')} there.`);
      out(
        last.wrong.length === 0
          ? 'It was read into a database of its own and checked: everything is as it is said.'
          : `It was read into a database of its own, and ${counted(last.wrong.length, 'thing')} did not fit, for example ${last.wrong[0]}.`,
      );
    });
  command
    .command('restore-catalogue')
    .description('reads a backup into the database in KERAMION_DATABASE, which must be empty, and checks it')
    .argument('<file>', 'the backup')
    .option('--json', 'as JSON')
    .action(async (file: string, { json }: { json?: boolean }) => {
      const { wrong } = await restoreCatalogue(open(), file);
      if (wrong.length > 0) process.exitCode = 1;
      if (json) return out(JSON.stringify({ file, wrong }, null, 2));
      out(
        wrong.length === 0
          ? 'The catalogue is back, and everything in it is as it is said. Start Keramion with this database.'
          : `The catalogue is back, and ${counted(wrong.length, 'thing')} in it ${wrong.length === 1 ? 'does' : 'do'} not fit, for example ${wrong[0]}. keramion check --repair puts sums right.`,
      );
    });
}
