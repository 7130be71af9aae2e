// Every kind of step that the server does. Whoever adds one writes its file and one line here; its core part has a line in
// core/steps/registry.ts.
import { Registry } from '#core/registry.ts';
import type { StepWhat } from '#core/steps/registry.ts';
import { UnknownStepKind } from '#core/steps/registry.ts';
import { archiveProject } from './archive.ts';
import { copyArchive } from './copy-archive.ts';
import { copyHome } from './copy-home.ts';
import type { ServerStep } from './kind.ts';
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

const kinds = new Registry<ServerStep>('step of the server');

export function addServerStep<Params extends object>(step: ServerStep<Params>): void {
  kinds.add(step.kind.kind, step as unknown as ServerStep);
}

addServerStep(removeCaches);
addServerStep(removeOriginals);
addServerStep(archiveProject);
addServerStep(copyArchive);
addServerStep(handOver);
addServerStep(moveHome);
addServerStep(parkMedia);
addServerStep(copyHome);
addServerStep(restoreArchive);
addServerStep(putBack);
addServerStep(relinkMedia);
addServerStep(removeFiles);
addServerStep(removeFolders);
addServerStep(setAside);
addServerStep(keepOther);
addServerStep(takeBack);
addServerStep(removeAside);

/** Throws UnknownStepKind. */
export function serverStepOf(what: Pick<StepWhat, 'kind'>): ServerStep {
  const step = kinds.get(what.kind);
  if (!step) throw new UnknownStepKind(what.kind);
  return step;
}
