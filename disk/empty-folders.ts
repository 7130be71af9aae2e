// Removes one folder, but only if nothing lies in it: the system itself refuses the others.
import { lstatSync, rmdirSync } from 'node:fs';
import { codeOf } from './facts.ts';
import type { Inside } from './paths.ts';
import { heldFor, type ItemResult } from './remove.ts';
import type { Root } from './root.ts';

/** `changedBefore`, in ms since 1970: a folder that was changed after it is somebody's for what comes next, and stays. */
export function removeEmptyFolder(root: Root, inside: Inside, changedBefore: number): ItemResult {
  return heldFor(() => {
    const place = root.place(inside);
    const stats = lstatSync(place);
    if (!stats.isDirectory()) return { done: false, reason: 'changed', detail: 'it is no folder any more' };
    if (stats.mtimeMs >= changedBefore)
      return { done: false, reason: 'changed', detail: 'it was changed within a day' };
    try {
      rmdirSync(place);
    } catch (error) {
      if (!['ENOTEMPTY', 'EEXIST'].includes(codeOf(error))) throw error;
      return { done: false, reason: 'changed', detail: 'something lies in it' };
    }
    return { done: true };
  });
}
