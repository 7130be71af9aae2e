// The document inside an archive: its references lead to the media beside it, relative, so that the bag can lie
// anywhere. What is not in the archive is missing there by its own name, in a folder that says so: no reference leads out of
// the bag, and where each was is in the untouched original beside it.
import { portableName } from '#core/archive/names.ts';
import { relinkOtio, sequenceFolder } from '#core/documents/relink.ts';
import { pathOfUrl, relativeFrom, urlOfPath } from '#core/documents/targets.ts';
import { folderOf } from '#core/paths.ts';
import type { Database } from '../db/connect.ts';
import { targetsOf } from '../db/naming.ts';

/** Never made: what is looked for there is told as missing, by its name. */
export const STAYED_OUT = 'media/not in this archive';

/** False for what is no file anywhere: an address of the net, something a program makes itself. */
const isPlace = (target: string): boolean =>
  target !== '' && (!/^[a-z][a-z0-9+.-]+:/i.test(target) || /^file:/i.test(target));

/** The last name on the way, whichever system wrote it. */
const nameAtEnd = (target: string): string =>
  portableName(pathOfUrl(target).split(/[\\/]/).filter(Boolean).at(-1) ?? '');

export interface Relinked {
  text: string;
  fileId: number;
  /** Where the document lies in the payload. */
  at: string;
  files: readonly { fileId: number; role: string; payloadPath: string }[];
}

export async function relinkedDocument(db: Database, { text, fileId, at, files }: Relinked): Promise<string> {
  const places = new Map(files.filter((file) => file.role === 'media').map((file) => [file.fileId, file.payloadPath]));
  const named = (await targetsOf(db, { fileId })).filter((row) => row.fileId !== null);
  const byTarget = new Map(named.map((row) => [row.target, places.get(row.fileId!)]));
  const from = folderOf(at);
  return relinkOtio(text, {
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
