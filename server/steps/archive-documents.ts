// The document inside an archive: its references lead to the media beside it, relative, so that the bag can lie
// anywhere. What is not in the archive keeps the place it had.
import { relinkOtio, sequenceFolder } from '#core/documents/relink.ts';
import { relativeFrom, urlOfPath } from '#core/documents/targets.ts';
import { folderOf } from '#core/paths.ts';
import type { Database } from '../db/connect.ts';
import { targetsOf } from '../db/naming.ts';

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
      return place === undefined ? null : urlOfPath(relativeFrom(from, place));
    },
    sequence: (base, prefix, suffix) => {
      const folder = sequenceFolder(byTarget, { base, prefix, suffix });
      return folder === null ? null : urlOfPath(relativeFrom(from, `${folder}/x`)).slice(0, -1);
    },
  }).text;
}
