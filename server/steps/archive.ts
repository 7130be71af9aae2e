// An archive of a project on one or more carriers: what is written of it stays in the catalogue, and its copies are what
// originals may be released on.
import { eq, inArray } from 'drizzle-orm';
import { type ArchiveScope, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { CarrierId, ProjectId } from '#core/model.ts';
import { archiveProject as kind } from '#core/steps/archive.ts';
import { checkBins } from '../archives/bins.ts';
import { checkTimelines } from '../archives/lengths.ts';
import { projectSelection } from '../archives/selection.ts';
import { carrierRoom, carrierRows } from '../archives/shelf.ts';
import { placeOf } from '../carriers/kinds.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { copyParts } from '../db/schema/archives.ts';
import { steps } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { addStep, draft } from './adding.ts';
import { carriersAway, finding, readingFindings } from './findings.ts';
import { serverStep } from './kind.ts';
import { copyRow, ownScope, packageFindings, packageRows, stageSelection, volumesOfItems } from './packages.ts';
import { giveUpPackage, type Purpose, writePackage } from './write-package.ts';

export interface NewArchive {
  projectId: ProjectId;
  carrierIds: readonly CarrierId[];
  folder: string;
  scope?: ArchiveScope;
  now: Date;
}

/** Adds an archive of a project: media its timelines use, and its documents, as the catalogue knows them now. */
export async function addArchive(
  db: Database,
  { projectId, carrierIds, folder, scope = USUAL_SCOPE, now }: NewArchive,
): Promise<{ files: number; bytes: number }> {
  const ids = [...new Set(carrierIds)];
  if (ids.length === 0) throw new Refused('No carrier is chosen. Nothing was added.');
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const chosen = await db.select().from(carriers).where(inArray(carriers.id, ids));
  if (!project || chosen.length !== ids.length)
    throw new Refused('The project or a carrier is not known. Nothing was added.');
  await checkTimelines(db, projectId, scope.timelines);
  await checkBins(db, projectId, scope.bins);
  const selection = await projectSelection(db, projectId, scope);
  if (selection.chosen.length === 0)
    throw new Refused(`No timeline of ${project.name} uses media that is found. Nothing was added.`);
  const params = {
    projectId,
    carrierIds: ids,
    folder,
    scope: ownScope(scope),
  };
  const names = { project: project.name, carriers: chosen.map((carrier) => carrier.name) };
  return inTransaction(db, async (tx) => {
    const planId = await draft(tx, now);
    for (const { what } of await tx.select({ what: steps.what }).from(steps).where(eq(steps.planId, planId))) {
      if (what.kind !== kind.kind) continue;
      const other = kind.params.parse(what);
      if (other.projectId === projectId && other.carrierIds.some((id) => ids.includes(id)))
        throw new Refused(
          `An archive of ${project.name} on ${chosen.find((carrier) => other.carrierIds.includes(carrier.id as CarrierId))!.name} is in the plan already. Nothing was added.`,
        );
    }
    const stepId = await addStep(tx, { kind, params, names, now });
    return stageSelection(tx, stepId, { selection, now });
  });
}

async function writeRows(
  tx: Transaction,
  step: typeof steps.$inferSelect,
  { carrierIds, ...of }: Omit<NewArchive, 'now'> & { scope: ArchiveScope },
): Promise<{ archiveId: number }> {
  const { archiveId, partId } = await packageRows(tx, step, { ...of, purpose: 'archive' });
  for (const carrierId of carrierIds) await copyRow(tx, { archiveId, partId, carrierId });
  return { archiveId };
}

/** An archive is kept by what is written down of it while it is made. */
const purposeOf = ({ projectId, scope }: { projectId: ProjectId; scope: ArchiveScope }): Purpose => ({
  ...{ kind, projectId, scope, handedTo: null },
  async destinations(context, part) {
    const { db } = context;
    const rows = await db
      .select({ part: copyParts, carrier: carriers })
      .from(copyParts)
      .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
      .where(eq(copyParts.partId, part.id))
      .orderBy(copyParts.id);
    return rows.map(({ part: row, carrier }) => ({
      copyPartId: row.id,
      copyId: row.copyId,
      name: carrier.name,
      place: placeOf(carrier, context.carrierPath(carrier.id), scope.pack),
      room: (freeBytes) => carrierRoom(db, carrier.name, freeBytes),
    }));
  },
  concluded: async (_tx, _writing, facts) => facts,
});

export const archiveProject = serverStep({
  kind,
  async findings(db, step, { projectId, carrierIds, folder, scope }) {
    const findings = [...(await readingFindings(db, step)), ...(await carriersAway(db, step, carrierIds))];
    const rows = (await carrierRows(db)).filter((row) => carrierIds.includes(row.carrierId));
    for (const row of rows) {
      const { freeBytes } = row;
      if (freeBytes < step.bytes)
        findings.push(
          finding(step, 'carrier too small', 'stop', { carrier: row.name, neededBytes: step.bytes, freeBytes }),
        );
      if (row.layers.some((layer) => layer.folder === folder))
        findings.push(finding(step, 'same name', 'stop', { name: folder, where: row.name }));
    }
    findings.push(...(await packageFindings(db, step, { projectId, scope })));
    return findings;
  },
  async stores(tx, step, { carrierIds }) {
    const sources = await volumesOfItems(tx, step.id);
    return [
      ...sources.map((id) => ({ store: 'volume' as const, id, mode: 'look' as const })),
      ...carrierIds.map((id) => ({ store: 'carrier' as const, id, mode: 'change' as const })),
    ];
  },
  begin: writeRows,
  run: (context, step, params) => writePackage(context, step, purposeOf(params)),
  giveUp: (context, step, params) => giveUpPackage(context, step, purposeOf(params)),
});
