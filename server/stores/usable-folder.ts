// The folder that somebody names for a new volume or carrier: it must be there, and the identity must fit in.
import path from 'node:path';
import { lookAtStore, type StoreLook } from '#disk/identity.ts';
import { Refused } from '../runtime/refused.ts';

/** Throws Refused with what is wrong. `name` is what the store is called in its sentences. */
export async function usableFolder(
  given: string,
  name: string,
): Promise<{ root: string; look: Extract<StoreLook, { state: 'reachable' }> }> {
  if (!path.isAbsolute(given))
    throw new Refused(
      `${given} is not a full path. Give the path from the top of the machine. Nothing was registered.`,
    );
  const root = path.resolve(given);
  const look = await lookAtStore(root);
  if (look.state === 'unreachable')
    throw new Refused(`There is no folder at ${root} that can be read (${look.code}). Nothing was registered.`);
  if (!look.writable)
    throw new Refused(
      `${root} cannot be written to, so ${name} could not be given its identity. Nothing was registered.`,
    );
  return { root, look };
}
