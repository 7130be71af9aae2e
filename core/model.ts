// The words of the house as types: identities, duties, kinds, states. Used by every room.

type Branded<Name extends string> = number & { readonly brand: Name };
export type StationId = Branded<'StationId'>;
export type VolumeId = Branded<'VolumeId'>;
export type FolderId = Branded<'FolderId'>;
export type FileId = Branded<'FileId'>;
export type ProjectId = Branded<'ProjectId'>;
export type PlanId = Branded<'PlanId'>;
export type JobId = Branded<'JobId'>;
export type ArchiveId = Branded<'ArchiveId'>;
export type CarrierId = Branded<'CarrierId'>;

export const KINDS = [
  'source',
  'proxy',
  'render',
  'cache',
  'audio',
  'document',
  'backup',
  'library',
  'delivery',
  'other',
] as const;
/** What a file is. */
export type Kind = (typeof KINDS)[number];

export const DUTIES = ['source', 'renders', 'cache', 'documents', 'backups', 'library', 'deliveries', 'none'] as const;
/** What a volume is for; 'none' for example for a system drive. */
export type Duty = (typeof DUTIES)[number];

export const PROJECT_STATES = ['planned', 'in work', 'finishing', 'delivered', 'archived'] as const;
export type ProjectState = (typeof PROJECT_STATES)[number];

/** How a project came to be known. */
export const PROJECT_ORIGINS = ['documents', 'folder', 'template', 'carrier'] as const;
export type ProjectOrigin = (typeof PROJECT_ORIGINS)[number];

/** How much is lost if a file goes: 0 rebuilds itself, 1 can be made again, 2 a verified copy exists, 3 the only copy. */
export type Level = 0 | 1 | 2 | 3;
export const LEVEL_WORDS: Record<Level, string> = {
  0: 'rebuilds itself',
  1: 'can be made again',
  2: 'a verified copy exists',
  3: 'the only copy',
};

/** What a file was when someone last looked: enough to tell later whether it is still the same. */
export interface Expectation {
  sizeBytes: number;
  /** Modified time in whole microseconds since 1970, rounded the same way everywhere (see disk/facts.ts). */
  modifiedUs: number;
  /** Which file system and which file on it, and when anything of it last changed; null or left out where nobody looked. */
  device?: number | null;
  inode?: number | null;
  changedUs?: number | null;
}
