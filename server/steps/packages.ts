// What steps that write a package have in common before they run: their items, the package as it will be, and what stands
// against it.
import { eq, sql } from 'drizzle-orm';
import { KEPT_NAMES } from '#core/archive/names.ts';
import { type ArchiveScope, bundledIn } from '#core/archive/selection.ts';
import type { ProjectId } from '#core/model.ts';
import { fontsWithout } from '#core/documents/needs.ts';
import { nameOf } from '#core/paths.ts';
import type { Finding, StepSummary } from '#core/plan/plan.ts';
import { listed } from '#core/wording/amounts.ts';
import type { Held } from '../archives/base.ts';
import { needsOfDocuments } from '../archives/needs.ts';
import { placedFiles, type ProjectSelection } from '../archives/selection.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { insertMany } from '../db/insert-many.ts';
import { archiveFiles, archiveParts, archives } from '../db/schema/archives.ts';
import { stepItems, steps } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { Refused } from '../runtime/refused.ts';
import { stagedParts, stageParts, unweighed } from './archive-parts.ts';
import { finding } from './findings.ts';

/** A scope as a step keeps it. */
export const ownScope = ({ parts, timelines, bins, files, ...scope }: ArchiveScope) => ({
  ...scope,
  ...{ parts: [...parts], timelines: [...timelines], bins: [...bins], files: [...files] },
});

/** What was selected becomes the step's items. */
export async function stageSelection(
  tx: Transaction,
  stepId: number,
  { selection, held, now }: { selection: ProjectSelection; held?: Held; now: Date },
): Promise<{ files: number; bytes: number }> {
  await insertMany(
    tx,
    stepItems,
    selection.chosen.map(({ volumeId, fileId, path, sizeBytes, modifiedUs, identity }) => ({
      stepId,
      volumeId,
      fileId,
      path,
      sizeBytes,
      modifiedUs,
      rawPath: identity.rawPath,
      device: identity.device,
      inode: identity.inode,
      changedUs: identity.changedUs,
    })),
  );
  await stageParts(tx, stepId, { chosen: selection.chosen, held: held ?? new Map(), now });
  // What an earlier archive holds is looked at as well, and not written.
  const sum = { files: selection.chosen.length, bytes: selection.chosenBytes - heldBytes(selection, held) };
  await tx.update(steps).set(sum).where(eq(steps.id, stepId));
  return sum;
}

/** What of a selection an earlier archive holds. */
export const heldBytes = ({ chosen }: ProjectSelection, held: Held | undefined): number =>
  chosen.reduce((sum, file) => sum + (held?.has(file.fileId) ? file.keptBytes : 0), 0);

interface NewPackage {
  projectId: ProjectId;
  folder: string;
  scope: ArchiveScope;
  purpose: 'archive' | 'hand over';
  /** The earlier archive it builds on. */
  baseId: number | null;
  night?: boolean;
}

/** A bundle is of a document that can be written anew. */
export function refuseBundle(project: string, scope: ArchiveScope, { chosen }: ProjectSelection): void {
  if (scope.layout === 'bundle' && !bundledIn(chosen))
    throw new Refused(
      `${project} has no OpenTimelineIO document in what was chosen, which a bundle is made of. Nothing was added; choose another way for media to lie.`,
    );
}

/** The package as it will be: what is written down of it is the journal of its writing. */
export async function packageRows(
  tx: Transaction,
  step: typeof steps.$inferSelect,
  { projectId, folder, scope, purpose, baseId, night = false }: NewPackage,
): Promise<{ archiveId: number; partId: number }> {
  const [project] = await tx.select().from(projects).where(eq(projects.id, projectId));
  const all = await placedFiles(tx, { projectId, scope, baseId }, step.id, await stagedParts(tx, step.id));
  // Who gets it does not get what was not chosen: the untouched document names all of it.
  const placed = scope.originals ? all : all.filter((file) => file.role !== 'original document');
  // Parts are weighed before anything is written; until then it is told about.
  const sums = sumOf(placed);
  const [{ insertId: archiveId }] = await tx.insert(archives).values({
    ...{ projectId, name: night ? `${project!.name}, at night` : project!.name, folder, purpose, baseId, night },
    ...{ state: 'writing', packer: scope.pack, ...sums },
  });
  const own = sumOf(placed.filter((file) => file.partId === undefined));
  const [{ insertId: partId }] = await tx.insert(archiveParts).values({ archiveId, ord: 1, folder, ...own });
  await insertMany(
    tx,
    archiveFiles,
    placed.map((file) => ({ partId, ...file, archiveId })),
  );
  return { archiveId, partId };
}

const sumOf = (files: readonly { sizeBytes: number }[]) => ({
  files: files.length,
  bytes: files.reduce((sum, file) => sum + file.sizeBytes, 0),
});

export async function volumesOfItems(tx: Db, stepId: number): Promise<number[]> {
  const rows = await tx.selectDistinct({ id: stepItems.volumeId }).from(stepItems).where(eq(stepItems.stepId, stepId));
  return rows.map(({ id }) => id);
}

/** What is to be known of any package before it is written. */
async function needsFindings(db: Db, step: StepSummary, { chosen }: ProjectSelection): Promise<Finding[]> {
  const needs = await needsOfDocuments(
    db,
    chosen.filter((file) => file.isDocument).map((file) => file.fileId),
  );
  const fonts = fontsWithout(
    needs.fonts,
    chosen.map((file) => file.name),
  );
  return [
    ...(fonts.length > 0
      ? [finding(step, 'fonts not in it', 'note', { fonts: fonts.length, names: listed(fonts.slice(0, 5)) })]
      : []),
    ...(needs.plugins.length > 0
      ? [
          finding(step, 'plug-ins named', 'note', {
            plugins: needs.plugins.length,
            names: listed(needs.plugins.slice(0, 5)),
          }),
        ]
      : []),
  ];
}

/** What is encoded anew, as large as it is known by now. */
async function encodedFindings(db: Db, step: StepSummary): Promise<Finding[]> {
  const [[row]] = (await db.execute(sql`
    SELECT COUNT(*) AS files, COALESCE(SUM(p.encoding = 'viewing'), 0) AS viewing, COALESCE(SUM(p.size_bytes), 0) AS bytes, COALESCE(SUM(i.size_bytes), 0) AS ofBytes
    FROM step_parts p JOIN step_items i ON i.step_id = p.step_id AND i.file_id = p.file_id
    WHERE p.step_id = ${step.stepId} AND p.encoding IS NOT NULL AND p.why_whole IS NULL`)) as unknown as [
    Record<'files' | 'viewing' | 'bytes' | 'ofBytes', number>[],
  ];
  const facts = Object.fromEntries(Object.entries(row!).map(([name, n]) => [name, Number(n)]));
  return facts.files! > 0 ? [finding(step, 'encoded anew', 'note', facts)] : [];
}

export async function packageFindings(
  db: Db,
  step: StepSummary,
  { projectId, scope, selection }: { projectId: ProjectId; scope: ArchiveScope; selection: ProjectSelection },
): Promise<Finding[]> {
  const findings: Finding[] = [];
  const [project] = await db.select().from(projects).where(eq(projects.id, projectId));
  if (selection.missing > 0)
    findings.push(
      finding(step, 'media missing', 'note', {
        project: project?.name ?? '',
        missing: selection.missing,
        total: selection.mediaTotal,
      }),
    );
  findings.push(...(await needsFindings(db, step, selection)));
  findings.push(...(await encodedFindings(db, step)));
  const files = await unweighed(db, step.stepId);
  if (files > 0) findings.push(finding(step, 'not weighed yet', 'note', { files }));
  const renamed = selection.chosen.filter(
    (file) =>
      scope.names === KEPT_NAMES &&
      !file.isDocument &&
      file.parts.length === 0 &&
      nameOf(file.payloadPath) !== file.name,
  );
  if (renamed.length > 0)
    findings.push(
      finding(step, 'renamed in the archive', 'note', {
        files: renamed.length,
        example: nameOf(renamed[0]!.payloadPath),
      }),
    );
  return findings;
}
