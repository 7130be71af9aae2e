// Removes one file, but only if it is what was expected, in three moves with the caller's journal between them: it is
// taken (renamed to a private name on its volume and looked at there, where nobody else writes), the caller writes that
// down, and only then is it removed from there. If it is not what was expected it goes back under its name. Killed
// anywhere, the next run finds it at the one place or the other and knows whose hand took it.
import { renameSync } from 'node:fs';
import { unlink } from 'node:fs/promises';
import type { Expectation } from '#core/model.ts';
import type { HeldReason } from '#core/plan/plan.ts';
import { codeOf, isMissing, isSameFile, isUnchanged, look } from './facts.ts';
import type { OpenFiles } from './open-files.ts';
import { type Inside, OutsideError } from './paths.ts';
import type { PrivateNames } from './private-names.ts';
import type { Root } from './root.ts';
import { renameNew } from './write.ts';

export interface Removal extends Inside {
  /** Number of the item in its plan: names the file while it is on its way out. */
  itemId: number;
  expected: Expectation;
}

export type Held = { done: false; reason: HeldReason; detail?: string };
/** What removing one name of a file gave back: nothing where it has other names still. */
export interface Freed {
  allocatedBytes: number;
  hasOtherNames: boolean;
}

export type ItemResult = { done: true; detail?: string; freed?: Freed } | Held;

const held = (reason: HeldReason, detail?: string): Held => ({ done: false, reason, detail });

/** Looks whether a file is what was expected and nobody has it open; null where it may be touched. */
export function reasonToHold(place: string | Buffer, expected: Expectation, open: () => OpenFiles): Held | null {
  const facts = look(place);
  if (facts.is === 'gone') return held('gone');
  if (facts.is !== 'file') return held('not a file');
  if (!isUnchanged(facts, expected)) return held('changed');
  const seen = open();
  if (seen.has(facts.device, facts.inode)) return held('open');
  return seen.known ? null : held('open unknown', seen.why);
}

/** Takes a file under its private name. One that was taken by an earlier run is taken already. */
export function take(root: Root, names: PrivateNames, removal: Removal, open: () => OpenFiles): ItemResult {
  return heldFor(() => {
    const taken = names.place(root, 'out', removal.itemId);
    if (look(taken).is === 'gone') {
      const place = root.place(removal);
      const reason = reasonToHold(place, removal.expected, open);
      if (reason) return reason;
      renameSync(place, taken);
    }
    const facts = look(taken);
    if (facts.is === 'file' && isSameFile(facts, removal.expected)) return { done: true };
    return putBack({ root, names }, removal, facts.is === 'file' ? 'changed' : 'not a file');
  });
}

/**
 * Removes a file that was taken. One that is no longer there was removed by an earlier run: nobody else reaches it. The disk
 * works beside whatever else is to be done meanwhile; `root` has to stay open until it has answered.
 */
export async function removeTaken(
  root: Root,
  names: PrivateNames,
  removal: Removal,
  open: () => OpenFiles,
): Promise<ItemResult> {
  try {
    const taken = names.placeOfOwn(root, 'out', removal.itemId);
    const facts = look(taken);
    if (facts.is === 'gone') return { done: true };
    if (facts.is !== 'file') return putBack({ root, names }, removal, 'not a file');
    if (!isSameFile(facts, removal.expected)) return putBack({ root, names }, removal, 'changed');
    // Whoever opened it before it was taken still has it open.
    if (open().has(facts.device, facts.inode)) return putBack({ root, names }, removal, 'open');
    try {
      await unlink(taken);
    } catch (error) {
      if (isMissing(error)) throw error;
      return putBack({ root, names }, removal, reasonOf(codeOf(error)), codeOf(error));
    }
    return { done: true, freed: { allocatedBytes: facts.allocatedBytes, hasOtherNames: facts.links > 1 } };
  } catch (error) {
    return heldBy(error);
  }
}

/** Gives a taken file its name back; where somebody has taken that meanwhile, it is kept beside. */
export function putBack(
  { root, names }: { root: Root; names: PrivateNames },
  removal: Removal,
  reason: HeldReason,
  detail?: string,
): Held {
  return putBackFrom(root, names.place(root, 'out', removal.itemId), removal, { reason, detail });
}

/** The same from any private place: for what earlier leases left. */
export function putBackFrom(
  root: Root,
  taken: string,
  removal: Removal,
  why: { reason: HeldReason; detail?: string },
): Held {
  const { reason, detail } = why;
  if (look(taken).is === 'gone') return held(reason, detail);
  try {
    renameNew(taken, placeFor(root, removal));
    return held(reason, detail);
  } catch (error) {
    if (codeOf(error) !== 'EEXIST') throw error;
  }
  // Somebody made a new file of that name meanwhile: both are kept, ours beside it.
  for (let n = 1; ; n++) {
    const beside = `${removal.path} (kept by Keramion ${removal.itemId}${n === 1 ? '' : `-${n}`})`;
    try {
      renameNew(taken, root.make(beside));
      return held('name taken', beside);
    } catch (error) {
      if (codeOf(error) !== 'EEXIST') throw error;
    }
  }
}

/** Where the file lay; its folder is made again where somebody took it away meanwhile. */
function placeFor(root: Root, removal: Removal): string | Buffer {
  try {
    return root.place(removal);
  } catch (error) {
    if (removal.raw || !isMissing(error)) throw error;
    return root.make(removal.path);
  }
}

/** What the system refuses for one file holds that file; anything else is trouble for whoever called. */
export function heldFor(work: () => ItemResult): ItemResult {
  try {
    return work();
  } catch (error) {
    return heldBy(error);
  }
}

function heldBy(error: unknown): Held {
  if (error instanceof OutsideError) return held('outside');
  if (isMissing(error)) return held('gone');
  const code = codeOf(error);
  const reason = reasonOf(code);
  if (reason === 'not permitted' && !NOT_PERMITTED.has(code)) throw error;
  return held(reason, code);
}

const NOT_PERMITTED = new Set(['EACCES', 'EPERM', 'EROFS']);

function reasonOf(code: string): HeldReason {
  if (code === 'EBUSY' || code === 'ETXTBSY') return 'open';
  if (code === 'ENOSPC' || code === 'EDQUOT') return 'no space';
  return 'not permitted';
}
