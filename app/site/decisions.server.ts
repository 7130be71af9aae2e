// What needs a decision on the site, from everything that is known of it. For the site's own page and the morning's.
import type { CarrierId } from '#core/model.ts';
import { decisions } from '#core/wording/decisions.ts';
import type { Forecast } from '#core/forecast/forecast.ts';
import { forecasts } from '#server/readings/growth.ts';
import { allStrays, homesInTrouble } from '#server/projects/homes.ts';
import { ownerlessByVolume } from '#server/projects/ownership.ts';
import { projectRows } from '#server/projects/projects.ts';
import type { rackVolumes } from '#server/site/rack.ts';
import { jobRows } from '#server/site/work.ts';
import { archiveRows, damagedCopies } from '#server/archives/shelf.ts';
import { timeIsOver } from '#server/archives/keeping.ts';
import { dueReadBacks } from '#server/archives/due-read-backs.ts';
import { shelfRule } from '#server/site/house-rules.ts';
import { carriersToTell } from '#server/stores/carrier-register.ts';
import { snapshotWorries } from '#server/snapshots/line.ts';
import { backupTrouble, lastOwnBackup, ownBackupRule } from '#server/backup/own-backup.ts';
import { lastCheck } from '#server/check/check.ts';
import { asideTotal } from '#server/reclaim/aside.ts';
import { compressedSounds } from '#server/reclaim/compressed.ts';
import { brokenDocuments } from '#server/projects/broken-documents.ts';
import { db } from '../db.server';

export type Volumes = Awaited<ReturnType<typeof rackVolumes>>;
export type Projects = Awaited<ReturnType<typeof projectRows>>;
export type Strays = Awaited<ReturnType<typeof allStrays>>;
export type Growing = Awaited<ReturnType<typeof forecasts>>;

export const bytesOf = (volume: Volumes[number], kind: string) =>
  volume.byKind.find((k) => k.kind === kind)?.bytes ?? 0;

export interface Known {
  all: Volumes;
  volumes: Volumes;
  projects: Projects;
  strays: Strays;
  growing: Growing;
  forecastOf: ReadonlyMap<number, Forecast>;
}

/** @param only the volumes that are asked for; all where it is empty */
export async function knownOf(
  all: Volumes,
  volumes: Volumes,
  only: Parameters<typeof projectRows>[1],
  today: number,
): Promise<Known> {
  const [projects, strays, growing] = await Promise.all([
    projectRows(db(), only),
    allStrays(db()),
    forecasts(db(), volumes, today),
  ]);
  return { all, volumes, projects, strays, growing, forecastOf: new Map(growing.map((g) => [g.volumeId, g.forecast])) };
}

export async function decisionsOf({ all, volumes, projects, strays, forecastOf }: Known) {
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
    timeIsOver: await timeIsOver(db(), new Date()),
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
