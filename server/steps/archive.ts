// An archive of a project on one or more carriers: what is written of it stays in the catalogue, and its copies are what
// originals may be released on.
import { eq, inArray, sql } from 'drizzle-orm';
import { copySets, type Holder, layOn, overheadOf } from '#core/archive/layout.ts';
import { type ArchiveScope, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, PlanId, ProjectId } from '#core/model.ts';
import type { Finding, StepSummary } from '#core/plan/plan.ts';
import { archiveProject as kind } from '#core/steps/archive.ts';
import { listed } from '#core/wording/amounts.ts';
import { earlierArchives, type Held, heldBy } from '../archives/base.ts';
import { checkBins } from '../archives/bins.ts';
import { Facts, stageBy } from '../archives/facts.ts';
import { checkTimelines } from '../archives/lengths.ts';
import { projectSelection, type ProjectSelection } from '../archives/selection.ts';
import { carrierRoom, type CarrierRow, carrierRows } from '../archives/shelf.ts';
import { placeOf, refusePacking } from '../carriers/kinds.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { archives, copyParts } from '../db/schema/archives.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { addStep, draft } from './adding.ts';
import { carriersAway, finding, readingFindings } from './findings.ts';
import { serverStep } from './kind.ts';
import type { Purpose } from './package-model.ts';
import { isPartOf } from './package-targets.ts';
import {
  heldBytes,
  ownScope,
  packageFindings,
  packageRows,
  refuseBundle,
  stageSelection,
  volumesOfItems,
} from './packages.ts';
import { giveUpPackage, writePackage } from './write-package.ts';

export interface NewArchive {
  projectId: ProjectId;
  carrierIds: readonly CarrierId[];
  folder: string;
  scope?: ArchiveScope;
  /** The earlier archive of the same project that it builds on. */
  baseId?: ArchiveId | null;
  /** One of those that are made night after night. */
  night?: boolean;
  now: Date;
}

type Params = ReturnType<typeof kind.params.parse>;

/** Adds an archive of a project: media its timelines use, and its documents, as the catalogue knows them now. */
export async function addArchive(db: Database, asked: NewArchive): Promise<{ files: number; bytes: number }> {
  const made = await preparedArchive(db, asked);
  const { params, names, chosen } = made;
  const { now } = asked;
  return inTransaction(db, async (tx) => {
    await refuseTwice(tx, { ...params, project: names.project, chosen, now });
    return (await stageArchive(tx, made, { now })).sums;
  });
}

export interface PreparedArchive {
  params: Params;
  names: { project: string; carriers: string[] };
  chosen: { id: number; name: string }[];
  selection: ProjectSelection;
  held: Held | undefined;
  /** What the catalogue said for it. */
  facts: Facts;
}

/** What an archive would be, looked through before anything is written down. */
export async function preparedArchive(
  db: Database,
  { projectId, carrierIds, folder, scope = USUAL_SCOPE, baseId = null, night = false }: Omit<NewArchive, 'now'>,
): Promise<PreparedArchive> {
  const ids = [...new Set(carrierIds)];
  if (ids.length === 0) throw new Refused('No carrier is chosen. Nothing was added.');
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  const chosen = await db.select().from(carriers).where(inArray(carriers.id, ids));
  if (!project || chosen.length !== ids.length)
    throw new Refused('The project or a carrier is not known. Nothing was added.');
  refusePacking(chosen, scope.pack);
  await checkTimelines(db, projectId, scope.timelines);
  await checkBins(db, projectId, scope.bins);
  const facts = new Facts();
  const selection = await projectSelection(db, projectId, scope, { facts });
  if (selection.chosen.length === 0)
    throw new Refused(`No timeline of ${project.name} uses media that is found. Nothing was added.`);
  refuseBundle(project.name, scope, selection);
  const held = await heldForThis(db, { projectId, baseId, night, selection });
  const sizes = sizesOf(selection, scope, held);
  const copies = copiesOn(
    sizes,
    (await carrierRows(db)).filter((row) => ids.includes(row.carrierId)),
    scope.pack,
  );
  const params: Params = { projectId, carrierIds: ids, folder, scope: ownScope(scope), copies, baseId, night };
  const names = { project: project.name, carriers: chosen.map((carrier) => carrier.name) };
  return { params, names, chosen, selection, held, facts };
}

/** Writes it down as a step of the draft, or of a plan that is said. */
export async function stageArchive(
  tx: Transaction,
  { params, names, selection, held, facts }: PreparedArchive,
  { now, planId }: { now: Date; planId?: PlanId },
): Promise<{ stepId: number; sums: { files: number; bytes: number } }> {
  stageBy(tx, params.projectId, facts);
  const stepId = await addStep(tx, { kind, params, names, now, planId });
  return { stepId, sums: await stageSelection(tx, stepId, { selection, held, now }) };
}

async function heldForThis(
  db: Db,
  {
    projectId,
    baseId,
    night,
    selection,
  }: Pick<Params, 'projectId' | 'baseId' | 'night'> & { selection: ProjectSelection },
): Promise<Held | undefined> {
  if (baseId === null) return undefined;
  const earlier = await earlierArchives(db, projectId, { nights: night });
  if (!earlier.some((one) => one.archiveId === baseId))
    throw new Refused(
      'The archive that it was to build on is no sealed archive of this project with a good copy. Nothing was added.',
    );
  const held = await heldBy(db, baseId, selection.chosen);
  if (held.size === 0)
    throw new Refused(
      'Nothing of it lies in the archive that it was to build on. Nothing was added; archive everything.',
    );
  return held;
}

/** Sizes of what is written, documents first and together, as they are laid on carriers. */
export function sizesOf(selection: ProjectSelection, { originals }: ArchiveScope, held: Held = new Map()): number[] {
  const documents = selection.chosen
    .filter((file) => file.isDocument)
    .reduce((sum, file) => sum + file.sizeBytes * (file.originalPath && originals ? 2 : 1), 0);
  const media = selection.chosen.filter((file) => !file.isDocument && !held.has(file.fileId));
  return [
    ...(documents > 0 ? [documents] : []),
    ...media.flatMap((file) => (file.parts.length > 0 ? file.parts.map((part) => part.bytes) : [file.sizeBytes])),
  ];
}

const holderOf = ({ carrierId, freeBytes }: CarrierRow): Holder => ({ carrierId, roomBytes: freeBytes });

/** The copies that these carriers make. One that is too small for any stands alone, and the plan says so. */
export function copiesOn(sizes: readonly number[], rows: readonly CarrierRow[], packer: string): Params['copies'] {
  const overhead = overheadOf(packer);
  const { sets, unused } = copySets(sizes, rows.map(holderOf), overhead);
  const laid = layOn(sizes, sets, overhead);
  const whole = sizes.reduce((sum, own) => sum + own, 0);
  return [
    ...(laid?.copies ?? []).map(({ carriers: on }) =>
      on.map(({ carrierId, parts }) => ({
        carrierId: carrierId as CarrierId,
        bytes: parts.reduce((sum, part) => sum + laid!.partBytes[part]!, 0),
      })),
    ),
    ...unused.map(({ carrierId }) => [{ carrierId: carrierId as CarrierId, bytes: whole }]),
  ];
}

async function refuseTwice(
  tx: Transaction,
  {
    projectId,
    carrierIds,
    project,
    chosen,
    now,
  }: Params & { project: string; chosen: readonly { id: number; name: string }[]; now: Date },
): Promise<void> {
  const planId = await draft(tx, now);
  for (const { what } of await tx.select({ what: steps.what }).from(steps).where(eq(steps.planId, planId))) {
    if (what.kind !== kind.kind) continue;
    const other = kind.params.parse(what);
    if (other.projectId === projectId && other.carrierIds.some((id) => carrierIds.includes(id)))
      throw new Refused(
        `An archive of ${project} on ${chosen.find((carrier) => other.carrierIds.includes(carrier.id as CarrierId))!.name} is in the plan already. Nothing was added.`,
      );
  }
}

/** The carriers of each copy; of steps from before there could be several, one each. */
const setsOf = ({ copies, carrierIds }: Params): CarrierId[][] =>
  copies.length > 0 ? copies.map((copy) => copy.map((one) => one.carrierId)) : carrierIds.map((id) => [id]);

/** An archive is kept by what is written down of it while it is made. */
const purposeOf = (params: Params): Purpose => ({
  ...{ kind, projectId: params.projectId, scope: params.scope, handedTo: null },
  async sets(context) {
    const { db } = context;
    const rows = await db.select().from(carriers).where(inArray(carriers.id, params.carrierIds));
    const candidates = new Map(
      rows.map((carrier) => [
        carrier.id,
        {
          carrierId: carrier.id as CarrierId,
          name: carrier.name,
          place: placeOf(carrier, context.carrierPath(carrier.id), params.scope.pack),
          room: (freeBytes: number) => carrierRoom(db, carrier.name, freeBytes),
        },
      ]),
    );
    return setsOf(params).map((set) => set.map((id) => candidates.get(id)!));
  },
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
      place: placeOf(carrier, context.carrierPath(carrier.id), params.scope.pack),
      room: (freeBytes) => carrierRoom(db, carrier.name, freeBytes),
    }));
  },
  concluded: async (_tx, _writing, facts) => facts,
});

/** Whether each copy's carriers hold it, and are free of its name. */
async function roomFindings(db: Db, step: StepSummary, params: Params): Promise<Finding[]> {
  const findings: Finding[] = [];
  const rows = new Map((await carrierRows(db)).map((row) => [row.carrierId, row]));
  const { folder } = params;
  for (const ids of setsOf(params)) {
    const set = ids.flatMap((id) => rows.get(id) ?? []);
    const freeBytes = set.reduce((sum, row) => sum + row.freeBytes, 0);
    const { partBytes, fileBytes } = overheadOf(params.scope.pack);
    const neededBytes = step.bytes + partBytes * set.length + fileBytes * step.files;
    const fits =
      set.length === 1
        ? freeBytes >= neededBytes
        : layOn(
            await stagedSizes(db, step.stepId, params.baseId),
            [set.map(holderOf)],
            overheadOf(params.scope.pack),
          ) !== null;
    if (!fits)
      findings.push(
        finding(step, 'carrier too small', 'stop', {
          ...{ carrier: listed(set.map((row) => row.name)), together: set.length > 1 ? 1 : null },
          ...{ neededBytes, freeBytes },
        }),
      );
    for (const row of set)
      if (row.layers.some((layer) => layer.folder === folder || isPartOf(layer.folder, folder)))
        findings.push(finding(step, 'same name', 'stop', { name: folder, where: row.name }));
  }
  return findings;
}

/** What is to be written, as large as it is known by now. */
async function stagedSizes(db: Db, stepId: number, baseId: number | null): Promise<number[]> {
  const [rows] = (await db.execute(sql`
    SELECT COALESCE(p.size_bytes, i.size_bytes) AS bytes FROM ${stepItems} i
    LEFT JOIN step_parts p ON p.step_id = i.step_id AND p.file_id = i.file_id AND p.why_whole IS NULL
    WHERE i.step_id = ${stepId} AND NOT EXISTS (SELECT 1 FROM archive_files a
      WHERE a.archive_id = ${baseId} AND a.file_id = i.file_id AND a.modified_us = i.modified_us AND a.role IN ('media', 'part', 'encoded'))
    ORDER BY i.id`)) as unknown as [{ bytes: number }[]];
  return rows.map((row) => Number(row.bytes));
}

/** What was archived of it before: to build on, or that cannot be built on any more. */
async function earlierFindings(
  db: Db,
  step: StepSummary,
  { projectId, baseId, night, selection }: Params & { selection: ProjectSelection },
): Promise<Finding[]> {
  const earlier = await earlierArchives(db, projectId, { nights: night });
  if (baseId !== null) {
    if (earlier.some((one) => one.archiveId === baseId)) return [];
    const [base] = await db.select().from(archives).where(eq(archives.id, baseId));
    return [finding(step, 'builds on what is not good', 'stop', { base: base?.folder ?? 'It' })];
  }
  const [latest] = earlier;
  if (!latest) return [];
  const held = await heldBy(db, latest.archiveId, selection.chosen);
  if (held.size === 0) return [];
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  return [
    finding(step, 'earlier archive', 'note', {
      ...{ project: project?.name ?? '', base: latest.folder, files: held.size },
      bytes: heldBytes(selection, held),
    }),
  ];
}

export const archiveProject = serverStep({
  kind,
  async findings(db, step, params) {
    const selection = await projectSelection(db, params.projectId, params.scope);
    return [
      ...(await readingFindings(db, step)),
      ...(await carriersAway(db, step, params.carrierIds)),
      ...(await roomFindings(db, step, params)),
      ...(await earlierFindings(db, step, { ...params, selection })),
      ...(await packageFindings(db, step, { ...params, selection })),
    ];
  },
  async stores(tx, step, { carrierIds }) {
    const sources = await volumesOfItems(tx, step.id);
    return [
      ...sources.map((id) => ({ store: 'volume' as const, id, mode: 'look' as const })),
      ...carrierIds.map((id) => ({ store: 'carrier' as const, id, mode: 'change' as const })),
    ];
  },
  async begin(tx, step, { projectId, folder, scope, baseId, night }) {
    const { archiveId } = await packageRows(tx, step, { projectId, folder, scope, baseId, night, purpose: 'archive' });
    return { archiveId };
  },
  run: (context, step, params) => writePackage(context, step, purposeOf(params)),
  giveUp: (context, step, params) => giveUpPackage(context, step, purposeOf(params)),
});
