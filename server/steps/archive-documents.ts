// The document inside an archive: its references lead to the media beside it, relative, so that the bag can lie
// anywhere. What is not in the archive is missing there by its own name, in a folder that says so: no reference leads out of
// the bag, and where each was is in the untouched original beside it.
import { portableName } from '#core/archive/names.ts';
import { availableOf, type FileFacts, type FileUse, placedIn } from '#core/archive/lengths.ts';
import { referencesOf } from '#core/documents/formats/otio-references.ts';
import { type Relinking, relinkOtio, sequenceFolder } from '#core/documents/relink.ts';
import { pathOfUrl, relativeFrom, urlOfPath } from '#core/documents/targets.ts';
import type { ProjectId } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { coverInRate } from '#core/time/rates.ts';
import type { ArchiveFile } from '../archives/bag.ts';
import { lengthsOf } from '../archives/lengths.ts';
import type { Database } from '../db/connect.ts';
import { targetsOf } from '../db/naming.ts';
import { Refused } from '../runtime/refused.ts';
import { grouped } from './archive-parts.ts';

/** Never made: what is looked for there is told as missing, by its name. */
export const STAYED_OUT = 'media/not in this archive';

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
  text: string;
  fileId: number;
  /** Where the document lies in the payload. */
  at: string;
  files: readonly ArchiveFile[];
}

export async function relinkedDocument(
  db: Database,
  { projectId, timelines, text, fileId, at, files }: Relinked,
): Promise<string> {
  const places = new Map(files.filter((file) => file.role === 'media').map((file) => [file.fileId, file.payloadPath]));
  const named = (await targetsOf(db, { fileId })).filter((row) => row.fileId !== null);
  const byTarget = new Map(named.map((row) => [row.target, places.get(row.fileId!)]));
  const from = folderOf(at);
  return relinkOtio(text, {
    part: await partsOf(db, { projectId, timelines, text, fileId, at, files }),
    file: (url) => {
      const place = byTarget.get(url);
      if (place !== undefined) return urlOfPath(relativeFrom(from, place));
      return isPlace(url) ? urlOfPath(relativeFrom(from, `${STAYED_OUT}/${nameAtEnd(url)}`)) : null;
    },
    sequence: (base, prefix, suffix) => {
      const folder = sequenceFolder(byTarget, { base, prefix, suffix });
      if (folder !== null) return urlOfPath(relativeFrom(from, `${folder}/x`)).slice(0, -1);
      return isPlace(base) ? urlOfPath(relativeFrom(from, `${STAYED_OUT}/${nameAtEnd(base)}/x`)).slice(0, -1) : null;
    },
  }).text;
}

/**
 * Of media that went in as parts, which part each reference leads to: the one that holds all that is shown by it; what no
 * timeline uses leads to the first.
 */
async function partsOf(
  db: Database,
  { projectId, timelines, text, fileId, at, files }: Relinked,
): Promise<Relinking['part']> {
  const parts = grouped(
    files.filter((file) => file.role === 'part'),
    (file) => file.fileId,
  );
  if (parts.size === 0) return undefined;
  const lengths = await lengthsOf(db, projectId, { fileIds: [...parts.keys()], versions: 'all', timelines });
  const byTarget = new Map<string, { file: FileFacts; use: FileUse; parts: ArchiveFile[] }>();
  for (const [id, own] of parts) {
    const known = lengths.get(id);
    for (const use of known?.uses ?? [])
      if (use.documentFileId === fileId) byTarget.set(use.target, { file: known!.file, use, parts: own });
  }
  const references = referencesOf(text, timelines);
  return (place, target) => {
    const named = byTarget.get(target);
    if (!named) return null;
    const { file, use } = named;
    const reference = references.get(place);
    const used = reference?.used ?? reference?.usedByAll;
    const ranges =
      used && use.rate ? placedIn(file, { ...use, spans: [coverInRate(used.range, used.rate, use.rate)] }) : [];
    const part = named.parts.find(
      ({ partFrom, partTo }) =>
        typeof ranges !== 'string' && ranges.every(({ from, to }) => partFrom! <= from && to <= partTo!),
    );
    // What only others use, and is in no part, is told as missing.
    if (!part && !reference?.used && !reference?.isWhole) return null;
    const available = part && availableOf(file, use, { from: part.partFrom!, to: part.partTo! });
    if (!available)
      throw new Refused(
        `What ${nameOf(at)} uses of ${nameOf(named.parts[0]!.path)} is not in the parts that were written of it. Nothing was sealed; the originals were not touched. Read the project again, or archive its media whole.`,
      );
    return { target: urlOfPath(relativeFrom(folderOf(at), part.payloadPath)), available };
  };
}
