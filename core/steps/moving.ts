// What steps that move files share: what they change, and what is said of documents that name the files.
import type { VolumeId } from '../model.ts';
import { counted } from '../wording/amounts.ts';
import { leaving, type StepKind } from './kind.ts';

/** Bytes leave the volumes of the items and come to the one they move to. */
export const movingTo = (
  { volumeId }: { volumeId: VolumeId },
  step: Parameters<StepKind['effect']>[1],
): ReturnType<StepKind['effect']> => ({
  volumes: [...leaving(step), ...step.onVolumes.map((part) => ({ volumeId, bytes: part.bytes }))],
  carriers: [],
});

export const relinkedWords: NonNullable<StepKind['findingWords']> = {
  'documents relinked': ({ facts }) => ({
    what: `${counted(Number(facts.documents), 'document')} will get a new version`,
    detail: `It names the new places and lies beside the old one, for example as ${facts.example}. The old one stays as it is.`,
  }),
};
