// What the shape route asks of the services, and what it changes through them.
import { isoDay } from '#core/house-time.ts';
import type { Route } from './+types/shape';
import { shapeArchiveForm } from '#contract/forms.ts';
import type { CopiesRule } from '#core/archive/copies.ts';
import { overheadOf, proposeCarriers } from '#core/archive/layout.ts';
import { ENCODED, type Encoded } from '#core/archive/encoding.ts';
import { KEPT_NAMES } from '#core/archive/names.ts';
import {
  archiveFolderName,
  type ArchiveScope,
  estimateSeconds,
  isOfBundle,
  LEFT_OUT,
  type LeftOut,
  type PlacedFile,
} from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { nameOf } from '#core/paths.ts';
import { GUESSED_RATE } from '#core/reclaim/again.ts';
import { size } from '#core/wording/amounts.ts';
import { outWords } from '#core/wording/lenses.ts';
import { FactsOfProjects } from '#server/archives/facts.ts';
import { projectSelection, type ProjectSelection } from '#server/archives/selection.ts';
import { forgetShape, keepShape, namedShapes } from '#server/archives/shapes.ts';
import { timelineNames } from '#server/archives/lengths.ts';
import { binTree, filesOfClips } from '#server/archives/bins.ts';
import { handedOverOf } from '#server/archives/handed-over.ts';
import { addArchive, sizesOf } from '#server/steps/archive.ts';
import { heldBytes } from '#server/steps/packages.ts';
import { type Earlier, earlierArchives, heldBy } from '#server/archives/base.ts';
import { copiesRule } from '#server/site/house-rules.ts';
import { addHandOver } from '#server/steps/hand-over.ts';
import { projectById } from '#server/projects/projects.ts';
import { measuredRates } from '#server/archives/rates.ts';
import { type CarrierRow, carrierRows } from '#server/archives/shelf.ts';
import { answer, idFrom } from '../answer.server';
import { db } from '../db.server';
import type { EncodedSum } from './encode';
import { personOf } from '../person.server';
import { clipsIn, isHandOver, scopeIn } from './scope';

const factsOf = new FactsOfProjects();

/** What the address of a shape asks for, as far as the project has it, and what would go in. Throws 404 where there is no such project. */
export async function shaped(projectId: ProjectId, search: URLSearchParams) {
  const project = await projectById(db(), projectId);
  if (!project) throw new Response('There is no such project.', { status: 404 });
  const facts = await factsOf.of(db(), projectId);
  const [timelines, { names: bins }] = await Promise.all([
    facts.of('timeline names', () => timelineNames(db(), projectId)),
    facts.of('bins', () => binTree(db(), projectId)),
  ]);
  const wished = scopeIn(search);
  const scope = {
    ...wished,
    timelines: wished.timelines.filter((name) => timelines.includes(name)),
    bins: wished.bins.filter((name) => bins.includes(name)),
    files: await filesOfClips(db(), projectId, clipsIn(search)),
  };
  const [selection, before] = await Promise.all([
    projectSelection(db(), projectId, scope, { facts }),
    earlierArchives(db(), projectId),
  ]);
  return { project, scope, timelines, bins, selection, before, ...(await baseOf(selection, before, search)) };
}

/** Rows that the page has of what goes in; all of them are in the file of names. */
const ROWS = 1000;

export async function loader({ params, request }: Route.LoaderArgs) {
  const projectId = idFrom(params.projectId, 'project') as ProjectId;
  const { searchParams } = new URL(request.url);
  const [asked, carriers, rates, shapes, earlier, rule] = await Promise.all([
    shaped(projectId, searchParams),
    carrierRows(db()),
    measuredRates(db()),
    namedShapes(db()),
    handedOverOf(db(), projectId),
    copiesRule(db()),
  ]);
  const { project, scope, timelines, bins, selection, before, base, held, baseBytes } = asked;
  const media = selection.chosen.filter((file) => file.used && !file.isDocument);
  const wanted = selection.chosen.filter((file) => !file.used && !file.isDocument);
  return {
    project,
    carriers,
    isHandOver: isHandOver(searchParams),
    earlier,
    shapes,
    timelines,
    bins,
    folder: archiveFolderName(project.slug, isoDay(Date.now())),
    totalBytes: selection.totalBytes,
    archiveBytes: selection.chosenBytes - baseBytes,
    documentBytes: selection.chosenBytes - keptBytes(selection.chosen.filter((file) => !file.isDocument)),
    before,
    base: base && { ...base, files: held!.size, bytes: baseBytes },
    ...layoutOf(sizesOf(selection, scope, held), { carriers, rule, scope }),
    borrowedBytes: selection.borrowedBytes,
    trimmedBytes: selection.trimmedBytes,
    trimmedStills: selection.trimmedStills,
    ...{ encodedBytes: selection.encodedBytes, encoded: encodedSums(selection.chosen, scope) },
    leftOut: selection.leftOut,
    scope,
    parts: partsOf(selection.leftOut, wanted),
    inParts: media.filter((file) => file.parts.length > 0).length,
    whole: wholesOf(media),
    missing: selection.missing,
    outside: selection.outside,
    mediaTotal: selection.mediaTotal,
    mediaFiles: media.length,
    mediaBytes: keptBytes(media),
    documents: selection.chosen.filter((file) => file.isDocument).length,
    files: selection.chosen.slice(0, ROWS).flatMap((file) => rowsOf(file, scope, held?.has(file.fileId) ?? false)),
    ...{ filesInAll: selection.chosen.length, filesShown: Math.min(selection.chosen.length, ROWS) },
    estimate: estimateSeconds(selection, rates),
    measured: rates.measured,
  };
}

const neededFor = (sizes: readonly number[], { pack }: ArchiveScope): number => {
  const { partBytes, fileBytes } = overheadOf(pack);
  return sizes.reduce((sum, own) => sum + own + fileBytes, partBytes);
};

const keptBytes = (files: readonly PlacedFile[]): number => files.reduce((sum, file) => sum + file.keptBytes, 0);

/** What the page needs to say how copies lie on carriers, and those that are proposed: reachable, in as many places as the house wants. */
function layoutOf(
  sizes: readonly number[],
  { carriers, rule, scope }: { carriers: readonly CarrierRow[]; rule: CopiesRule; scope: ArchiveScope },
) {
  // Only where they do not all hold it does it matter how it could be parted.
  const isTight = carriers.some((carrier) => carrier.freeBytes < neededFor(sizes, scope));
  const proposed = proposeCarriers(
    sizes,
    carriers
      .filter((carrier) => carrier.state === 'reachable')
      .map(({ carrierId, freeBytes, place }) => ({ carrierId, roomBytes: freeBytes, place })),
    { ...rule, overhead: overheadOf(scope.pack) },
  );
  return { rule, proposed, sizes: isTight ? sizes : [sizes.reduce((sum, own) => sum + own, 0)] };
}

/** The archive that it is to build on, and what of it that holds. */
async function baseOf(selection: ProjectSelection, before: readonly Earlier[], search: URLSearchParams) {
  const asked = isHandOver(search) ? null : search.get('base');
  const base = before.find((one) => `${one.archiveId}` === asked);
  const held = base && (await heldBy(db(), base.archiveId, selection.chosen));
  return { base: base ?? null, held, baseBytes: heldBytes(selection, held) };
}

/** Why media stays whole that was to be cut, the commonest first. */
function wholesOf(media: readonly PlacedFile[]): { why: string; files: number }[] {
  const byReason = new Map<string, number>();
  for (const { whyWhole } of media) if (whyWhole) byReason.set(whyWhole, (byReason.get(whyWhole) ?? 0) + 1);
  return [...byReason].map(([why, files]) => ({ why, files })).sort((a, b) => b.files - a.files);
}

/** Of each part that is encoded anew: what it will weigh, and what goes in as it is. */
function encodedSums(files: readonly PlacedFile[], { encode }: ArchiveScope): Partial<Record<Encoded, EncodedSum>> {
  return Object.fromEntries(
    ENCODED.filter((part) => encode[part] !== undefined).map((part) => {
      const own = files.filter((file) => !file.isDocument && (part === 'used' ? file.used : file.asked === part));
      const made = own.filter((file) => file.encoding !== null);
      const sum: EncodedSum = {
        files: made.length,
        bytes: keptBytes(made),
        ofBytes: made.reduce((bytes, file) => bytes + file.sizeBytes, 0),
        // Of media that timelines use the length tells it already.
        asTheyAre: part === 'used' ? [] : wholesOf(own),
      };
      return [part, sum];
    }),
  );
}

export interface Written {
  key: string;
  /** Of media that could be cut; once, where it is several parts. */
  fileId: number | null;
  payloadPath: string;
  sizeBytes: number;
  volumeId: VolumeId;
  path: string;
  /** Its size is known to the byte only once its frames were looked at. */
  isAbout: boolean;
  renamed: boolean;
  whyWhole: string | null;
  /** It lies in the earlier archive, and is not written again. */
  isHeld: boolean;
}

/** What is written of a file: itself, or its parts. */
export function rowsOf(file: PlacedFile, { names }: Pick<ArchiveScope, 'names'>, isHeld: boolean): Written[] {
  const { volumeId, path } = file;
  const fileId = (file.kept?.frames ?? 0) > 0 ? file.fileId : null;
  if (file.parts.length > 0)
    return file.parts.map((part, i) => ({
      fileId: i === 0 ? fileId : null,
      ...{ key: `${file.fileId} ${part.from}`, payloadPath: part.payloadPath, sizeBytes: part.bytes, volumeId, path },
      ...{ isAbout: !part.isExact, renamed: false, whyWhole: null, isHeld },
    }));
  return [
    {
      fileId,
      ...{ key: `${file.fileId}`, payloadPath: file.payloadPath, sizeBytes: file.keptBytes, volumeId, path },
      ...{
        isAbout: file.encoding !== null,
        renamed:
          file.encoding === null &&
          names === KEPT_NAMES &&
          nameOf(file.payloadPath) !== file.name &&
          !isOfBundle(file.payloadPath),
        whyWhole: file.whyWhole,
        isHeld,
      },
    },
  ];
}

interface Part {
  part: LeftOut;
  files: number;
  bytes: number;
  isIn: boolean;
  /** What it means that it stays out. */
  words: string;
}

/** Every part there is something of, in or out. */
function partsOf(
  out: readonly { why: LeftOut; files: number; bytes: number }[],
  asked: readonly { asked?: LeftOut; sizeBytes: number }[],
): Part[] {
  return LEFT_OUT.flatMap((part): Part[] => {
    const own = asked.filter((file) => file.asked === part);
    const left = out.find((one) => one.why === part);
    const sum = {
      files: own.length + (left?.files ?? 0),
      bytes: own.reduce((bytes, file) => bytes + file.sizeBytes, left?.bytes ?? 0),
    };
    if (sum.files === 0) return [];
    return [{ part, ...sum, isIn: own.length > 0, words: outWords(part, sum.bytes / GUESSED_RATE) }];
  });
}

export async function action({ request, params }: Route.ActionArgs) {
  return answer(request, shapeArchiveForm, async (form) => {
    switch (form.intent) {
      case 'stage': {
        const added = await addArchive(db(), {
          projectId: idFrom(params.projectId, 'project') as ProjectId,
          carrierIds: form.carrierIds as CarrierId[],
          ...{ folder: form.folder, scope: form.scope, now: new Date() },
          baseId: form.baseId as ArchiveId | null,
        });
        return `Added an archive of ${size(added.bytes)} to the plan. Review the plan and run it.`;
      }
      case 'hand over': {
        const added = await addHandOver(db(), {
          projectId: idFrom(params.projectId, 'project') as ProjectId,
          volumeId: form.volumeId as VolumeId,
          ...{ folder: form.folder, toWhom: form.toWhom, scope: form.scope },
          ...{ points: form.points, now: new Date() },
        });
        return `Added ${size(added.bytes)} for ${form.toWhom} to the plan. Review the plan and run it.`;
      }
      case 'keep shape':
        await keepShape(db(), form, { who: await personOf(request), now: new Date() });
        return `Saved the shape ${form.name}. It is offered for every project.`;
      case 'forget shape':
        await forgetShape(db(), form.name);
        return `Removed the shape ${form.name}. No archive was changed.`;
    }
  });
}
