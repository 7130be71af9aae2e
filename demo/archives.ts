// What the demo house has archived and handed over: written, read back and released for real, by a worker of its own.
import { open } from 'node:fs/promises';
import path from 'node:path';
import { and, eq } from 'drizzle-orm';
import pino from 'pino';
import { USUAL_HAND_OVER, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import type { Database } from '#server/db/connect.ts';
import { askToReadBackAll } from '#server/archives/read-back.ts';
import { archives, copyParts } from '#server/db/schema/archives.ts';
import { projects } from '#server/db/schema/projects.ts';
import { carriers, volumes } from '#server/db/schema/stores.ts';
import { changeProject } from '#server/projects/register-project.ts';
import { setState } from '#server/projects/projects.ts';
import type { By } from '#server/stores/places.ts';
import { moveCarrier } from '#server/stores/carrier-register.ts';
import { addArchive } from '#server/steps/archive.ts';
import { addCopy } from '#server/steps/copy-archive.ts';
import { addHandOver } from '#server/steps/hand-over.ts';
import { addOriginalsRemoval } from '#server/steps/remove-originals.ts';
import { addRestore } from '#server/steps/restore.ts';
import { startWorker } from '#server/worker.ts';
import { ARCHIVED, CARRIERS, type DemoArchive, HANDED_OVER, LENT, LONG_AGO, ROTTEN, TAPES, WAITING } from './site.ts';

const DAY_MS = 86_400_000;

/** @param runStaged runs what is in the plan to its end */
export async function archiveAll(db: Database, by: By, runStaged: () => Promise<void>): Promise<void> {
  for (const one of ARCHIVED) await archiveSome(db, [one], { by, runStaged });
  await archiveSome(db, LONG_AGO, { by, runStaged });
  const [volume] = await db.select().from(volumes).where(eq(volumes.name, HANDED_OVER.volume));
  await addHandOver(db, {
    projectId: await projectNamed(db, HANDED_OVER.project),
    volumeId: volume!.id as VolumeId,
    ...{ folder: HANDED_OVER.folder, toWhom: HANDED_OVER.toWhom, now: by.now },
    scope: { ...USUAL_HAND_OVER, timelines: [HANDED_OVER.timeline] },
  });
  await runStaged();
  await lend(db, by, runStaged);
}

/** Since when carriers are used; and one with a further copy of an archive, which somebody took along. */
async function lend(db: Database, by: By, runStaged: () => Promise<void>): Promise<void> {
  const rows = await db.select().from(carriers);
  for (const { name, years } of [...CARRIERS, ...TAPES])
    await db
      .update(carriers)
      .set({ since: new Date(by.now.getTime() - (years * 365 + 40) * DAY_MS) })
      .where(eq(carriers.name, name));
  const carrierId = rows.find((row) => row.name === LENT.carrier)!.id as CarrierId;
  const [archive] = await db.select().from(archives).where(eq(archives.folder, LENT.archive));
  await addCopy(db, { archiveId: archive!.id as ArchiveId, carrierIds: [carrierId], now: by.now });
  await runStaged();
  const [carrier] = await db.select().from(carriers).where(eq(carriers.id, carrierId));
  const dueAt = new Date(Math.floor(by.now.getTime() / DAY_MS + LENT.days) * DAY_MS);
  await moveCarrier(db, carrierId, { place: carrier!.place, since: carrier!.since, lentTo: LENT.to, dueAt }, by);
}

/** One byte of a copy rots, and reading it back finds that. */
export async function rot(db: Database, root: string, by: By, ended: () => Promise<void>): Promise<void> {
  const file = await open(path.join(root, ROTTEN.file), 'r+');
  const middle = Math.floor((await file.stat()).size / 2);
  await file.write(Buffer.from([0x5a]), 0, 1, middle);
  await file.close();
  const [archive] = await db.select().from(archives).where(eq(archives.folder, ROTTEN.archive));
  await askToReadBackAll(db, archive!.id, { ...by, on: ROTTEN.carrier });
  await ended();
}

/** Somebody wants an archive back from the carrier that is not here. */
export async function askForLent(db: Database, by: By): Promise<void> {
  const [archive] = await db.select().from(archives).where(eq(archives.folder, WAITING.archive));
  const [carrier] = await db.select().from(carriers).where(eq(carriers.name, LENT.carrier));
  const [part] = await db.select().from(copyParts).where(eq(copyParts.carrierId, carrier!.id));
  const [volume] = await db.select().from(volumes).where(eq(volumes.name, WAITING.volume));
  await addRestore(db, {
    ...{ archiveId: archive!.id as ArchiveId, copyId: part!.copyId, volumeId: volume!.id as VolumeId },
    ...{ folder: WAITING.folder, now: by.now },
  });
}

/** Does work while `work` lasts. */
export async function withWorker(db: Database, work: () => Promise<void>): Promise<void> {
  const worker = startWorker(db, { name: 'demo', leaseSeconds: 30, pollMs: 50, log: pino({ level: 'error' }) });
  try {
    await work();
  } finally {
    await worker.stop();
  }
}

interface Doing {
  by: By;
  runStaged: () => Promise<void>;
}

/** Some at once: they are written beside each other. */
async function archiveSome(db: Database, some: readonly DemoArchive[], { by, runStaged }: Doing): Promise<void> {
  for (const one of some) await add(db, one, by);
  await runStaged();
  for (const one of some) {
    const archiveId = await sealed(db, await projectNamed(db, one.project), one.folder);
    if (one.since !== undefined) {
      const sealedAt = new Date(by.now.getTime() - (one.since - 20) * DAY_MS);
      await db.update(archives).set({ sealedAt }).where(eq(archives.id, archiveId));
    }
    if (one.released) await addOriginalsRemoval(db, archiveId, by.now);
  }
  if (some.some((one) => one.released)) await runStaged();
}

async function add(
  db: Database,
  { project, carriers: on, folder, scope, base, since, work }: DemoArchive,
  by: By,
): Promise<void> {
  const projectId = await projectNamed(db, project);
  const known = await db.select().from(carriers);
  if (work) {
    const { comments, ...facts } = work;
    await changeProject(db, projectId, { name: project, privateNotes: '', publicComments: comments, ...facts }, by);
  }
  if (since !== undefined)
    await setState(db, { projectId, state: 'delivered', since: new Date(by.now.getTime() - since * DAY_MS), ...by });
  await addArchive(db, {
    ...{ projectId, folder, now: by.now, scope: { ...USUAL_SCOPE, ...scope } },
    carrierIds: on.map((name) => known.find((carrier) => carrier.name === name)!.id as CarrierId),
    baseId: base === undefined ? null : await sealed(db, projectId, base),
  });
}

async function projectNamed(db: Database, name: string): Promise<ProjectId> {
  const [project] = await db.select().from(projects).where(eq(projects.name, name));
  if (!project) throw new Error(`The demo has no project ${name}.`);
  return project.id as ProjectId;
}

async function sealed(db: Database, projectId: ProjectId, folder: string): Promise<ArchiveId> {
  const [archive] = await db
    .select()
    .from(archives)
    .where(and(eq(archives.projectId, projectId), eq(archives.folder, folder)));
  if (archive?.state !== 'sealed') throw new Error(`The demo archive was not sealed: ${archive?.state ?? 'none'}.`);
  return archive.id as ArchiveId;
}
