// The document inside an archive: its references lead to the media beside it, relative, so that the bag can lie
// anywhere. What is not in the archive is missing there by its own name, in a folder that says so: no reference leads out of
// the bag, and where each was is in the untouched original beside it.
import { type ArchiveScope, isNarrow, isOfBundle } from '#core/archive/selection.ts';
import { portableName } from '#core/archive/names.ts';
import { availableOf, type FileFacts, type FileUse, placedSpan } from '#core/archive/lengths.ts';
import { referencesOf, type WrittenReference } from '#core/documents/formats/otio-references.ts';
import { type PartPlace, type Relinking, relinkOtio, sequenceFolder } from '#core/documents/relink.ts';
import { UNTITLED } from '#core/documents/formats/otio.ts';
import type { Stills } from '#core/documents/stills.ts';
import { pruneOtio } from '#core/documents/prune.ts';
import { pathOfUrl, relativeFrom, urlOfPath } from '#core/documents/targets.ts';
import { grouped } from '#core/grouped.ts';
import type { ProjectId } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { coverInRate } from '#core/time/rates.ts';
import type { ArchiveFile } from '../archives/bag.ts';
import { lengthsOf, type SequenceUse, sequencesOf } from '../archives/lengths.ts';
import type { Database } from '../db/connect.ts';
import { targetsOf } from '../db/naming.ts';
import { Refused } from '../runtime/refused.ts';

/** Never made: what is looked for there is told as missing, by its name. */
export const STAYED_OUT = 'media/not in this archive';

/** What references say of media in a package and of media that is in none. */
export interface Lead {
  /** @param written what the reference said before */
  to(written: string, payloadPath: string): string;
  /** Of what stayed out, by its name; null leaves it as it is. */
  out(name: string): string | null;
}

/** The document lies in the package itself: nothing it says leads out of that, nor out of a bundle. */
function leadingInside(document: string): Lead {
  const from = folderOf(document);
  const out = relativeFrom(from, isOfBundle(document) ? `${from}/${STAYED_OUT}` : STAYED_OUT);
  return {
    to: (_written, place) => urlOfPath(relativeFrom(from, place)),
    out: (name) => urlOfPath(`${out}/${name}`),
  };
}

/** False for what is no file anywhere: an address of the net, something a program makes itself. */
const isPlace = (target: string): boolean =>
  target !== '' && (!/^[a-z][a-z0-9+.-]+:/i.test(target) || /^file:/i.test(target));

/** The last name on the way, whichever system wrote it. */
const nameAtEnd = (target: string): string =>
  portableName(pathOfUrl(target).split(/[\\/]/).filter(Boolean).at(-1) ?? '');

export interface Relinked {
  projectId: ProjectId;
  /** Only what these use went in; none named: what any does. */
  timelines: readonly string[];
  /** What becomes of timelines that were not chosen, and of clips in bins whose media is not here. */
  scope: ArchiveScope;
  text: string;
  fileId: number;
  /** Where the document lies in the payload. */
  at: string;
  files: readonly ArchiveFile[];
}

export async function relinkedDocument(db: Database, relinked: Relinked): Promise<string> {
  const { scope, at } = relinked;
  const lead = leadingInside(at);
  const { text } = await pointedDocument(db, relinked, lead);
  if (scope.rest === 'stays') return text;
  const outside = lead.out('')!;
  return pruneOtio(text, {
    keepsTimeline: (name) => !isNarrow(scope) || scope.timelines.includes(name || UNTITLED),
    keepsClip: (targets) => targets.some((target) => !target.startsWith(outside)),
  });
}

/** A file with all of its frames. */
const isWhole = ({ role }: ArchiveFile): boolean => role === 'media' || role === 'encoded';

/** The text of a document whose references lead to the media of a package. */
export async function pointedDocument(
  db: Database,
  relinked: Omit<Relinked, 'scope'>,
  lead: Lead,
): Promise<{ text: string; replaced: number }> {
  const { text, fileId, files } = relinked;
  const places = new Map(files.filter(isWhole).map((file) => [file.fileId, file.payloadPath]));
  const named = (await targetsOf(db, { fileId })).filter((row) => row.fileId !== null);
  const byTarget = new Map(named.map((row) => [row.target, places.get(row.fileId!)]));
  return relinkOtio(text, {
    part: await partsOf(db, relinked, lead),
    file: (url) => {
      const place = byTarget.get(url);
      if (place !== undefined) return lead.to(url, place);
      return isPlace(url) ? lead.out(nameAtEnd(url)) : null;
    },
    sequence: (base, prefix, suffix) => {
      const folder = sequenceFolder(byTarget, { base, prefix, suffix });
      if (folder !== null) return lead.to(`${base}x`, `${folder}/x`).slice(0, -1);
      return isPlace(base) ? (lead.out(`${nameAtEnd(base)}/x`)?.slice(0, -1) ?? null) : null;
    },
  });
}

/**
 * Of media that went in as parts, which part each reference leads to: the one that holds all that is shown by it; what no
 * timeline uses leads to the first.
 */
async function partsOf(db: Database, relinked: Omit<Relinked, 'scope'>, lead: Lead): Promise<Relinking['part']> {
  const { text, timelines, at } = relinked;
  const [byTarget, sequences] = [await filesInParts(db, relinked), await sequencesInParts(db, relinked)];
  if (byTarget.size === 0 && sequences.length === 0) return undefined;
  const references = referencesOf(text, timelines);
  return (place, named) => {
    const reference = references.get(place) ?? { used: null, usedByAll: null, isWhole: false };
    if ('url' in named) {
      const own = byTarget.get(named.url);
      return own ? partOfFile(own, { reference, at, lead, written: named.url }) : null;
    }
    const own = sequences.find(
      ({ stills }) =>
        [named.base, `${named.base}/`].includes(stills.folder) &&
        stills.prefix === named.prefix &&
        stills.suffix === named.suffix &&
        stills.first === named.first,
    );
    return own ? partOfSequence(own, { reference, at, lead, written: `${named.base}x` }) : null;
  };
}

interface InParts {
  file: FileFacts;
  use: FileUse;
  parts: readonly Pick<ArchiveFile, 'partFrom' | 'partTo' | 'payloadPath'>[];
  /** Of the whole, for what is said of it. */
  path: string;
}
interface Leading {
  reference: WrittenReference;
  /** What it says now. */
  written: string;
  at: string;
  lead: Pick<Lead, 'to'>;
}

async function filesInParts(
  db: Database,
  { projectId, timelines, fileId, files }: Omit<Relinked, 'scope'>,
): Promise<Map<string, InParts>> {
  const parts = grouped(
    files.filter((file) => file.role === 'part'),
    (file) => file.fileId,
  );
  const byTarget = new Map<string, InParts>();
  if (parts.size === 0) return byTarget;
  const lengths = await lengthsOf(db, projectId, { fileIds: [...parts.keys()], versions: 'all', timelines });
  for (const [id, own] of parts) {
    const known = lengths.get(id);
    for (const use of known?.uses ?? [])
      if (use.documentFileId === fileId)
        byTarget.set(use.target, { file: known!.file, use, parts: own, path: own[0]!.path });
  }
  return byTarget;
}

/** Throws Refused where what is used is in none of the parts. */
export function partOfFile(
  { file, use, parts, path }: InParts,
  { reference, at, lead, written }: Leading,
): PartPlace | null {
  const used = reference.used ?? reference.usedByAll;
  const ranges = used && use.rate ? placedSpan(file, use, coverInRate(used.range, used.rate, use.rate)) : [];
  const part = parts.find(
    ({ partFrom, partTo }) => ranges !== null && ranges.every(({ from, to }) => partFrom! <= from && to <= partTo!),
  );
  // What only others use, and is in no part, is told as missing.
  if (!part && !reference.used && !reference.isWhole) return null;
  const available = part && availableOf(file, use, { from: part.partFrom!, to: part.partTo! });
  if (!available) throw notInParts(at, path);
  return { target: lead.to(written, part.payloadPath), available };
}

const notInParts = (document: string, media: string) =>
  new Refused(
    `What ${nameOf(document)} uses of ${nameOf(media)} is not in the parts that were written of it. Nothing was sealed; the originals were not touched. Read the project again, or archive its media whole.`,
  );

interface SequenceInParts {
  stills: Pick<Stills, 'first' | 'step' | 'count'>;
  use: Pick<FileUse, 'rate' | 'start' | 'duration'>;
  files: ReadonlyMap<number, number>;
  /** Where its stills lie, under their own names. */
  folder: string;
  /** Stills that are known and did not go in, in their order. */
  out: number[];
}

/** Sequences of which some stills went in, and not all. */
async function sequencesInParts(
  db: Database,
  { fileId, files }: Pick<Relinked, 'fileId' | 'files'>,
): Promise<(SequenceInParts & SequenceUse)[]> {
  const places = new Map(files.filter((file) => file.role === 'media').map((file) => [file.fileId, file]));
  const found: (SequenceInParts & SequenceUse)[] = [];
  for (const sequence of await sequencesOf(db, fileId)) {
    const inside = [...sequence.files.values()].flatMap((id) => places.get(id) ?? []);
    const out = [...sequence.files].filter(([, id]) => !places.has(id)).map(([ord]) => ord);
    const folders = new Set(inside.map((file) => folderOf(file.payloadPath)));
    const isNamed = inside.every((file) => nameOf(file.payloadPath) === nameOf(file.path));
    const [folder] = folders;
    if (out.length > 0 && folders.size === 1 && isNamed) found.push({ ...sequence, folder: folder!, out });
  }
  return found;
}

/** The stretch between stills that stayed out which holds all that is shown by a reference. */
export function partOfSequence(
  { stills, use, files, folder, out }: SequenceInParts,
  { reference, lead, written }: Leading,
): PartPlace | null {
  const used = reference.used ?? reference.usedByAll;
  const { rate, start, duration } = use;
  if (!rate || start === null || duration === null) return null;
  const ord = (frame: number) => (frame - start) / stills.step;
  const range = used && coverInRate(used.range, used.rate, rate);
  const first = range ? Math.floor(ord(range.start)) : ([...files.keys()].find((one) => !out.includes(one)) ?? 0);
  const last = range ? Math.ceil(ord(range.start + range.duration)) : first + 1;
  // Where a still in between could not go in, it is missing among the others.
  const isWhole = !out.some((one) => one >= first && one < last);
  const from = isWhole ? Math.max(0, ...out.filter((one) => one < first).map((one) => one + 1)) : 0;
  const end = stills.count ?? Math.ceil(duration / stills.step);
  const to = isWhole ? Math.min(end, ...out.filter((one) => one >= last)) : end;
  return {
    target: lead.to(written, `${folder}/x`).slice(0, -1),
    available: { start: start + from * stills.step, duration: (to - from) * stills.step, rate },
    firstStill: stills.first + from * stills.step,
  };
}
