// One accepted answer settles its neighbours: media of the same old folder that lie, under their own names, in the same
// new folder, and that nothing speaks against.
import { foldPath } from '../homes/moves.ts';
import type { Evidence } from './judge.ts';

export interface Choosable {
  mediaId: number;
  documentId: number;
  /** The folder as the document writes it; '' where it writes none. */
  oldFolder: string;
  candidates: readonly { fileId: number; folderId: number; evidence: readonly Evidence[] }[];
}

/** What follows when `chosen` is taken for `mediaId`, by media; the accepted one itself is not in it. */
export function followersOf(
  all: readonly Choosable[],
  { mediaId, fileId }: { mediaId: number; fileId: number },
): Map<number, number> {
  const following = new Map<number, number>();
  const item = all.find((one) => one.mediaId === mediaId);
  const folderId = item?.candidates.find((one) => one.fileId === fileId)?.folderId;
  if (!item || folderId === undefined || item.oldFolder === '') return following;
  for (const other of all) {
    if (other === item || other.documentId !== item.documentId) continue;
    if (foldPath(other.oldFolder) !== foldPath(item.oldFolder)) continue;
    const there = other.candidates.filter(
      (one) =>
        one.folderId === folderId &&
        one.evidence.some((each) => each.code === 'name') &&
        one.evidence.every((each) => each.fits),
    );
    if (there.length === 1) following.set(other.mediaId, there[0]!.fileId);
  }
  return following;
}
