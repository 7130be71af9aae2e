// What the site route asks of the services, and what it changes through them.
import type { Route } from './+types/site';
import { type CarrierId, KINDS } from '#core/model.ts';
import { decisions } from '#core/wording/decisions.ts';
import { siteSentence } from '#core/wording/lenses.ts';
import type { Forecast } from '#core/forecast/forecast.ts';
import { causesOfGrowth, forecasts } from '#server/readings/growth.ts';
import { allStrays, homesInTrouble } from '#server/projects/homes.ts';
import { ownerlessByVolume } from '#server/projects/ownership.ts';
import { projectRows } from '#server/projects/projects.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { jobRows } from '#server/site/work.ts';
import { archiveRows, damagedCopies } from '#server/archives/shelf.ts';
import { dueReadBacks } from '#server/archives/due-read-backs.ts';
import { shelfRule } from '#server/site/house-rules.ts';
import { carriersToTell } from '#server/stores/carrier-register.ts';
import { snapshotWorries } from '#server/snapshots/line.ts';
import { backupTrouble, lastOwnBackup, ownBackupRule } from '#server/backup/own-backup.ts';
import { lastCheck } from '#server/check/check.ts';
import { asideTotal } from '#server/reclaim/aside.ts';
import { compressedSounds } from '#server/reclaim/compressed.ts';
import { brokenDocuments } from '#server/projects/broken-documents.ts';
import { volumesAsked } from '../answer.server';
import { db } from '../db.server';

export async function loader({ request }: Route.LoaderArgs) {
  const all = await rackVolumes(db());
  const only = volumesAsked(request, all);
  const volumes = only.length > 0 ? all.filter((volume) => only.includes(volume.volumeId)) : all;
  const ids = volumes.map((volume) => volume.volumeId);
  const today = Math.floor(Date.now() / 86_400_000);
  const [projects, strays, growing, causes] = await Promise.all([
    projectRows(db(), only),
    allStrays(db()),
    forecasts(db(), volumes, today),
    causesOfGrowth(db(), ids),
  ]);
  const forecastOf = new Map(growing.map((g) => [g.volumeId, g.forecast]));
  const known = { all, volumes, projects, strays, forecastOf };
  const decisions = await decisionsOf(known);
  return {
    sentence: siteSentence({
      volumes: volumes.map((v) => ({
        name: v.name,
        usedBytes: v.usedBytes,
        capacityBytes: v.capacityBytes,
        reachable: v.state === 'reachable' || v.state === 'not looked at',
        forecast: forecastOf.get(v.volumeId),
      })),
      cacheBytes: volumes.reduce((sum, volume) => sum + bytesOf(volume, 'cache'), 0),
      read: volumes.some((volume) => volume.readMs !== null),
      decisions: decisions.length,
    }),
    decisions,
    byKind: KINDS.map((kind) => ({
      kind,
      bytes: volumes.reduce((sum, volume) => sum + bytesOf(volume, kind), 0),
    })).filter((row) => row.bytes > 0),
    causes: causes.slice(0, 3),
    today,
    filling: fillingFirst(volumes, growing),
    volumes: volumes.map((v) => ({ volumeId: v.volumeId, name: v.name })),
    projects: placesOf(projects, strays, only.length === 0),
  };
}

type Volumes = Awaited<ReturnType<typeof rackVolumes>>;
type Projects = Awaited<ReturnType<typeof projectRows>>;
type Strays = Awaited<ReturnType<typeof allStrays>>;
type Growing = Awaited<ReturnType<typeof forecasts>>;

const bytesOf = (volume: Volumes[number], kind: string) => volume.byKind.find((k) => k.kind === kind)?.bytes ?? 0;

interface Known {
  all: Volumes;
  volumes: Volumes;
  projects: Projects;
  strays: Strays;
  forecastOf: ReadonlyMap<number, Forecast>;
}

async function decisionsOf({ all, volumes, projects, strays, forecastOf }: Known) {
  const [broken, nobodys, homeless, copies, check, sounds, sealed, aside, carriers, due, jobs] = await Promise.all([
    brokenDocuments(db()),
    ownerlessByVolume(db()),
    homesInTrouble(db()),
    damagedCopies(db()),
    lastCheck(db()),
    compressedSounds(db()),
    archiveRows(db()),
    asideTotal(db(), volumes.length < all.length ? volumes.map((volume) => volume.volumeId) : []),
    carriersToTell(db(), (await shelfRule(db())).carrierYears, new Date()),
    dueReadBacks(db(), new Date()),
    jobRows(db(), 0),
  ]);
  const nameOf = (id: number) => all.find((volume) => volume.volumeId === id)?.name ?? '';
  return decisions({
    nowMs: Date.now(),
    volumes: volumes.map((v) => ({ ...v, forecast: forecastOf.get(v.volumeId) })),
    projects: projects.map((p) => ({ ...p, sinceMs: p.stateSince.getTime() })),
    brokenDocuments: broken,
    ownerless: nobodys
      .filter((row) => volumes.some((volume) => volume.volumeId === row.volumeId))
      .map((row) => ({ ...row, volume: nameOf(row.volumeId) })),
    homeTroubles: homeless,
    strays: strays.map((stray) => ({ ...stray, volume: nameOf(stray.volumeId) })),
    damagedCopies: copies,
    carriers,
    waiting: jobs.flatMap(({ title, waitsFor }) =>
      waitsFor.flatMap(({ store, id, name, where }) =>
        store === 'carrier' ? [{ title, carrierId: id as CarrierId, carrier: name, where }] : [],
      ),
    ),
    dueReadBacks: due.filter((copy) => !copy.isThere || copy.isCold),
    shortArchives: sealed.flatMap(({ archiveId, name, folder, short }) =>
      short === null ? [] : [{ archiveId, name, folder, short }],
    ),
    aside,
    snapshots: await snapshotWorries(db(), Date.now()),
    ownBackup: backupTrouble(await ownBackupRule(db()), await lastOwnBackup(db()), Date.now()),
    compressedSounds: sounds
      .filter((row) => volumes.some((volume) => volume.volumeId === row.volumeId))
      .map((row) => ({ ...row, volume: nameOf(row.volumeId) })),
    check:
      check && check.findings.length > 0 && !check.repaired
        ? { findings: check.findings.length, example: check.findings[0]!.detail, atMs: check.atMs }
        : null,
  });
}

/** The volumes that fill, the soonest first: three of them. */
function fillingFirst(volumes: Volumes, growing: Growing) {
  return growing
    .flatMap((g) => {
      const { name, capacityBytes } = volumes.find((v) => v.volumeId === g.volumeId)!;
      const holds = g.samples.at(-1)?.bytes ?? 0;
      const tells = g.samples.length > 0 && (g.forecast.says === 'fills' || holds > 0.1 * capacityBytes);
      return tells ? [{ ...g, name, capacityBytes }] : [];
    })
    .sort((a, b) => soonness(a.forecast) - soonness(b.forecast))
    .slice(0, 3);
}

/** Where each project lies, with what of it has strayed there. */
function placesOf(projects: Projects, strays: Strays, whole: boolean) {
  return projects
    .filter((p) => p.bytes > 0 || whole)
    .map((p) => ({
      projectId: p.projectId,
      name: p.name,
      state: p.state,
      bytes: p.bytes,
      onVolumes: p.onVolumes.map((on) => ({
        ...on,
        strayBytes: strays
          .filter((s) => s.projectId === p.projectId && s.volumeId === on.volumeId)
          .reduce((sum, s) => sum + s.bytes, 0),
      })),
    }));
}

/** For sorting: what fills first comes first, what does not fill last. */
function soonness(forecast: Forecast): number {
  if (forecast.says === 'full') return -1;
  return forecast.says === 'fills' ? forecast.days : Infinity;
}
