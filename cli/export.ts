// The commands that take the catalogue of the shelf out of Keramion, for those who have to do without it, and that bring it back.
import path from 'node:path';
import type { Command } from 'commander';
import { counted } from '#core/wording/amounts.ts';
import { exportCatalogue } from '#server/archives/export.ts';
import { importCatalogue } from '#server/archives/import.ts';
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
  command
    .command('import-catalogue')
    .description('brings an export of the shelf into an empty catalogue: all of it, or nothing')
    .argument('<folder>', 'a folder that export-catalogue made')
    .option('--secret <carrier=key>', 'the secret key of a remote store, which no export holds', collected, [])
    .option('--json', 'as JSON')
    .action(async (folder: string, { secret, json }: { secret: string[]; json?: boolean }) => {
      const at = path.resolve(folder);
      const secrets = new Map(secret.map((text) => secretIn(text)));
      const who = process.env.USER ?? 'the command line';
      const done = await importCatalogue(open(), at, { who, now: new Date(), secrets });
      if (json) return out(JSON.stringify({ folder: at, ...done }, null, 2));
      out(
        `${counted(done.archives, 'archive')} with ${counted(done.files, 'file')} on ${counted(done.carriers, 'carrier')} are known again. Each carrier is known by its identity as soon as a worker reaches it; read back what matters most.`,
      );
    });
}

const collected = (text: string, before: string[]): string[] => [...before, text];

function secretIn(text: string): [string, string] {
  const at = text.indexOf('=');
  if (at < 1) throw new Error(`A secret is said as "Carrier=key". Nothing was changed.`);
  return [text.slice(0, at), text.slice(at + 1)];
}
