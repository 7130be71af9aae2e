// Every kind of step there is. Whoever adds one writes its file and one line here.
import type { StepWhat } from '../plan/model.ts';
import { Registry } from '../registry.ts';
import { archiveProject } from './archive.ts';
import { copyArchive } from './copy-archive.ts';
import { copyHome } from './copy-home.ts';
import type { StepKind } from './kind.ts';
import { handOver } from './hand-over.ts';
import { keepOther } from './keep-other.ts';
import { moveHome } from './move-home.ts';
import { parkMedia } from './park.ts';
import { putBack } from './put-back.ts';
import { relinkMedia } from './relink.ts';
import { removeAside } from './remove-aside.ts';
import { removeCaches } from './remove-caches.ts';
import { removeFiles } from './remove-files.ts';
import { removeFolders } from './remove-folders.ts';
import { removeOriginals } from './remove-originals.ts';
import { restoreArchive } from './restore.ts';
import { setAside } from './set-aside.ts';
import { takeBack } from './take-back.ts';

export type { StepWhat };

const kinds = new Registry<StepKind>('kind of step');

export function addStepKind<Params extends object>(kind: StepKind<Params>): void {
  kinds.add(kind.kind, kind as unknown as StepKind);
}

addStepKind(removeCaches);
addStepKind(removeOriginals);
addStepKind(archiveProject);
addStepKind(copyArchive);
addStepKind(handOver);
addStepKind(moveHome);
addStepKind(parkMedia);
addStepKind(copyHome);
addStepKind(restoreArchive);
addStepKind(putBack);
addStepKind(relinkMedia);
addStepKind(removeFiles);
addStepKind(removeFolders);
addStepKind(setAside);
addStepKind(keepOther);
addStepKind(takeBack);
addStepKind(removeAside);

/** A step of a kind that this version does not know: written by a later one, or by hand. */
export class UnknownStepKind extends Error {
  override readonly name = 'UnknownStepKind';
  constructor(readonly kind: string) {
    super(`There is no kind of step called ${kind}.`);
  }
}

export function stepKindOf(what: Pick<StepWhat, 'kind'>): StepKind {
  const kind = kinds.get(what.kind);
  if (!kind) throw new UnknownStepKind(what.kind);
  return kind;
}

export const allStepKinds = (): StepKind[] => [...kinds.all()];

/** The parameters of a step of this kind. Throws a ZodError where they do not fit, an Error where it is of another kind. */
export function paramsOf<Params extends object>(kind: StepKind<Params>, what: StepWhat): Params {
  if (what.kind !== kind.kind)
    throw new Error(`A step that does ${what.kind} was taken for one that does ${kind.kind}.`);
  return kind.params.parse(what);
}

/** A step's kind with its parameters: for whoever goes over steps of all kinds. */
export function kindAndParams(what: StepWhat): { kind: StepKind; params: object } {
  const kind = stepKindOf(what);
  return { kind, params: kind.params.parse(what) };
}
