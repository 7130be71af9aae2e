// Several moves at once, all of them or none: a project gathered into its homes, and what it had parked brought back.
import { KINDS_WITH_HOMES } from '#core/homes/homes.ts';
import type { Kind, ProjectId } from '#core/model.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { MEDIA_KINDS } from '../db/naming.ts';
import { homesOf } from '../projects/homes.ts';
import { Refused } from '../runtime/refused.ts';
import { type Added, NothingToAdd } from './adding.ts';
import { addBorrowedIn } from './copy-home.ts';
import { addMoveHomeIn } from './moving-items.ts';

export interface Gathered {
  moved: { files: number; bytes: number };
  copied: { files: number; bytes: number };
}

interface Of {
  projectId: ProjectId;
  now: Date;
}

/** Adds the moving home of all its own that has strayed, and the copying of what it borrows. */
export const addGathering = (db: Database, { projectId, now }: Of): Promise<Gathered> =>
  inTransaction(db, async (tx) => {
    const moved = sumOf(await movesOf(tx, { projectId, now, kinds: KINDS_WITH_HOMES }));
    const copied = sumOf(await addBorrowedIn(tx, { projectId, now }));
    if (moved.files + copied.files === 0)
      throw new Refused('All it has homes for is at home, and it borrows nothing. Nothing was added.');
    return { moved, copied };
  });

/** Adds the moving home of what the project has parked elsewhere. */
export const addBringingBack = (db: Database, { projectId, now }: Of): Promise<{ files: number; bytes: number }> =>
  inTransaction(db, async (tx) => {
    const sum = sumOf(await movesOf(tx, { projectId, now, kinds: MEDIA_KINDS, parked: true }));
    if (sum.files === 0)
      throw new Refused('Nothing of it is parked that has a home, or it is in a plan already. Nothing was added.');
    return sum;
  });

async function movesOf(
  tx: Transaction,
  { projectId, now, kinds, parked }: Of & { kinds: readonly Kind[]; parked?: boolean },
): Promise<Added[]> {
  const homes = await homesOf(tx, projectId);
  const added: Added[] = [];
  for (const { kind } of homes.filter((home) => kinds.includes(home.kind)))
    try {
      added.push(await addMoveHomeIn(tx, { projectId, kind, now, parked }));
    } catch (error) {
      // A kind that is all at home is none to move.
      if (!(error instanceof NothingToAdd)) throw error;
    }
  return added;
}

const sumOf = (added: readonly Added[]) => ({
  files: added.reduce((sum, one) => sum + one.files, 0),
  bytes: added.reduce((sum, one) => sum + one.bytes, 0),
});
