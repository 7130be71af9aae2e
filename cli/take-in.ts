// Taking a folder of a carrier into the catalogue: by its path on this machine, or by the carrier's number and where it lies there.
import path from 'node:path';
import type { Command } from 'commander';
import type { CarrierId } from '#core/model.ts';
import { liesIn } from '#core/paths.ts';
import { listed } from '#core/wording/amounts.ts';
import { carrierRows } from '#server/archives/shelf.ts';
import { askToTakeIn } from '#server/archives/take-in.ts';
import type { Database } from '#server/db/connect.ts';
import { Refused } from '#server/runtime/refused.ts';
import { carrierPage, carrierPlaces } from '#server/stores/carrier-register.ts';
import { named } from './names.ts';
import type { Out } from './shaping.ts';

interface Asked {
  on?: string;
  name?: string;
  client?: string;
  year?: string;
  all?: boolean;
  json?: boolean;
}

export function addTakeInCommand(command: Command, open: () => Database, out: Out): void {
  command
    .command('take-in')
    .description(
      'takes what others made, a folder on a registered carrier, into the catalogue as an archive: every file is read, and compared with the checksums that came with it; nothing is written on the carrier',
    )
    .argument('[path]', 'the folder, tar or zip on this machine, or on the carrier that is named')
    .option('--all', 'everything on the carrier that is in no catalogue: brings back what a lost catalogue knew')
    .option('--on <carrier>', 'the carrier; left out, the one whose folder the path lies in')
    .option('--name <project>', 'what the project is called; left out, as the folder')
    .option('--client <client>', 'who it was for')
    .option('--year <year>', 'of the project')
    .option('--json', 'as JSON')
    .action((at: string | undefined, asked: Asked) => takeIn(open(), out, { at, ...asked }));
}

async function takeInAll(db: Database, out: Out, on: string | undefined, json = false): Promise<void> {
  if (on === undefined) throw new Refused('Name the carrier with --on. Nothing was begun.');
  const { carrierId, name } = named('carrier', await carrierRows(db), on);
  const strangers = (await carrierPage(db, carrierId))?.strangers ?? [];
  if (strangers.length === 0)
    throw new Refused(`Everything on ${name} that can be seen is in the catalogue. Nothing was begun.`);
  const by = { who: process.env.USER ?? 'the command line', now: new Date() };
  for (const folder of strangers) await askToTakeIn(db, { carrierId, folder, name: '', client: '', year: null }, by);
  out(
    json
      ? JSON.stringify({ carrier: name, folders: strangers }, null, 2)
      : `Taking in ${listed(strangers)} from ${name} begins as soon as a worker reaches it.`,
  );
}

async function takeIn(
  db: Database,
  out: Out,
  { at, all, on, name, client, year, json }: Asked & { at: string | undefined },
): Promise<void> {
  if (all) return takeInAll(db, out, on, json);
  if (at === undefined) throw new Refused('Say which folder, or --all with --on CARRIER. Nothing was begun.');
  if (year !== undefined && !/^\d{4}$/.test(year))
    throw new Refused(`“${year}” is no year. Give four digits. Nothing was begun.`);
  const { carrier, carrierId, folder } = on === undefined ? await placed(db, at) : await namedOn(db, on, at);
  const asked = { carrierId, folder, name: name ?? '', client: client ?? '', year: year ? Number(year) : null };
  await askToTakeIn(db, asked, { who: process.env.USER ?? 'the command line', now: new Date() });
  out(
    json
      ? JSON.stringify({ carrier, folder }, null, 2)
      : `Taking in ${folder} from ${carrier} begins as soon as a worker reaches it. Nothing is written on the carrier; what came of it is in the ledger.`,
  );
}

async function namedOn(db: Database, on: string, folder: string) {
  const { carrierId, name } = named('carrier', await carrierRows(db), on);
  return { carrier: name, carrierId, folder };
}

/** By the carrier that takes up the folder it lies in. */
async function placed(db: Database, at: string): Promise<{ carrier: string; carrierId: CarrierId; folder: string }> {
  const full = path.resolve(at);
  const found = (await carrierPlaces(db))
    .filter((one) => liesIn(full, one.folder) && full !== one.folder)
    .sort((a, b) => b.folder.length - a.folder.length)[0];
  if (!found)
    throw new Refused(
      `${at} lies on no registered carrier. Nothing was begun. Register the disk under Storage, or name the carrier with --on.`,
    );
  return { carrier: found.name, carrierId: found.carrierId, folder: full.slice(found.folder.length + 1) };
}
