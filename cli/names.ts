// Things that people name on the command line, found by that name in any case.
import type { ProjectId } from '#core/model.ts';
import { archiveRows } from '#server/archives/shelf.ts';
import type { Database } from '#server/db/connect.ts';
import { projectNames } from '#server/projects/projects.ts';
import { Refused } from '#server/runtime/refused.ts';

/** The one of that name. Throws Refused with all there are where there is none. */
export function named<One extends { name: string }>(what: string, all: readonly One[], name: string): One {
  const one = all.find((each) => each.name.toLowerCase() === name.toLowerCase());
  if (!one)
    throw new Refused(
      `There is no ${what} named ${name}. Known are: ${all.map((each) => each.name).join(', ') || 'none'}. Nothing was added.`,
    );
  return one;
}

export async function projectNamed(db: Database, name: string): Promise<{ projectId: ProjectId; name: string }> {
  return named('project', await projectNames(db), name);
}

/** A sealed archive by its folder on the carriers. */
export async function sealedNamed(db: Database, folder: string) {
  const sealed = (await archiveRows(db)).filter((row) => row.state === 'sealed');
  return named(
    'sealed archive',
    sealed.map((row) => ({ ...row, name: row.folder })),
    folder,
  );
}
