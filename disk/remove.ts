// Removes one file, but only if it is what was expected. It is first renamed into Keramion's own folder on the same
// volume, looked at there, where nobody else writes, and only then removed; if it is not what was expected it goes back
// under its name. Killed between the two, the next run settles it. Called by the removing job for every item.
import { mkdirSync, readdirSync, renameSync, unlinkSync } from 'node:fs';
import path from 'node:path';
import type { Expectation } from '#core/model.ts';
import type { HeldReason } from '#core/plan/plan.ts';
import { codeOf, isMissing, look, sameFacts } from './facts.ts';
import type { OpenFiles } from './open-files.ts';
import { absolute, type Inside, locate, OutsideError } from './paths.ts';
import { PRIVATE_FOLDER, renameNew } from './private.ts';

export interface Removal extends Inside {
  /** Number of the item in its plan: names the file while it is on its way out. */
  itemId: number;
  expected: Expectation;
}

export type RemovalResult = { done: true } | { done: false; reason: HeldReason; detail?: string };

const TAKING = path.join(PRIVATE_FOLDER, 'taking');

/** The private name of a file on its way, by the number of its item. */
export const takenPlace = (root: string, itemId: number): string => path.join(root, TAKING, String(itemId));

/** Removes one file of the volume at `root`, or says why it was held. Running it again is safe. */
export function removeExpected(root: string, removal: Removal, open: () => OpenFiles): RemovalResult {
  try {
    return attempt(root, removal, open);
  } catch (error) {
    if (error instanceof OutsideError) return { done: false, reason: 'outside' };
    const code = codeOf(error);
    if (isMissing(error)) return { done: false, reason: 'gone' };
    if (code === 'EACCES' || code === 'EPERM' || code === 'EROFS')
      return { done: false, reason: 'not permitted', detail: code };
    if (code === 'EBUSY' || code === 'ETXTBSY') return { done: false, reason: 'open', detail: code };
    throw error;
  }
}

function attempt(root: string, removal: Removal, open: () => OpenFiles): RemovalResult {
  const taken = takenPlace(root, removal.itemId);
  // Left there by a run that was killed between taking and removing.
  if (look(taken).is !== 'gone') return settle(root, removal, taken);
  const place = locate(root, removal);
  const facts = look(place);
  if (facts.is === 'gone') return { done: false, reason: 'gone' };
  if (facts.is !== 'file') return { done: false, reason: 'not a file' };
  if (!sameFacts(facts, removal.expected)) return { done: false, reason: 'changed' };
  if (open().has(facts.device, facts.inode)) return { done: false, reason: 'open' };
  mkdirSync(path.join(root, TAKING), { recursive: true });
  renameSync(place, taken);
  return settle(root, removal, taken);
}

/** The file is in our hands: remove it if it is the expected one, else put it back. */
function settle(root: string, removal: Removal, taken: string): RemovalResult {
  const facts = look(taken);
  if (facts.is === 'file' && sameFacts(facts, removal.expected)) {
    unlinkSync(taken);
    return { done: true };
  }
  return putBack(root, removal, taken, facts.is === 'file' ? 'changed' : 'not a file');
}

/** Gives a taken file its name back; where somebody has taken that meanwhile, it is kept beside. */
export function putBack(root: string, removal: Inside, taken: string, reason: HeldReason): RemovalResult {
  try {
    renameNew(taken, absolute(root, removal));
  } catch (error) {
    if (codeOf(error) !== 'EEXIST' && codeOf(error) !== 'EPERM') throw error;
    // Somebody made a new file of that name meanwhile: both are kept, ours beside it.
    const beside = `${removal.path} (kept by Keramion ${path.basename(taken)})`;
    renameNew(taken, absolute(root, { path: beside }));
    return { done: false, reason: 'name taken', detail: beside };
  }
  return { done: false, reason };
}

/** Item numbers of files that are on their way out of a volume: what a killed run left. */
export function onTheirWay(root: string): number[] {
  try {
    return readdirSync(path.join(root, TAKING))
      .map(Number)
      .filter((n) => Number.isSafeInteger(n));
  } catch (error) {
    if (isMissing(error)) return [];
    throw error;
  }
}
