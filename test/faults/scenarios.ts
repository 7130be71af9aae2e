// Work that must not lose a byte, whatever happens at whichever call: small sites with one plan each, and what must be true
// of them afterwards.
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, utimesSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { xxh64 } from '@node-rs/xxhash';
import { and, desc, eq, isNotNull, isNull, sql } from 'drizzle-orm';
import { snapshotRule } from '#core/snapshots/snapshots.ts';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, FolderId, PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { byLevel } from '#core/plan/plan.ts';
import { projectNight } from '#core/nights/project-nights.ts';
import { size } from '#core/wording/amounts.ts';
import { inTransaction } from '#server/db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyParts } from '#server/db/schema/archives.ts';
import { aside } from '#server/db/schema/aside.ts';
import { files, folders } from '#server/db/schema/catalogue.ts';
import { jobs } from '#server/db/schema/jobs.ts';
import { snapshots } from '#server/db/schema/snapshots.ts';
import { stepItems, steps } from '#server/db/schema/plans.ts';
import { receipts } from '#server/db/schema/receipts.ts';
import { carriers } from '#server/db/schema/stores.ts';
import { checkLedger } from '#server/check/check.ts';
import { checkSums } from '#server/check/sums.ts';
import { currentPlan, runAtOnce, runPlan } from '#server/plan/plan.ts';
import { askToPutBeside } from '#server/snapshots/put-beside.ts';
import { setSnapshotRule } from '#server/snapshots/rule.ts';
import { askForSnapshots } from '#server/snapshots/taking.ts';
import { setHome } from '#server/projects/homes.ts';
import { candidatesFor, missingMedia } from '#server/readings/missing.ts';
import { askToTakeIn } from '#server/archives/take-in.ts';
import { setProjectNight } from '#server/archives/project-nights.ts';
import { askToBackUp, lastOwnBackup, proofNames, setOwnBackupRule } from '#server/backup/own-backup.ts';
import { siteMark } from '#server/db/site-mark.ts';
import { archiveAtNight } from '#server/plan/night-projects.ts';
import { setNightHours } from '#server/site/night-hours.ts';
import { addArchive } from '#server/steps/archive.ts';
import { addCopy } from '#server/steps/copy-archive.ts';
import { addHandOver } from '#server/steps/hand-over.ts';
import { addGathering } from '#server/steps/gather.ts';
import { addKeepOther } from '#server/steps/keep-other.ts';
import { askToCompare } from '#server/reclaim/twins.ts';
import { addMoveHome, addParking } from '#server/steps/moving-items.ts';
import { addPutBack } from '#server/steps/put-back.ts';
import { addRelinking } from '#server/steps/relink.ts';
import { addCacheRemoval } from '#server/steps/remove-caches.ts';
import { addOriginalsRemoval } from '#server/steps/remove-originals.ts';
import { addRestore } from '#server/steps/restore.ts';
import { addAsideRemoval } from '#server/steps/remove-aside.ts';
import { addFolderRemovalIn } from '#server/steps/remove-folders.ts';
import { addSettingAside } from '#server/steps/set-aside.ts';
import { addTakingBack } from '#server/steps/take-back.ts';
import { otio, type TestSite, until } from '../site.ts';
import { wav } from '../wav.ts';

export interface Scenario {
  name: string;
  /** Makes the site, and adds and runs the plan; nothing works on it yet. */
  set(site: TestSite): Promise<void>;
}

const FOG = 1 as ProjectId;
const NOW = () => new Date();
const by = () => ({ who: 'Mara', now: NOW() });
const CLIPS = ['a', 'b', 'c'];

async function run(site: TestSite): Promise<void> {
  const plan = await currentPlan(site.db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: NOW() };
  // On a slow machine what was looked at by the worker before may count as not seen by now.
  await site.look();
  const outcome = await runPlan(site.db, { ...asked, typed: size(byLevel(plan.steps)[3]) });
  if (!outcome.ok) throw new Error(`The plan did not run: ${JSON.stringify(outcome.trouble)}`);
}

async function workOff(site: TestSite): Promise<void> {
  const worker = site.worker();
  await until(() => allEnded(site));
  await worker.stop();
}

export const allEnded = async (site: TestSite): Promise<boolean> =>
  (await site.db.select({ finishedAt: jobs.finishedAt }).from(jobs)).every((job) => job.finishedAt !== null);

/** A project with three clips and a document on one volume. */
async function fog(site: TestSite) {
  const media = await site.volume('media');
  for (const clip of CLIPS) site.put(`media/fog/rushes/${clip}.mov`, `${clip} `.repeat(40_000));
  site.put(
    'media/fog/fog.otio',
    otio(
      'Fog',
      CLIPS.map((clip) => `rushes/${clip}.mov`),
    ),
  );
  await site.read(media);
  return media;
}

async function archived(site: TestSite) {
  const media = await fog(site);
  const carrier = await site.carrier('kd-1');
  await addArchive(site.db, { projectId: FOG, carrierIds: [carrier], folder: 'fog_1', now: NOW() });
  await run(site);
  await workOff(site);
  return media;
}

async function strays(site: TestSite, on: 'media' | 'system') {
  const media = await site.volume('media');
  const system = await site.volume('system');
  const place = on === 'media' ? 'media/stray/fog' : 'system/Desktop/fog';
  const urls = CLIPS.map((clip) => `file://${site.put(`${place}/${clip}.mov`, `${clip} `.repeat(40_000))}`);
  site.put('media/fog/fog.otio', otio('Fog', urls));
  await site.read(media, system);
  await setHome(site.db, FOG, { kind: 'source', volumeId: media, folder: 'fog/camera' }, by());
  await addMoveHome(site.db, { projectId: FOG, kind: 'source', now: NOW() });
  await run(site);
}

/** The same with sounds, of which ranges can be cut. */
async function sounds(site: TestSite) {
  const media = await site.volume('media');
  const names = CLIPS.map((clip) => `rushes/${clip}.wav`);
  for (const [i, sound] of names.entries()) site.put(`media/fog/${sound}`, wav(20_000 + i * 1000, i + 1));
  site.put('media/fog/fog.otio', otio('Fog', names));
  await site.read(media);
  return media;
}

export const SCENARIOS: readonly Scenario[] = [
  {
    name: 'a purge',
    async set(site) {
      const volume = await site.volume('media');
      for (let i = 0; i < 5; i++) utimesSync(site.put(`media/peaks/${i}.frm`, `frame ${i}`), 1e9, 1e9);
      site.put('media/rushes/kept.mov');
      await site.read(volume);
      const all = await site.db.select({ id: folders.id }).from(folders);
      await addCacheRemoval(site.db, { folderIds: all.map((f) => f.id as FolderId), cutDay: 20_000, now: NOW() });
      await run(site);
    },
  },
  { name: 'a move on one volume', set: (site) => strays(site, 'media') },
  { name: 'a move across two volumes', set: (site) => strays(site, 'system') },
  {
    name: 'an archive to two carriers',
    async set(site) {
      await fog(site);
      const carrierIds = [await site.carrier('kd-1'), await site.carrier('kd-2')];
      await addArchive(site.db, { projectId: FOG, carrierIds, folder: 'fog_1', now: NOW() });
      await run(site);
    },
  },
  {
    name: 'an archive as one file to two carriers',
    async set(site) {
      await fog(site);
      const carrierIds = [await site.carrier('kd-1'), await site.carrier('kd-2')];
      const scope = { ...USUAL_SCOPE, pack: 'zip' as const };
      await addArchive(site.db, { projectId: FOG, carrierIds, folder: 'fog_1', scope, now: NOW() });
      await run(site);
    },
  },
  {
    name: 'an archive over two carriers',
    async set(site) {
      await fog(site);
      // What lists take of every part, and room for half of it.
      const room = 16_000_000 + 80_000 * Math.ceil(CLIPS.length / 2) + 20_000;
      const carrierIds = [await site.carrier('kd-1', room), await site.carrier('kd-2', room)];
      await addArchive(site.db, { projectId: FOG, carrierIds, folder: 'fog_1', now: NOW() });
      await run(site);
    },
  },
  {
    name: 'an archive that builds on an earlier one',
    async set(site) {
      await archived(site);
      site.put('media/fog/rushes/new.mov', 'new '.repeat(20_000));
      site.put(
        'media/fog/fog.otio',
        otio(
          'Fog',
          [...CLIPS, 'new'].map((clip) => `rushes/${clip}.mov`),
        ),
      );
      await site.read(1 as VolumeId);
      const on = { carrierIds: [await site.carrier('kd-2')], folder: 'fog_2', baseId: 1 as ArchiveId };
      await addArchive(site.db, { projectId: FOG, ...on, now: NOW() });
      await run(site);
    },
  },
  {
    name: 'another copy of an archive',
    async set(site) {
      await archived(site);
      await addCopy(site.db, { archiveId: 1 as ArchiveId, carrierIds: [await site.carrier('kd-2')], now: NOW() });
      await run(site);
    },
  },
  {
    name: 'a hand-over',
    async set(site) {
      await fog(site);
      const volumeId = await site.volume('system');
      const asked = { projectId: FOG, volumeId, folder: 'handed', toWhom: 'Ida', points: true };
      await addHandOver(site.db, { ...asked, now: NOW() });
      await run(site);
    },
  },
  {
    name: 'an archive of what is used of its media',
    async set(site) {
      await sounds(site);
      const carrierIds = [await site.carrier('kd-1'), await site.carrier('kd-2')];
      const handles = { value: 2, unit: 'frames' as const, gapSeconds: 0 };
      const scope = { ...USUAL_SCOPE, parts: [], handles };
      const { bytes } = await addArchive(site.db, { projectId: FOG, carrierIds, folder: 'fog_1', scope, now: NOW() });
      if (bytes > 60_000) throw new Error('The sounds were not cut.');
      await run(site);
    },
  },
  {
    name: 'an archive of media encoded anew',
    async set(site) {
      await sounds(site);
      const carrierIds = [await site.carrier('kd-1'), await site.carrier('kd-2')];
      const scope = { ...USUAL_SCOPE, parts: [], encode: { used: 'lossless' as const } };
      await addArchive(site.db, { projectId: FOG, carrierIds, folder: 'fog_1', scope, now: NOW() });
      await run(site);
    },
  },
  {
    name: 'a restore',
    async set(site) {
      const volumeId = await archived(site);
      const [copy] = await site.db.select().from(archiveCopies);
      await addRestore(site.db, { archiveId: 1 as ArchiveId, copyId: copy!.id, volumeId, folder: 'back', now: NOW() });
      await run(site);
    },
  },
  {
    name: 'a restoring of what a timeline uses',
    async set(site) {
      const volumeId = await sounds(site);
      const carrierIds = [await site.carrier('kd-1')];
      await addArchive(site.db, { projectId: FOG, carrierIds, folder: 'fog_1', now: NOW() });
      await run(site);
      await workOff(site);
      const only = { timelines: ['Cut'], bins: [], files: [] };
      const handles = { value: 2, unit: 'frames' as const, gapSeconds: 0 };
      const asked = { archiveId: 1 as ArchiveId, copyId: 1, volumeId, folder: 'back', only, handles, now: NOW() };
      const { bytes, readBytes } = await addRestore(site.db, asked);
      if (bytes > readBytes * 0.8) throw new Error('The sounds were not cut.');
      await run(site);
    },
  },
  {
    name: 'a putting back',
    async set(site) {
      const volumeId = await archived(site);
      // One is gone, one was changed since, one is there.
      rmSync(path.join(site.root, 'media/fog/rushes/a.mov'));
      site.put('media/fog/rushes/b.mov', 'b, changed since');
      await site.read(volumeId);
      const [copy] = await site.db.select().from(archiveCopies);
      await addPutBack(site.db, { archiveId: 1 as ArchiveId, copyId: copy!.id, now: NOW() });
      await run(site);
    },
  },
  {
    name: 'a relinking',
    async set(site) {
      const media = await site.volume('media');
      const gone = CLIPS.map((clip) => `file:///gone/${clip}.mov`);
      for (const clip of CLIPS) site.put(`media/found/${clip}.mov`, `${clip} `.repeat(4000));
      site.put('media/fog/fog.otio', otio('Fog', gone));
      await site.read(media);
      const missing = await missingMedia(site.db, { projectId: FOG });
      const found = await candidatesFor(site.db, missing);
      const choices = missing.map((item) => ({ mediaId: item.mediaId, fileId: found.get(item.mediaId)![0]!.fileId }));
      await addRelinking(site.db, { projectId: FOG, choices, now: NOW() });
      await run(site);
    },
  },
  {
    name: 'a setting aside',
    async set(site) {
      await asideOf(site);
      await run(site);
    },
  },
  {
    name: 'a taking back',
    async set(site) {
      const ids = await laidAside(site);
      await site.look();
      await runAtOnce(
        site.db,
        (tx, planId) => addTakingBack(tx, { ids, what: 'unused media of Fog', planId, now: NOW() }),
        by(),
      );
    },
  },
  {
    name: 'a removal of what lies aside',
    async set(site) {
      const ids = await laidAside(site);
      await addAsideRemoval(site.db, { ids, what: 'unused media of Fog', now: NOW() });
      await run(site);
    },
  },
  {
    name: 'a parking',
    async set(site) {
      const media = await site.volume('media');
      const system = await site.volume('system');
      const urls = CLIPS.map((clip) => `file://${site.put(`system/fog/${clip}.mov`, `${clip} `.repeat(40_000))}`);
      site.put('system/fog/fog.otio', otio('Fog', urls));
      await site.read(media, system);
      await addParking(site.db, { projectId: FOG, which: 'all', volumeId: media, now: NOW() });
      await run(site);
    },
  },
  {
    name: 'a gathering',
    async set(site) {
      const media = await site.volume('media');
      const system = await site.volume('system');
      const urls = CLIPS.map((clip) => `file://${site.put(`system/dune/${clip}.mov`, `${clip} `.repeat(40_000))}`);
      site.put('media/fog/fog.otio', otio('Fog', urls));
      site.put('system/dune/dune.otio', otio('Dune', urls));
      await site.read(media, system);
      await setHome(site.db, FOG, { kind: 'source', volumeId: media, folder: 'fog/camera' }, by());
      await addGathering(site.db, { projectId: FOG, now: NOW() });
      await run(site);
    },
  },
  {
    name: 'a removal of empty folders',
    async set(site) {
      const media = await site.volume('media');
      const old = ['media/a/b/c', 'media/a/b', 'media/a', 'media/d'].map((folder) => path.join(site.root, folder));
      for (const folder of old) mkdirSync(folder, { recursive: true });
      site.put('media/kept/clip.mov');
      await site.read(media);
      for (const folder of old) utimesSync(folder, 1e9, 1e9);
      const empty = await site.db.select({ id: folders.id }).from(folders).where(eq(folders.totalFiles, 0));
      const folderIds = empty.map((row) => row.id);
      await inTransaction(site.db, (tx) => addFolderRemovalIn(tx, { folderIds, now: NOW() }));
      await run(site);
    },
  },
  {
    name: 'a turning round of what is twice',
    async set(site) {
      const media = await site.volume('media');
      const system = await site.volume('system');
      for (const clip of CLIPS) {
        site.put(`media/fog/rushes/${clip}.mov`, `${clip} `.repeat(40_000));
        site.put(`system/copies/${clip}.mov`, `${clip} `.repeat(40_000));
      }
      site.put(
        'media/fog/fog.otio',
        otio(
          'Fog',
          CLIPS.map((clip) => `rushes/${clip}.mov`),
        ),
      );
      await site.read(media, system);
      await site.look();
      await askToCompare(site.db, by());
      await workOff(site);
      const all = await site.db.select().from(files);
      const on = (volumeId: number, clip: string) =>
        all.find((file) => file.volumeId === volumeId && file.name === `${clip}.mov`)!.id;
      const pairs = CLIPS.map((clip): [number, number] => [on(media, clip), on(system, clip)]);
      await addKeepOther(site.db, { pairs, now: NOW() });
      await run(site);
    },
  },
  {
    name: 'snapshots of documents',
    set: (site) => snapshotsAsked(site),
  },
  {
    name: 'a snapshot put beside',
    async set(site) {
      await snapshotsAsked(site);
      await workOff(site);
      const [row] = await site.db.select().from(snapshots);
      await askToPutBeside(site.db, row!.id, by());
    },
  },
  {
    name: 'a night of a project, with those that are thinned',
    set: nightsOf,
  },
  {
    name: 'a backup of the catalogue',
    async set(site) {
      await fog(site);
      const folder = path.join(site.root, 'backups');
      await setOwnBackupRule(site.db, { folder, newest: 1, days: 0, weeks: 0, months: 0 }, by());
      await askToBackUp(site.db, by());
      await workOff(site);
      await askToBackUp(site.db, { ...by(), prove: true });
    },
  },
  {
    name: 'a taking in of what others wrote',
    async set(site) {
      const carrierId = await site.carrier('old');
      const sums = CLIPS.map((clip) => {
        const text = `${clip} `.repeat(40_000);
        site.put(`old/Fog/rushes/${clip}.mov`, text);
        return `${createHash('md5').update(text).digest('hex')}  ${clip}.mov\n`;
      });
      site.put('old/Fog/rushes/rushes.md5', sums.join(''));
      site.put('old/Fog/fog.otio', otio('Fog', ['rushes/a.mov']));
      await askToTakeIn(site.db, { carrierId, folder: 'Fog', name: '', client: '', year: null }, by());
    },
  },
  {
    name: 'a removal of originals',
    async set(site) {
      await archived(site);
      await addOriginalsRemoval(site.db, 1 as ArchiveId, NOW());
      await run(site);
    },
  },
];

/** Two of three clips are used by nothing and were set aside. */
async function asideOf(site: TestSite) {
  const media = await site.volume('media');
  for (const clip of CLIPS) site.put(`media/fog/rushes/${clip}.mov`, `${clip} `.repeat(40_000));
  const urls = CLIPS.map((clip) => `rushes/${clip}.mov`);
  site.put('media/fog/fog.otio', otio('Fog', urls, urls.slice(0, 1)));
  await site.read(media);
  await addSettingAside(site.db, { params: UNUSED, chosen: sql`f.name LIKE '%.mov'`, now: NOW() });
  return media;
}
const UNUSED = { what: 'unused media of Fog', reason: 'no timeline uses it', level: 3 as const };

async function laidAside(site: TestSite) {
  await asideOf(site);
  await run(site);
  await workOff(site);
  return (await site.db.select().from(aside)).map((row) => row.id);
}

/** A document that changed, and another that was kept before it did; thinned to one. */
async function snapshotsAsked(site: TestSite): Promise<void> {
  const [media, system] = [await fog(site), await site.volume('system')];
  await setSnapshotRule(
    site.db,
    snapshotRule.parse({ volumeId: system, everyMinutes: 1, newest: 1, hours: 0, days: 0, weeks: 0, months: 0 }),
    by(),
  );
  const reached = new Map<number, string>([
    [media, path.join(site.root, 'media')],
    [system, path.join(site.root, 'system')],
  ]);
  const at = path.join(site.root, 'media/fog/fog.otio');
  const changed = async (seconds: number) => {
    utimesSync(at, seconds, seconds);
    await askForSnapshots(site.db, reached, { now: new Date(Date.now() + 120_000) });
  };
  await changed(1e9);
  await workOff(site);
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov']));
  await changed(1.1e9);
}

const DAY_MS = 86_400_000;

/** Three nights, the first two long ago, and one that is begun; the house has work done at any hour, and keeps ten days of nights. */
async function nightsOf(site: TestSite): Promise<void> {
  const [media, carrierId] = [await fog(site), await site.carrier('kd-1')];
  await setNightHours(site.db, { night: { from: 0, to: 0, days: [0, 1, 2, 3, 4, 5, 6] }, own: {} }, by());
  const rule = projectNight.parse({ carrierId, anewDays: 300, keepDays: 10 });
  await setProjectNight(site.db, { projectId: FOG, rule }, by());
  const clips = [...CLIPS];
  for (let night = 3; night >= 0; night--) {
    await site.look();
    const then = new Date(Date.now() - night * DAY_MS);
    if ((await archiveAtNight(site.db, then)) !== 1) throw new Error(`Night ${night} was not begun.`);
    if (night === 0) return;
    await workOff(site);
    const [last] = await site.db.select().from(archives).orderBy(desc(archives.id)).limit(1);
    if (last!.state !== 'sealed') throw new Error(`Night ${night} was not sealed.`);
    const sealedAt = new Date(Date.now() - (night === 1 ? 1 : 20 + night) * DAY_MS);
    await site.db.update(archives).set({ sealedAt }).where(eq(archives.id, last!.id));
    // In the last nights nothing of the first clips is held any more, so that the first night may go.
    clips.push(`n${night}`);
    for (const clip of clips) site.put(`media/fog/rushes/${clip}.mov`, `${clip} ${night} `.repeat(30_000));
    site.put(
      'media/fog/fog.otio',
      otio(
        'Fog',
        clips.map((clip) => `rushes/${clip}.mov`),
      ),
    );
    await site.read(media);
  }
}

const sumOf = (bytes: Buffer) => createHash('sha512').update(bytes).digest('hex');

/** Every file that people see, with the sum of its content. */
export function visible(site: TestSite): Map<string, string> {
  const all = new Map<string, string>();
  for (const top of ['media', 'system', 'kd-1', 'kd-2', 'old'])
    for (const at of filesBelow(path.join(site.root, top)))
      if (!at.split(path.sep).includes('.keramion') || at.startsWith(path.join('.keramion', 'aside')))
        all.set(path.join(top, at), sumOf(readFileSync(path.join(site.root, top, at))));
  return all;
}

const filesBelow = (folder: string): string[] =>
  existsSync(folder)
    ? readdirSync(folder, { recursive: true, withFileTypes: true })
        .filter((entry) => !entry.isDirectory())
        .map((entry) => path.relative(folder, path.join(entry.parentPath, entry.name)))
    : [];

export interface Figures {
  bytesLost: number;
  halfFiles: number;
  orphans: number;
  untrue: number;
  /** What was found, a line each. */
  lines: string[];
}

/** What must be true after the work and the next start of a worker, whatever happened in between. */
export async function judge(site: TestSite, before: ReadonlyMap<string, string>): Promise<Figures> {
  const figures: Figures = { bytesLost: 0, halfFiles: 0, orphans: 0, untrue: 0, lines: [] };
  const after = visible(site);
  const there = new Set(after.values());
  const items = await site.db.select().from(stepItems);
  const purged = new Set<string>();
  for (const step of await site.db.select().from(steps))
    if (step.what.kind === 'remove caches' || step.what.kind === 'remove aside')
      for (const item of items)
        if (item.stepId === step.id && item.state === 'done') purged.add(path.join('media', item.path));
  // What lies aside is kept, where the catalogue says that it does.
  const lying = new Set<string>();
  for (const row of await site.db.select().from(aside).where(eq(aside.state, 'aside'))) {
    const at = path.join(site.root, 'media', row.asidePath);
    lying.add(path.join('media', row.asidePath));
    if (existsSync(at)) there.add(sumOf(readFileSync(at)));
    else figures.lines.push(`lost: ${row.asidePath}`);
  }
  // What is not kept yet, or goes, is finished by the next snapshots; what is kept is there, as it was taken.
  for (const row of await site.db.select().from(snapshots)) {
    lying.add(path.join('system', row.path));
    const at = path.join(site.root, 'system', row.path);
    const isWhole = existsSync(at) && xxh64(readFileSync(at)).toString(16).padStart(16, '0') === row.xxh64;
    if (row.state === 'kept' && !isWhole) {
      figures.untrue++;
      figures.lines.push(`untrue: snapshot ${row.path} is said to be kept`);
    }
  }
  for (const [at, sum] of before)
    if (!there.has(sum) && !purged.has(at)) {
      figures.bytesLost++;
      figures.lines.push(`lost: ${at}`);
    }
  judgeHalves(site, { before, after, figures });
  for (const top of ['media', 'system', 'kd-1', 'kd-2'])
    for (const name of filesBelow(path.join(site.root, top, '.keramion')))
      if (name !== 'identity.json' && !lying.has(path.join(top, '.keramion', name))) {
        figures.orphans++;
        figures.lines.push(`orphan: ${top}/${name}`);
      }
  await judgeSayings(site, { after, items, figures });
  return figures;
}

/** A bag in one file, whole by the tools that anybody has. */
function isWholeZip(site: TestSite, at: string): boolean {
  if (!at.endsWith('.zip')) return false;
  const folder = mkdtempSync(path.join(os.tmpdir(), 'zip-'));
  try {
    execFileSync('unzip', ['-q', path.join(site.root, at), '-d', folder]);
    const bag = path.join(folder, path.basename(at, '.zip'));
    for (const list of ['tagmanifest-sha512.txt', 'manifest-sha512.txt'])
      execFileSync('sha512sum', ['--quiet', '--strict', '-c', list], { cwd: bag, stdio: 'ignore' });
    return true;
  } catch {
    return false;
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

/** Under a name that people see lies what was there before, or a whole document or list that was written. */
/** The very samples of a sound that the name of a part says. */
function isPart(site: TestSite, at: string): boolean {
  const [, name, from] = /([^/]+)_f(\d+)\.wav$/.exec(at) ?? [];
  if (name === undefined) return false;
  const source = readFileSync(path.join(site.root, 'media/fog/rushes', `${name}.wav`));
  const part = readFileSync(path.join(site.root, at));
  const begin = 44 + Number(from) * 2;
  return part.length > 44 && part.subarray(44).equals(source.subarray(begin, begin + part.length - 44));
}

/** A sound that was encoded anew decodes to the very samples of the one that its name says. */
function isEncoded(site: TestSite, at: string): boolean {
  const [, name] = /([^/]+\.wav)\.mka$/.exec(at) ?? [];
  if (name === undefined) return false;
  const samples = execFileSync('ffmpeg', ['-v', 'error', '-i', path.join(site.root, at), '-f', 's16le', '-']);
  return samples.equals(readFileSync(path.join(site.root, 'media/fog/rushes', name)).subarray(44));
}

function judgeHalves(
  site: TestSite,
  {
    before,
    after,
    figures,
  }: { before: ReadonlyMap<string, string>; after: ReadonlyMap<string, string>; figures: Figures },
): void {
  const known = new Set(before.values());
  const bags = new Set([...after.keys()].filter((at) => at.endsWith('tagmanifest-sha512.txt')).map(path.dirname));
  for (const [at, sum] of after) {
    const isWritten = /\.(otio|txt|json|html|mhl|xml)$/.test(at);
    const isInBag = /^kd-\d|^system\/handed\//.test(at) && !bags.has(at.split(path.sep).slice(0, 2).join(path.sep));
    const isOwn = known.has(sum) || isWritten || isPart(site, at) || isEncoded(site, at);
    if ((isOwn && !isInBag) || isWholeZip(site, at)) continue;
    figures.halfFiles++;
    figures.lines.push(`half: ${at}`);
  }
}

/** Items that are said to be done are, receipts sum them, and all sums are what they sum. */
async function judgeSayings(
  site: TestSite,
  {
    after,
    items,
    figures,
  }: { after: ReadonlyMap<string, string>; items: (typeof stepItems.$inferSelect)[]; figures: Figures },
): Promise<void> {
  const untrue = (line: string) => {
    figures.untrue++;
    figures.lines.push(`untrue: ${line}`);
  };
  const rows = await site.db.select().from(aside).where(eq(aside.state, 'aside'));
  const lyingOf = (itemId: number) => rows.some((row) => row.itemId === itemId);
  for (const receipt of await site.db.select().from(receipts)) {
    if (receipt.stepId === null) continue;
    const own = items.filter((item) => item.stepId === receipt.stepId);
    if (receipt.files !== own.filter((item) => item.state === 'done').length) untrue(`receipt ${receipt.title}`);
  }
  for (const step of await site.db.select().from(steps)) {
    const mine = await site.db.select().from(receipts).where(eq(receipts.stepId, step.id));
    if (mine.length !== 1) untrue(`${mine.length} receipts of ${step.title}`);
    for (const item of items.filter((one) => one.stepId === step.id && one.state === 'done')) {
      const from = path.join(item.volumeId === 1 ? 'media' : 'system', item.path);
      const isRemoval = /^remove|^move home|^park/.test(step.what.kind) || lyingOf(item.id);
      if (isRemoval && after.has(from)) untrue(`${from} is there and said to be gone`);
      if (item.targetPath && !after.has(path.join('media', item.targetPath))) untrue(`${item.targetPath} is not there`);
    }
  }
  for (const archive of await site.db.select().from(archives))
    if (archive.state === 'writing') untrue(`archive ${archive.name} is still being written`);
  for (const { part, folder, carrier } of await goodParts(site)) {
    const lies = ['', '.zip', '.tar'].some(
      (ending) =>
        after.has(`${carrier}/${folder}${ending}`) || after.has(`${carrier}/${folder}/tagmanifest-sha512.txt`),
    );
    if (!lies) untrue(`part ${part} is said to be good and is not on ${carrier}`);
  }
  await judgeTakenIn(site, untrue);
  await judgeChains(site, { after, untrue });
  await judgeBackups(site, figures);
  for (const { sum, detail } of await checkSums(site.db)) untrue(`${sum} ${detail}`);
  for (const finding of await checkLedger(site.db)) untrue(finding.detail);
}

const goodParts = (site: TestSite) =>
  site.db
    .select({ part: copyParts.id, folder: archiveParts.folder, carrier: carriers.name })
    .from(copyParts)
    .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    .where(and(eq(copyParts.state, 'good'), isNull(copyParts.packer)));

/** Every file of an archive that stands lies whole on a carrier, in its own folder or in that of a night before. */
async function judgeChains(
  site: TestSite,
  { after, untrue }: { after: ReadonlyMap<string, string>; untrue: (line: string) => void },
): Promise<void> {
  const [rows] = (await site.db.execute(sql`
    SELECT a.folder, f.payload_path AS at, f.sha512, GROUP_CONCAT(CONCAT(c.name, '/', p.folder, '/data/', f.payload_path) SEPARATOR '\n') AS places
    FROM archives a JOIN archive_files f ON f.archive_id = a.id JOIN archive_parts p ON p.id = f.part_id
    LEFT JOIN copy_parts k ON k.part_id = p.id AND k.state = 'good' LEFT JOIN carriers c ON c.id = k.carrier_id
    WHERE a.state = 'sealed' AND a.night GROUP BY f.id`)) as unknown as [
    { folder: string; at: string; sha512: string; places: string | null }[],
  ];
  for (const { folder, at, sha512, places } of rows)
    if (!(places ?? '').split('\n').some((place) => after.get(place) === sha512))
      untrue(`${at} of ${folder} lies nowhere as it was sealed`);
}

/** The newest backup is there, whole, and is what is told; no database that one was proven in is left. */
async function judgeBackups(site: TestSite, figures: Figures): Promise<void> {
  const folder = path.join(site.root, 'backups');
  if (!existsSync(folder)) return;
  const last = await lastOwnBackup(site.db);
  const isWhole = (at: string) =>
    existsSync(at) &&
    existsSync(`${at}.sha256`) &&
    readFileSync(`${at}.sha256`, 'utf8').startsWith(createHash('sha256').update(readFileSync(at)).digest('hex'));
  if (!last || last.wrong.length > 0 || !isWhole(last.file)) {
    figures.untrue++;
    figures.lines.push(`untrue: ${last?.file} is said to be the last backup: ${last?.wrong.join(', ')}`);
  }
  for (const name of readdirSync(folder).filter((one) => /^keramion_.*\.gz$/.test(one)))
    if (!isWhole(path.join(folder, name))) {
      figures.halfFiles++;
      figures.lines.push(`half: ${name}`);
    }
  const [rows] = (await site.db.execute(
    sql`SELECT schema_name AS name FROM information_schema.schemata`,
  )) as unknown as [{ name: string }[]];
  const mark = await siteMark(site.db);
  for (const { name } of rows.filter((row) => row.name.startsWith(proofNames(mark)))) {
    figures.orphans++;
    figures.lines.push(`orphan: database ${name}`);
  }
}

/** What was taken in is all there is, or the rest is told; and of what was not nothing is in the catalogue. */
async function judgeTakenIn(site: TestSite, untrue: (line: string) => void): Promise<void> {
  const told = (await site.db.select().from(receipts)).filter((receipt) => receipt.action === 'taken in');
  const rows = await site.db
    .select({ file: archiveFiles, folder: copyParts.folder })
    .from(archiveFiles)
    .innerJoin(copyParts, and(eq(copyParts.partId, archiveFiles.partId), isNotNull(copyParts.packer)));
  const parts = await site.db.select().from(copyParts).where(isNotNull(copyParts.packer));
  if (parts.length !== told.length || told.length > 1) untrue(`${parts.length} taken in, ${told.length} receipts`);
  for (const { file, folder } of rows)
    if (file.sha512 !== sumOf(readFileSync(path.join(site.root, 'old', folder!, file.payloadPath))))
      untrue(`${file.payloadPath} was not read as it is`);
  const there = filesBelow(path.join(site.root, 'old', 'Fog')).length;
  if (told[0] && rows.length + told[0].held !== there) untrue(`${rows.length} of ${there} taken in`);
  if (told[0] && told[0].files !== rows.length) untrue(`receipt ${told[0].title}`);
}
