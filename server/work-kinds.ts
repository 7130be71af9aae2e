// Every kind of work that is no step of a plan. Whoever adds one writes it beside what it does, and one line here.
import { Registry } from '#core/registry.ts';
import { takenDocumentsWork } from './archives/kin.ts';
import { readBackWork } from './archives/read-back.ts';
import { takeInWork } from './archives/take-in.ts';
import { viewingWork } from './archives/viewing-work.ts';
import { ownBackupWork } from './backup/own-backup.ts';
import { checkWork } from './check/check.ts';
import { makeFoldersWork } from './projects/make-folders.ts';
import { postersWork } from './projects/poster-work.ts';
import { assessWork } from './reclaim/assess.ts';
import { compareWork } from './reclaim/twins.ts';
import { applyKindsWork } from './readings/apply-kinds.ts';
import { readVolumeWork } from './readings/reading-work.ts';
import type { WorkKind } from './runtime/work-kind.ts';
import { putBesideWork } from './snapshots/put-beside.ts';
import { snapshotWork } from './snapshots/taking.ts';
import { weighWork } from './steps/archive-parts.ts';
import { tidyWork } from './steps/tidy.ts';
import { listFoldersWork } from './stores/folder-list.ts';
import { changeVolumeWork, registerCarrierWork, registerVolumeWork } from './stores/register.ts';

const kinds = new Registry<WorkKind>('kind of work');

export function addWorkKind<Params extends object>(kind: WorkKind<Params>): void {
  kinds.add(kind.kind, kind as unknown as WorkKind);
}

addWorkKind(readVolumeWork);
addWorkKind(applyKindsWork);
addWorkKind(makeFoldersWork);
addWorkKind(registerVolumeWork);
addWorkKind(registerCarrierWork);
addWorkKind(changeVolumeWork);
addWorkKind(listFoldersWork);
addWorkKind(tidyWork);
addWorkKind(checkWork);
addWorkKind(ownBackupWork);
addWorkKind(snapshotWork);
addWorkKind(putBesideWork);
addWorkKind(postersWork);
addWorkKind(assessWork);
addWorkKind(compareWork);
addWorkKind(weighWork);
addWorkKind(readBackWork);
addWorkKind(takeInWork);
addWorkKind(takenDocumentsWork);
addWorkKind(viewingWork);

export const workKindOf = (kind: string): WorkKind | null => kinds.get(kind);
