// What is handed over to another editor or another house: a package on a volume, made and proven as an archive is. Its rows are
// the journal of its writing and go with the end of it; what stays is the receipt, and where it lies.
import { and, eq, inArray, isNull } from 'drizzle-orm';
import { type ArchiveScope, USUAL_HAND_OVER } from '#core/archive/selection.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { relativePath, utf8Length } from '#core/paths.ts';
import { handOver as kind } from '#core/steps/hand-over.ts';
import { checkBins } from '../archives/bins.ts';
import { checkTimelines } from '../archives/lengths.ts';
import { projectSelection } from '../archives/selection.ts';
import { disk } from '../carriers/disk/disk.ts';
import { packedName } from '../carriers/packers.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import {
  archiveCopies,
  archiveFiles,
  archiveParts,
  archives,
  copyFiles,
  copyParts,
  handedOver,
} from '../db/schema/archives.ts';
import { documents } from '../db/schema/documents.ts';
import { stepItems } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { volumeFree } from '../stores/volume-free.ts';
import { addStep } from './adding.ts';
import { finding, nameTaken, readingFindings, readOnly, tooFull, unreachable } from './findings.ts';
import { serverStep } from './kind.ts';
import { relinkedFacts, relinkedFinding } from './moving.ts';
import { ownScope, packageFindings, packageRows, refuseBundle, stageSelection, volumesOfItems } from './packages.ts';
import type { Purpose, Writing } from './package-model.ts';
import { pointAtCopy } from './point-at-copy.ts';
import { giveUpPackage, writePackage } from './write-package.ts';

export interface NewHandOver {
  projectId: ProjectId;
  volumeId: VolumeId;
  folder: string;
  toWhom: string;
  scope?: ArchiveScope;
  /** The project's documents get a new version that names what is handed over. */
  points?: boolean;
  now: Date;
}

/** Adds what somebody gets of a project, as the catalogue knows it now. */
export async function addHandOver(
  db: Database,
  { projectId, volumeId, folder, toWhom, scope: asked = USUAL_HAND_OVER, points = false, now }: NewHandOver,
): Promise<{ files: number; bytes: number }> {
  // The untouched document names all of the house.
  const scope = { ...asked, originals: false };
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
  if (!project || !volume) throw new Refused('The project or the volume is not known. Nothing was added.');
  if (toWhom.trim() === '') throw new Refused('It is not said who gets it. Nothing was added.');
  const checked = relativePath(folder);
  const lies = packedName(folder, scope.pack);
  if (!checked.ok || checked.path !== folder || folder.includes('/') || utf8Length(lies) > 250)
    throw new Refused(`"${folder}" is no name for a folder on ${volume.name}. Nothing was added.`);
  await checkTimelines(db, projectId, scope.timelines);
  await checkBins(db, projectId, scope.bins);
  const selection = await projectSelection(db, projectId, scope);
  if (selection.chosen.length === 0)
    throw new Refused(`Nothing that was chosen of ${project.name} is found. Nothing was added.`);
  refuseBundle(project.name, scope, selection);
  if (points && scope.pack !== 'folder')
    throw new Refused('A project can be pointed at a folder only, not into one file. Nothing was added.');
  const params = { projectId, volumeId, folder, toWhom, scope: ownScope(scope), points };
  const names = { project: project.name, volume: volume.name };
  return inTransaction(db, async (tx) => {
    const stepId = await addStep(tx, { kind, params, names, now });
    return stageSelection(tx, stepId, { selection, now });
  });
}

type Params = ReturnType<typeof kind.params.parse>;

/** Documents among what goes along that count. */
const writtenAnew = (db: Db, stepId: number) =>
  db
    .select({ id: documents.id, name: documents.name, volumeId: stepItems.volumeId })
    .from(stepItems)
    .innerJoin(documents, eq(documents.fileId, stepItems.fileId))
    .where(and(eq(stepItems.stepId, stepId), isNull(documents.supersededBy)));

const purposeOf = ({ projectId, volumeId, folder, toWhom, scope, points }: Params): Purpose => ({
  ...{ kind, projectId, scope, handedTo: toWhom, sets: null },
  ...(points ? { afterwards: async (writing) => relinkedFacts(await pointAtCopy(writing, { volumeId, folder })) } : {}),
  async destinations(context, part) {
    const { db } = context;
    const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
    const [copy] = await db.select().from(copyParts).where(eq(copyParts.partId, part.id));
    const { name } = volume!;
    // Where this worker does not find it, its own place says that it is not there.
    const settings = { folder: context.pathOf(volumeId) ?? volume!.path };
    const place = { name, module: disk.module, settings, identity: volume!.identity, packer: scope.pack };
    const room = async (freeBytes: number) => Math.min(freeBytes, await volumeFree(db, volumeId));
    return [{ copyPartId: copy!.id, copyId: copy!.copyId, name, place, room }];
  },
  async concluded(tx, writing, { archiveId: _archive, carriers: placedOn, ...facts }) {
    const [volume] = await tx.select().from(volumes).where(eq(volumes.id, volumeId));
    const written = await tx.select().from(archiveFiles).where(eq(archiveFiles.archiveId, writing.archive.id));
    if ((placedOn as string[]).length > 0)
      await tx.insert(handedOver).values({
        ...{ volumeId, projectId, toWhom, at: writing.context.now(), folder: packedName(folder, scope.pack) },
        files: new Set(written.map((file) => file.fileId)).size,
        bytes: written.reduce((sum, file) => sum + (file.payloadBytes ?? 0), 0),
      });
    await forget(tx, writing);
    return {
      ...facts,
      volume: volume?.name,
      toWhom,
      ...(scope.timelines.length > 0 ? { timelines: scope.timelines } : {}),
    };
  },
});

/** It is in no catalogue of archives, not even as one that is not there. */
async function forget(tx: Transaction, { archive, parts }: Writing): Promise<void> {
  const inIt = inArray(
    copyParts.partId,
    parts.map((part) => part.id),
  );
  for (const { id } of await tx.select({ id: copyParts.id }).from(copyParts).where(inIt))
    await tx.delete(copyFiles).where(eq(copyFiles.copyPartId, id));
  await tx.delete(copyParts).where(inIt);
  await tx.delete(archiveCopies).where(eq(archiveCopies.archiveId, archive.id));
  await tx.delete(archiveFiles).where(eq(archiveFiles.archiveId, archive.id));
  await tx.delete(archiveParts).where(eq(archiveParts.archiveId, archive.id));
  await tx.delete(archives).where(and(eq(archives.id, archive.id), eq(archives.purpose, 'hand over')));
}

export const handOver = serverStep({
  kind,
  async findings(db, step, { projectId, volumeId, folder, scope, points }) {
    const findings = [
      ...(await readingFindings(db, step)),
      ...(await unreachable(db, step, [volumeId])),
      ...(await readOnly(db, step, [volumeId])),
      ...(await tooFull(db, step, { volumeId, neededBytes: step.bytes })),
    ];
    const taken = await nameTaken(db, volumeId, packedName(folder, scope.pack));
    if (taken !== null)
      findings.push(finding(step, 'same name', 'stop', { name: packedName(folder, scope.pack), where: taken }));
    const selection = await projectSelection(db, projectId, scope);
    const asItIs = selection.chosen.filter((file) => file.isDocument && file.asItIs);
    if (asItIs.length > 0)
      findings.push(finding(step, 'goes as it is', 'note', { documents: asItIs.length, example: asItIs[0]!.name }));
    if (points) findings.push(...(await relinkedFinding(db, step, await writtenAnew(db, step.stepId))));
    return [...findings, ...(await packageFindings(db, step, { projectId, scope, selection }))];
  },
  async stores(tx, step, { volumeId, points }) {
    // Where a document gets a new version its volume is changed too.
    const changed = new Set([
      volumeId,
      ...(points ? (await writtenAnew(tx, step.id)).map((document) => document.volumeId) : []),
    ]);
    const sources = (await volumesOfItems(tx, step.id)).filter((id) => !changed.has(id));
    return [
      ...sources.map((id) => ({ store: 'volume' as const, id, mode: 'look' as const })),
      ...[...changed].map((id) => ({ store: 'volume' as const, id, mode: 'change' as const })),
    ];
  },
  async begin(tx, step, params) {
    const { archiveId, partId } = await packageRows(tx, step, { ...params, purpose: 'hand over', baseId: null });
    const [{ insertId: copyId }] = await tx.insert(archiveCopies).values({ archiveId, state: 'writing' });
    await tx.insert(copyParts).values({ copyId, partId, carrierId: null, state: 'writing' });
    return { archiveId };
  },
  run: (context, step, params) => writePackage(context, step, purposeOf(params)),
  giveUp: (context, step, params) => giveUpPackage(context, step, purposeOf(params)),
});
