// Which project a folder belongs to: the nearest folder on its path that a project claims. Called by the reader for
// every folder it meets, and by the service that registers projects.
import type { ProjectId, VolumeId } from '../model.ts';

/** A folder a project claims, with everything below it. */
export interface Claim {
  projectId: ProjectId;
  volumeId: VolumeId;
  folder: string;
}

/** A lookup over the claims of one volume: folder path to owner, null where no project claims it. */
export function ownersOf(claims: readonly Claim[], volumeId: VolumeId): (folder: string) => ProjectId | null {
  const byFolder = new Map(claims.filter((claim) => claim.volumeId === volumeId).map((c) => [c.folder, c.projectId]));
  if (byFolder.size === 0) return () => null;
  return (folder) => {
    for (let at = folder; ; at = at.slice(0, Math.max(0, at.lastIndexOf('/')))) {
      const owner = byFolder.get(at);
      if (owner !== undefined) return owner;
      if (at === '') return null;
    }
  };
}

/** The form in which a project's title and a folder's name are compared: lower case, words joined by '-'. */
export function slugOf(title: string): string {
  return title
    .normalize('NFC')
    .toLowerCase()
    .replace(/[^\p{L}\p{N}]+/gu, '-')
    .replace(/^-+|-+$/g, '');
}

/** True where a folder's own name is the project's: 'Night Ferry', 'night_ferry' and 'night-ferry' are one. */
export function isNamedAfter(folderName: string, slug: string): boolean {
  return slug !== '' && slugOf(folderName) === slug;
}
