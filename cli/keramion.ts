// The keramion command: the same services as the interface, for terminals and scripts. With --json every answer is
// one JSON value on standard output; troubles go to standard error with exit code 1.
import { Command } from 'commander';
import { forecastWords } from '#core/forecast/forecast.ts';
import { houseDay } from '#core/house-time.ts';
import type { VolumeId } from '#core/model.ts';
import { joinPath } from '#core/paths.ts';
import { ago, count, size } from '#core/wording/amounts.ts';
import { connect, type Database, disconnect } from '#server/db/connect.ts';
import type { Pools } from '#server/runtime/context.ts';
import { asOwnJob } from '#server/runtime/own-job.ts';
import { endPools, newPools } from '#server/worker.ts';
import { readVolumeWork, storesOfReading } from '#server/readings/reading-work.ts';
import { readDocuments } from '#server/readings/read-documents.ts';
import { readVolume, VolumeNotReadable } from '#server/readings/read-volume.ts';
import { Refused } from '#server/runtime/refused.ts';
import { forecasts } from '#server/readings/growth.ts';
import { allStrays } from '#server/projects/homes.ts';
import { projectRows } from '#server/projects/projects.ts';
import { followHouseTime } from '#server/site/site.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { search } from '#server/search/search.ts';
import { settings, workerSettings } from '#server/settings.ts';
import { addArchiveCommands } from './archive.ts';
import { addShelfCommands } from './shelf.ts';
import { addHandOverCommands } from './hand-over.ts';
import { addSnapshotCommands } from './snapshots.ts';
import { addNightlyCommands } from './nightly.ts';
import { addNightCommands } from './nights.ts';
import { addBackupCommands } from './backup.ts';
import { addCheckCommand } from './check.ts';
import { addReclaimCommands } from './reclaim.ts';
import { addReachCommands } from './reach.ts';
import { table } from './table.ts';
import { addWorkCommand } from './work.ts';

type Out = (text: string) => void;

const noop = () => undefined;

/** Builds the command; `out` takes what is printed. */
export function program(open: () => Database, out: Out = (text) => console.log(text)): Command {
  const command = new Command('keramion').description(
    "Where a facility's files live, what can go, what is on the shelf.",
  );
  // What cannot ask is one that works without a catalogue: it says itself what it lacks.
  command.hook('preAction', () => followHouseTime(open()).then(noop, noop));
  addVolumes(command, open, out);
  addProjects(command, open, out);
  addStrays(command, open, out);
  addForecast(command, open, out);
  addFind(command, open, out);
  addRead(command, open, out);
  addReachCommands(command, open, out);
  addReclaimCommands(command, open, out);
  addArchiveCommands(command, open, out);
  addShelfCommands(command, open, out);
  addHandOverCommands(command, open, out);
  addCheckCommand(command, open, out);
  addBackupCommands(command, open, out);
  addSnapshotCommands(command, open, out);
  addNightlyCommands(command, open, out);
  addNightCommands(command, open, out);
  addWorkCommand(command, open, out);
  return command;
}

function addVolumes(command: Command, open: () => Database, out: Out): void {
  command
    .command('volumes')
    .description('every volume: what it holds, how full it is, when it was read')
    .option('--json', 'as JSON')
    .action(async ({ json }: { json?: boolean }) => {
      const rows = await rackVolumes(open());
      if (json) return out(JSON.stringify(rows, null, 2));
      out(
        table([
          ['VOLUME', 'STATION', 'USED', 'OF', 'FILES', 'STATE', 'READ'],
          ...rows.map((v) => [
            v.name,
            v.station,
            size(v.usedBytes),
            size(v.capacityBytes),
            count(v.files),
            v.state,
            v.readMs === null ? 'never' : ago(v.readMs, Date.now()),
          ]),
        ]),
      );
    });
}

function addProjects(command: Command, open: () => Database, out: Out): void {
  command
    .command('projects')
    .description('every project: its state, its size, what of its media is found')
    .option('--json', 'as JSON')
    .action(async ({ json }: { json?: boolean }) => {
      const rows = await projectRows(open());
      if (json) return out(JSON.stringify(rows, null, 2));
      out(
        table([
          ['PROJECT', 'STATE', 'SIZE', 'FILES', 'MEDIA FOUND', 'UNUSED'],
          ...rows.map((p) => [
            p.name,
            p.state,
            size(p.bytes),
            count(p.files),
            `${p.media - p.missing} of ${p.media}`,
            size(p.unusedBytes),
          ]),
        ]),
      );
    });
}

function addStrays(command: Command, open: () => Database, out: Out): void {
  command
    .command('strays')
    .description('what lies outside the homes of its project')
    .option('--json', 'as JSON')
    .action(async ({ json }: { json?: boolean }) => {
      const [rows, volumes] = await Promise.all([allStrays(open()), rackVolumes(open())]);
      const named = rows.map((row) => ({
        ...row,
        volume: volumes.find((v) => v.volumeId === row.volumeId)?.name ?? '',
      }));
      if (json) return out(JSON.stringify(named, null, 2));
      if (named.length === 0) return out('Nothing has strayed, as far as homes are set.');
      out(
        table([
          ['PROJECT', 'KIND', 'ON', 'FILES', 'SIZE'],
          ...named.map((r) => [r.project, r.kind, r.volume, count(r.files), size(r.bytes)]),
        ]),
      );
    });
}

function addForecast(command: Command, open: () => Database, out: Out): void {
  command
    .command('forecast')
    .description('when each volume is full, from the samples of the last weeks')
    .option('--json', 'as JSON')
    .action(async ({ json }: { json?: boolean }) => {
      const volumes = await rackVolumes(open());
      const rows = (await forecasts(open(), volumes, houseDay(Date.now()))).map((row) => ({
        ...row,
        volume: volumes.find((v) => v.volumeId === row.volumeId)!.name,
      }));
      if (json)
        return out(
          JSON.stringify(
            rows.map(({ volume, forecast, samples }) => ({ volume, forecast, samples: samples.length })),
            null,
            2,
          ),
        );
      out(
        table([
          ['VOLUME', 'FORECAST', 'A DAY', 'SAMPLES'],
          ...rows.map((r) => [
            r.volume,
            forecastWords(r.forecast),
            'bytesPerDay' in r.forecast ? size(r.forecast.bytesPerDay) : '',
            count(r.samples.length),
          ]),
        ]),
      );
    });
}

function addFind(command: Command, open: () => Database, out: Out): void {
  command
    .command('find')
    .description('files, folders, clips, projects, volumes and carriers by parts of their names')
    .argument('<text>', 'parts of names, and filters: kind:cache project:ferry on:loft-1 over 2 GB older than 3 months')
    .option('--json', 'as JSON')
    .action(async (text: string, { json }: { json?: boolean }) => {
      const { hits, trouble } = await search(open(), text);
      if (trouble !== null) throw new Refused(`${trouble} Nothing was looked for.`);
      if (json) return out(JSON.stringify(hits, null, 2));
      out(
        hits.length === 0
          ? `Nothing is found for "${text}".`
          : table([
              ['WHAT', 'NAME', 'WHERE', 'SIZE'],
              ...hits.map((h) => [h.what, h.name, h.where, h.bytes === null ? '' : size(h.bytes)]),
            ]),
      );
    });
}

function addRead(command: Command, open: () => Database, out: Out): void {
  command
    .command('read')
    .description('reads one volume, or all, into the catalogue')
    .argument('[volume]', 'name of the volume')
    .option('--folder <folder>', 'only this folder of the volume and what lies below it')
    .option('--changed', 'tells every file that is new, changed or gone since it was last read')
    .option('--json', 'as JSON')
    .action(async (name: string | undefined, options: { json?: boolean; folder?: string; changed?: boolean }) => {
      const { json } = options;
      if (options.folder !== undefined && name === undefined)
        throw new Refused('A folder is read of one volume. Name the volume too. Nothing was read.');
      const results = await readVolumes(open(), name, options);
      if (json) return out(JSON.stringify(results, null, 2));
      for (const r of results)
        out(
          r.trouble ??
            `${r.volume}: ${count(r.looked!)} files looked at, ${count(r.added!)} new, ${count(r.changed!)} changed, ${count(r.gone!)} gone${r.notices ? `, ${count(r.notices)} to know` : ''}${r.broken?.length ? `, ${r.broken.length} documents could not be read` : ''}`,
        );
      for (const { changes } of results) if (changes?.length) out(table(changes.map(({ what, path }) => [what, path])));
      if (results.some((r) => r.trouble)) process.exitCode = 1;
    });
}

interface ReadRow {
  volume: string;
  trouble?: string;
  looked?: number;
  added?: number;
  changed?: number;
  gone?: number;
  notices?: number;
  broken?: { path: string; where: string; detail: string }[];
  /** With --changed: what became of each file, the first hundred thousand. */
  changes?: { path: string; what: string }[];
}

interface ReadOptions {
  folder?: string;
  changed?: boolean;
}

const MOST_CHANGES = 100_000;

async function readVolumes(db: Database, name: string | undefined, options: ReadOptions): Promise<ReadRow[]> {
  const all = await rackVolumes(db);
  const chosen = name === undefined ? all : all.filter((volume) => volume.name.toLowerCase() === name.toLowerCase());
  if (chosen.length === 0)
    throw new Refused(
      name === undefined
        ? 'No volume is registered, so nothing was read.'
        : `There is no volume named ${name}. Known are: ${all.map((v) => v.name).join(', ') || 'none'}. Nothing was read.`,
    );
  const pools = newPools();
  const rows: ReadRow[] = [];
  try {
    for (const volume of chosen) rows.push(await readOne(db, pools, volume, options));
  } finally {
    await endPools(pools);
  }
  return rows;
}

async function readOne(
  db: Database,
  pools: Pools,
  { volumeId, name: volume }: { volumeId: VolumeId; name: string },
  options: ReadOptions,
): Promise<ReadRow> {
  const changes: { path: string; what: string }[] = [];
  const { paths, leaseSeconds } = workerSettings();
  const path = paths[volume];
  const job = {
    kind: readVolumeWork.kind,
    title: `Read ${volume}`,
    params: { volumeId, ...(options.folder ? { folder: options.folder } : {}) },
    who: process.env.USER ?? 'the command line',
    stores: storesOfReading(volumeId),
  };
  try {
    return await asOwnJob(
      { db, pools, job, leaseSeconds, waitSeconds: 120, pathOf: () => path ?? null },
      async (context): Promise<ReadRow> => {
        const reading = await readVolume(context.db, pools.walk, volumeId, {
          stop: context.stop,
          now: context.now,
          path,
          folder: options.folder?.replace(/^\/+|\/+$/g, ''),
          onChange: options.changed
            ? ({ path: at, name, what }) => {
                if (changes.length < MOST_CHANGES) changes.push({ path: joinPath(at, name), what });
              }
            : undefined,
        });
        const { looked, added, changed, gone, notices } = reading;
        const now = context.now;
        const { broken } = await readDocuments(context.db, pools.documents, volumeId, { now, reading, path });
        return { volume, looked, added, changed, gone, notices, broken, ...(options.changed ? { changes } : {}) };
      },
    );
  } catch (error) {
    if (error instanceof VolumeNotReadable) return { volume, trouble: error.message };
    throw error;
  }
}

/** Runs the command line and closes what it opened. */
export async function main(argv: readonly string[]): Promise<void> {
  let db: Database | null = null;
  try {
    await program(() => (db ??= connect(settings().databaseUrl, 4))).parseAsync([...argv]);
  } catch (error) {
    console.error(error instanceof Refused ? error.message : `That did not work: ${(error as Error).message}`);
    process.exitCode = 1;
  } finally {
    if (db) await disconnect(db);
  }
}
