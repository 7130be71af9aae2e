// The command that takes the catalogue of the shelf out of Keramion, for those who have to do without it.
import path from 'node:path';
import type { Command } from 'commander';
import { counted } from '#core/wording/amounts.ts';
import { exportCatalogue } from '#server/archives/export.ts';
import type { Database } from '#server/db/connect.ts';
import type { Out } from './shaping.ts';

export function addExportCommand(command: Command, open: () => Database, out: Out): void {
  command
    .command('export-catalogue')
    .description('writes what is on the shelf into a new folder: tables, and pages with a search that need no server')
    .argument('<folder>', 'a folder that is not there yet')
    .option('--json', 'as JSON')
    .action(async (folder: string, { json }: { json?: boolean }) => {
      const at = path.resolve(folder);
      const done = await exportCatalogue(open(), at, new Date());
      if (json) return out(JSON.stringify({ folder: at, ...done }, null, 2));
      out(
        `${counted(done.archives, 'archive')} with ${counted(done.files, 'file')} on ${counted(done.carriers, 'carrier')}, in ${at}. Open index.html there.`,
      );
    });
}
