// Files that are set aside: renamed into a folder of ours on their own volume, below the mark of the job that did it, under
// the very path they had. So nothing is copied, somebody who looks there finds everything as it was, and no two files want
// one name. Nothing is written over on either way.
import { renameSync, rmdirSync, unlinkSync } from 'node:fs';
import { folderOf } from '#core/paths.ts';
import { codeOf, type FileFacts, isSameFile, look } from './facts.ts';
import { PRIVATE_FOLDER } from './identity.ts';
import type { Inside } from './paths.ts';
import { ASIDE, type PrivateNames } from './private-names.ts';
import { heldFor, type Held, type ItemResult, putBack, type Removal } from './remove.ts';
import type { Root } from './root.ts';
import { isOneFile, renameNew } from './write.ts';

/** Where a job keeps a file that it sets aside. The marks are random: no other site's and no other job's. */
export function asidePlace({ site, job }: { site: string; job: string }, inside: Inside): Inside {
  const folder = `${PRIVATE_FOLDER}/${ASIDE}/${site}.${job}`;
  return {
    path: `${folder}/${inside.path}`,
    raw: inside.raw ? Buffer.concat([Buffer.from(`${folder}/`), inside.raw]) : null,
  };
}

export type AsideResult = { done: true; facts: FileFacts } | Held;

/** Puts a file that was taken to its place aside. One that lies there already was put there by an earlier run. */
export function placeAside(
  root: Root,
  names: PrivateNames,
  { removal, aside }: { removal: Removal; aside: Inside },
): AsideResult {
  let facts: FileFacts | null = null;
  const result = heldFor(() => {
    const taken = names.place(root, 'out', removal.itemId);
    try {
      if (look(taken).is !== 'gone') renameInto(taken, root.makeFor(aside));
    } catch (error) {
      const code = codeOf(error);
      if (code === 'EEXIST') return putBack({ root, names }, removal, 'name taken', aside.path);
      if (code === 'ENAMETOOLONG') return putBack({ root, names }, removal, 'not permitted', code);
      throw error;
    }
    facts = asideFacts(root, aside, removal);
    return facts ? { done: true } : { done: false, reason: 'gone' };
  });
  // What the system refused lies under its private name still.
  if (!result.done) return putBack({ root, names }, removal, result.reason, result.detail);
  return { done: true, facts: facts! };
}

/**
 * Into a folder that is this job's alone: nobody else can take the name between the look and the rename. Where an earlier run
 * left the file under both names, the old one goes.
 */
function renameInto(from: string | Buffer, to: string | Buffer): void {
  if (look(to).is === 'gone') return renameSync(from, to);
  if (!isOneFile(from, to)) throw Object.assign(new Error(`${String(to)} is there already.`), { code: 'EEXIST' });
  unlinkSync(from);
}

/** The file has its new name beside the old one: nothing is lost, and the next run takes the old one away. */
class HalfRenamed extends Error {
  override readonly name = 'HalfRenamed';
}

/** Where the system refuses when the file has its new name already, that is no reason to hold it: it is to be finished. */
function rename(from: string | Buffer, makeTo: () => string | Buffer): void {
  const to = makeTo();
  try {
    renameNew(from, to);
  } catch (error) {
    if (codeOf(error) !== 'EEXIST' && isOneFile(from, to))
      throw new HalfRenamed(`A file could not be renamed to its end: ${(error as Error).message}`, { cause: error });
    throw error;
  }
}

/** The file aside, where it is there and is the one; else null. */
export function asideFacts(root: Root, aside: Inside, { expected }: Pick<Removal, 'expected'>): FileFacts | null {
  try {
    const facts = look(root.place(aside));
    return facts.is === 'file' && isSameFile(facts, expected) ? facts : null;
  } catch (error) {
    if (['ENOENT', 'ENOTDIR'].includes(codeOf(error))) return null;
    throw error;
  }
}

/** Gives a file that was set aside its path back, whatever became of its content. Its folders are made again where they went. */
export function takeBack(
  root: Root,
  { aside, home, expected }: { aside: Inside; home: Inside; expected: FileFacts },
): AsideResult {
  let facts: FileFacts | null = null;
  const result: ItemResult = heldFor(() => {
    const from = lookAt(root, aside);
    if (from.is !== 'file' && from.is !== 'gone') return { done: false, reason: 'not a file' };
    try {
      if (from.is === 'file') rename(root.place(aside), () => root.makeFor(home));
    } catch (error) {
      if (codeOf(error) === 'EEXIST') return { done: false, reason: 'name taken' };
      throw error;
    }
    // An earlier run may have given it back already.
    const now = lookAt(root, home);
    if (now.is !== 'file' || !isSameFile(now, expected)) return { done: false, reason: 'gone' };
    facts = now;
    return { done: true };
  });
  return result.done ? { done: true, facts: facts! } : result;
}

/** After work that ended early: finishes a way back that had begun; null where the file lies aside as before. */
export function finishBack(root: Root, way: Parameters<typeof takeBack>[1]): AsideResult | null {
  const [from, home] = [lookAt(root, way.aside), lookAt(root, way.home)];
  const isBegun = from.is === 'gone' || (from.is === 'file' && home.is === 'file' && home.inode === from.inode);
  return isBegun ? takeBack(root, way) : null;
}

function lookAt(root: Root, inside: Inside) {
  try {
    return look(root.place(inside));
  } catch (error) {
    if (['ENOENT', 'ENOTDIR'].includes(codeOf(error))) return { is: 'gone' as const };
    throw error;
  }
}

/** Removes the folders of ours that are empty now, from a file's own upwards; the first that is not ends it. */
export function dropEmptyFolders(root: Root, aside: Inside): void {
  const whole = (aside.raw ?? Buffer.from(aside.path)).toString('latin1');
  const top = `${PRIVATE_FOLDER}/${ASIDE}`;
  for (let folder = folderOf(whole); folder.startsWith(`${top}/`); folder = folderOf(folder))
    try {
      const raw = Buffer.from(folder, 'latin1');
      rmdirSync(root.place({ path: raw.toString('utf8'), raw }));
    } catch {
      return;
    }
}
