// What needs a decision on the site, from everything that is known of it. For the site's own page and the morning's.
import { houseDay } from '#core/house-time.ts';
import type { CarrierId } from '#core/model.ts';
import { HELD_WORDS } from '#core/plan/plan.ts';
import { type Decision, decisions } from '#core/wording/decisions.ts';
import type { Forecast } from '#core/forecast/forecast.ts';
import { forecasts } from '../readings/growth.ts';
import { allStrays, homesInTrouble } from '../projects/homes.ts';
import { ownerlessByVolume } from '../projects/ownership.ts';
import { projectRows } from '../projects/projects.ts';
import type { Database } from '../db/connect.ts';
import { postTrouble } from '../post/outbox.ts';
import { rackVolumes } from '../site/rack.ts';
import { jobRows } from '../site/work.ts';
import { archiveRows, damagedCopies } from '../archives/shelf.ts';
import { timeIsOver } from '../archives/keeping.ts';
import { dueReadBacks } from '../archives/due-read-backs.ts';
import { shelfRule } from '../site/house-rules.ts';
import { nightHours } from '../site/night-hours.ts';
import { carriersToTell } from '../stores/carrier-register.ts';
import { snapshotWorries } from '../snapshots/line.ts';
import { lateBefore } from '#core/nights/hours.ts';
import { backupTrouble, lastOwnBackup, ownBackupRule } from '../backup/own-backup.ts';
import { lastCheck } from '../check/check.ts';
import { asideTotal } from '../reclaim/aside.ts';
import { compressedSounds } from '../reclaim/compressed.ts';
import { brokenDocuments } from '../projects/broken-documents.ts';

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
  db: Database,
  {
    all,
    volumes,
    only,
    today,
  }: { all: Volumes; volumes: Volumes; only: Parameters<typeof projectRows>[1]; today: number },
): Promise<Known> {
  const [projects, strays, growing] = await Promise.all([
    projectRows(db, only),
    allStrays(db),
    forecasts(db, volumes, today),
  ]);
  return { all, volumes, projects, strays, growing, forecastOf: new Map(growing.map((g) => [g.volumeId, g.forecast])) };
}

/** What is asked for decisions alone: all at once. */
function askedFor(db: Database, { all, volumes }: Asked, now: Date) {
  return Promise.all([
    brokenDocuments(db),
    ownerlessByVolume(db),
    homesInTrouble(db),
    damagedCopies(db),
    lastCheck(db),
    compressedSounds(db),
    archiveRows(db),
    asideTotal(db, volumes.length < all.length ? volumes.map((volume) => volume.volumeId) : []),
    shelfRule(db).then((rule) => carriersToTell(db, rule.carrierYears, now)),
    dueReadBacks(db, now),
    jobRows(db, 0),
    timeIsOver(db, now),
    snapshotWorries(db, now.getTime()),
    postTrouble(db, now),
    Promise.all([ownBackupRule(db), lastOwnBackup(db), nightHours(db)]),
  ]);
}

interface Asked {
  all: Volumes;
  volumes: Volumes;
}

/** @param known what is asked for more than decisions; waited for while the rest is asked */
export async function decisionsOf(db: Database, asked: Asked, known: Promise<Known>): Promise<Decision[]> {
  const { all, volumes } = asked;
  const now = new Date();
  const [{ projects, strays, forecastOf }, rest] = await Promise.all([known, askedFor(db, asked, now)]);
  const [broken, nobodys, homeless, copies, check, sounds, sealed, aside, carriers, due, jobs, ...more] = rest;
  const [over, snapshots, post, [backupRule, backup, house]] = more;
  const nameOf = (id: number) => all.find((volume) => volume.volumeId === id)?.name ?? '';
  return decisions({
    nowMs: now.getTime(),
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
    asked: jobs.flatMap(({ jobId, title, question }) =>
      question ? [{ jobId, title, path: question.path, why: HELD_WORDS[question.reason] }] : [],
    ),
    dueReadBacks: due.filter((copy) => !copy.isThere || copy.isCold),
    shortArchives: sealed.flatMap(({ archiveId, name, folder, short }) =>
      short === null ? [] : [{ archiveId, name, folder, short }],
    ),
    aside,
    ...{ timeIsOver: over, snapshots, post },
    ownBackup: backupTrouble(backupRule, backup, lateBefore(house.own.backup ?? house.night, now)),
    compressedSounds: sounds
      .filter((row) => volumes.some((volume) => volume.volumeId === row.volumeId))
      .map((row) => ({ ...row, volume: nameOf(row.volumeId) })),
    check:
      check && check.findings.length > 0 && !check.repaired
        ? { findings: check.findings.length, example: check.findings[0]!.detail, atMs: check.atMs }
        : null,
  });
}

/** All decisions of the house, whoever put one off. */
export async function houseDecisions(db: Database, now: Date): Promise<Decision[]> {
  const all = await rackVolumes(db);
  const today = houseDay(now.getTime());
  const asked = { all, volumes: all };
  return decisionsOf(db, asked, knownOf(db, { ...asked, only: [], today }));
}
