// The command that brings an archive back, or a timeline, a bin or single files of it.
import type { Command } from 'commander';
import { soonest } from '#core/archive/copies.ts';
import { handlesFrom } from '#core/archive/lengths.ts';
import { fetchWords } from '#core/archive/fetching.ts';
import type { ArchiveId } from '#core/model.ts';
import { counted, duration, size } from '#core/wording/amounts.ts';
import { contentRows } from '#server/archives/page.ts';
import { measuredRates } from '#server/archives/rates.ts';
import type { Database } from '#server/db/connect.ts';
import { Refused } from '#server/runtime/refused.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { addPutBack, type NewPutBack, putBackSum } from '#server/steps/put-back.ts';
import { addRestore, restoreWeight } from '#server/steps/restore.ts';
import { named, sealedNamed } from './names.ts';
import type { Out } from './shaping.ts';

export function addRestoreCommand(command: Command, open: () => Database, out: Out): void {
  const several = (one: string, all: string[]) => [...all, one];
  command
    .command('restore')
    .description('adds bringing an archive back to the plan: all of it, or what is named of it')
    .argument('<archive>', 'its folder on the carriers')
    .option('--to <volume>', 'the volume that it comes to')
    .option('--back', 'each file where it was, instead; what is there and the same is left')
    .option('--folder <name>', 'the new folder there')
    .option('--timeline <name>', 'only what it uses; several times for several', several, [])
    .option('--bin <name>', 'only what lies in it and below; of a bin in a bin both names with / between', several, [])
    .option('--file <part>', 'only files that have this in their names; several times for several', several, [])
    .option(
      '--handles <length>',
      'of media the ranges alone that --timeline uses, with so much on either side: 1s, 24f',
      '',
    )
    .option('--station <name>', 'documents get the paths that it has to the volume; else those of this server')
    .option('--dry-run', 'only says what would come back')
    .option('--json', 'as JSON')
    .action((folder: string, asked: RestoreOptions) => restore(open(), out, { name: folder, ...asked }));
}

interface RestoreOptions {
  to?: string;
  back?: boolean;
  folder?: string;
  timeline: string[];
  bin: string[];
  file: string[];
  handles: string;
  station?: string;
  dryRun?: boolean;
  json?: boolean;
}

async function restore(db: Database, out: Out, asked: RestoreOptions & { name: string }): Promise<void> {
  const one = await sealedNamed(db, asked.name);
  const archiveId = one.archiveId as ArchiveId;
  if ((asked.to === undefined) === (asked.back !== true))
    throw new Refused('Say either --to and a volume, or --back for where it was. Nothing was added.');
  const good = soonest(one.copies);
  if (!good) throw new Refused(`No copy of ${one.folder} is good, so nothing was added.`);
  const files: number[] = [];
  for (const part of asked.file) {
    const { rows } = await contentRows(db, archiveId, { word: part, after: 0 });
    if (rows.length === 0)
      throw new Refused(`Nothing in ${one.folder} has “${part}” in its name or former place. Nothing was added.`);
    files.push(...rows.map((row) => row.id));
  }
  const { timeline: timelines, bin: bins } = asked;
  const isWhole = timelines.length + bins.length + files.length === 0;
  const only = isWhole ? null : { timelines, bins, files: [...new Set(files)] };
  const handles = handlesFrom(asked.handles, '');
  if (handles === undefined)
    throw new Refused(
      `Handles are seconds or frames, for example 1s or 24f, not "${asked.handles}". Nothing was added.`,
    );
  if (asked.to === undefined && (handles !== null || asked.station !== undefined))
    throw new Refused(
      '--handles and --station go with --to: what goes back where it was is whole, and its documents stay. Nothing was added.',
    );
  if (asked.to === undefined) return back(db, out, { archiveId, copyId: good.copyId, only, ...asked });
  const volume = named('volume', await rackVolumes(db), asked.to);
  const folder = asked.folder ?? one.folder.replace(/_\d{4}-\d\d-\d\d$/, ' restored');
  const { station = null } = asked;
  const wanted = { archiveId, copyId: good.copyId, volumeId: volume.volumeId, folder, only, handles, station };
  const weight = await restoreWeight(db, wanted);
  const seconds = Math.round(good.waitSeconds + weight.readBytes / (await measuredRates(db)).readBack);
  const cost = (weight.readBytes / 1e9) * good.costPerGb;
  const added = asked.dryRun ? null : await addRestore(db, { ...wanted, now: new Date() });
  if (asked.json)
    return out(
      JSON.stringify(
        { archive: one.folder, volume: volume.name, folder, only, ...weight, seconds, cost, added },
        null,
        2,
      ),
    );
  out(
    `${size(weight.bytes)} in ${counted(weight.files, 'file')} to ${volume.name}, ${folder}; about ${duration(seconds)}${fetchWords({ thawSeconds: 0, cost })}.`,
  );
  out(added ? 'Added to the plan. Nothing is written before the plan is run.' : 'Nothing was added to the plan.');
}

async function back(
  db: Database,
  out: Out,
  { dryRun, json, ...asked }: Omit<NewPutBack, 'now'> & Pick<RestoreOptions, 'dryRun' | 'json'>,
): Promise<void> {
  const { archiveId, copyId, only } = asked;
  const sum = await putBackSum(db, asked);
  const added = dryRun ? null : await addPutBack(db, { archiveId, copyId, only, now: new Date() });
  if (json) return out(JSON.stringify({ ...sum, added }, null, 2));
  for (const one of sum.volumes) out(`${one.volume}: ${counted(one.files, 'file')}, ${size(one.bytes)}`);
  if (sum.there.files > 0) out(`There already: ${counted(sum.there.files, 'file')}, ${size(sum.there.bytes)}`);
  const left = sum.without.cut + sum.without.noPlace;
  if (left > 0) out(`Cannot go back where they were: ${counted(left, 'file')}. Restore them to a folder of their own.`);
  out(added ? 'Added to the plan. Nothing is written before the plan is run.' : 'Nothing was added to the plan.');
}
