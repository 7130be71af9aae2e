// keramion check: everything that Keramion says, worked out anew and compared. Exit code 1 where something differs.
import type { Command } from 'commander';
import { counted } from '#core/wording/amounts.ts';
import { askToCheck, lastCheck } from '#server/check/check.ts';
import type { Database } from '#server/db/connect.ts';
import { awaitJob } from '#server/runtime/await-job.ts';
import { table } from './table.ts';

const WAITS_SECONDS = 24 * 3600;

export function addCheckCommand(command: Command, open: () => Database, out: (text: string) => void): void {
  command
    .command('check')
    .description('sums, ledger, private folders and disks against what the catalogue says; a worker does it')
    .option('--repair', 'puts sums right that are wrong')
    .option('--whole', 'looks at every file on the disks, not only at some')
    .option('--json', 'as JSON')
    .action(async ({ json, repair, whole }: { json?: boolean; repair?: boolean; whole?: boolean }) => {
      const db = open();
      const who = process.env.USER ?? 'the command line';
      await awaitJob(db, await askToCheck(db, { who, now: new Date(), repair, whole }), WAITS_SECONDS);
      const result = (await lastCheck(db))!;
      if (result.findings.length > 0) process.exitCode = 1;
      if (json) return out(JSON.stringify(result, null, 2));
      if (result.findings.length === 0)
        return out(`Everything is as it is said. ${counted(result.looked, 'file')} looked at on the disks.`);
      out(table([['IN', 'WHAT DIFFERS'], ...result.findings.map((finding) => [finding.in, finding.detail])]));
      out(result.repaired ? 'The sums were put right.' : 'With --repair the sums are put right.');
    });
}
