// Names inside Keramion's own folder. Each says whose it is: the site's mark, the job's mark and the lease of the worker
// that made it, all random, so that neither another database of ours nor a worker that wakes up after its lease is gone
// can take one for its own. They lie flat in the folder, which is there since the volume was registered: a volume that is
// full to the last byte can still take one.
import { readdirSync, renameSync } from 'node:fs';
import { readdir } from 'node:fs/promises';
import path from 'node:path';
import { isMissing, look } from './facts.ts';
import { PRIVATE_FOLDER } from './identity.ts';
import type { Root } from './root.ts';

/** What lies under a private name: a file on its way out, a copy not placed yet, a range of one, a text being written, a folder being built. */
export const PRIVATE_USES = ['out', 'copy', 'cut', 'text', 'archive', 'restore'] as const;
export type PrivateUse = (typeof PRIVATE_USES)[number];

/** Folder in it for what was set aside: see disk/aside.ts. */
export const ASIDE = 'aside';

/** Folder in it for snapshots of documents: see disk/snapshots.ts. */
export const SNAPSHOTS = 'snapshots';

export interface PrivateName {
  use: PrivateUse;
  site: string;
  job: string;
  lease: string;
  /** Number of the item it belongs to. */
  item: number;
}

const UUID = '[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}';
const PATTERN = new RegExp(`^(${PRIVATE_USES.join('|')})\\.(${UUID})\\.(${UUID})\\.(${UUID})\\.(\\d{1,15})$`);

export const privateName = ({ use, site, job, lease, item }: PrivateName): string =>
  `${use}.${site}.${job}.${lease}.${item}`;

export function parsePrivateName(name: string): PrivateName | null {
  const match = PATTERN.exec(name);
  if (!match) return null;
  const [, use, site, job, lease, item] = match;
  return { use: use as PrivateUse, site: site!, job: job!, lease: lease!, item: Number(item) };
}

/** The private names on a volume or carrier: those that parse, and what else lies in the folder. */
export function privateNames(root: Root): { known: PrivateName[]; foreign: string[] } {
  const known: PrivateName[] = [];
  const foreign: string[] = [];
  let names: string[];
  try {
    names = readdirSync(root.placeText(PRIVATE_FOLDER));
  } catch (error) {
    if (isMissing(error)) return { known, foreign };
    throw error;
  }
  for (const name of names) {
    const parsed = parsePrivateName(name);
    if (parsed) known.push(parsed);
    else if (name !== 'identity.json' && name !== ASIDE && name !== SNAPSHOTS) foreign.push(name);
  }
  return { known, foreign };
}

/** The same of the volume at a path, without opening it: for a look in passing. Empty where it is not there. */
export async function privateNamesAt(volume: string): Promise<PrivateName[]> {
  try {
    return (await readdir(path.join(volume, PRIVATE_FOLDER))).flatMap((name) => parsePrivateName(name) ?? []);
  } catch {
    return [];
  }
}

/** The private names of one worker's lease on one job. */
export class PrivateNames {
  constructor(private readonly own: { site: string; job: string; lease: string }) {}

  /** Inside the volume or carrier. */
  path(use: PrivateUse, item: number): string {
    return `${PRIVATE_FOLDER}/${privateName({ use, item, ...this.own })}`;
  }

  /** Where something lies that was put there. */
  placeOfOwn(root: Root, use: PrivateUse, item: number): string {
    return root.placeOfOwn(this.path(use, item));
  }

  place(root: Root, use: PrivateUse, item: number): string {
    return root.placeText(this.path(use, item));
  }

  /**
   * Takes what earlier leases of this very job left under this lease's names. From then on whoever had such a lease
   * cannot reach it any more.
   */
  takeOver(root: Root): void {
    for (const name of privateNames(root).known) {
      if (name.site !== this.own.site || name.job !== this.own.job || name.lease === this.own.lease) continue;
      const mine = this.place(root, name.use, name.item);
      // Two leases each left one: the second is settled by the sweep, when this one is.
      if (look(mine).is !== 'gone') continue;
      try {
        renameSync(root.placeText(`${PRIVATE_FOLDER}/${privateName(name)}`), mine);
      } catch (error) {
        if (!isMissing(error)) throw error;
      }
    }
  }
}
