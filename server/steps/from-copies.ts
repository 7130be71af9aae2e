// One file of an archive from the copies there are to a private name on a volume, proved against what was sealed before
// anybody gives it a name that people see. The steps that restore and put back run it.
import { PAYLOAD } from '#core/fixity/bagit.ts';
import { codeOf } from '#disk/facts.ts';
import { keepTime } from '#disk/folders.ts';
import { removeOwn } from '#disk/write.ts';
import type { CopyPart, TrustedSums } from '../archives/copies.ts';
import { readFromCarrier } from '../carriers/copying.ts';
import { CarrierAway } from '../carriers/kind.ts';
import type { archives } from '../db/schema/archives.ts';
import type { JobContext } from '../runtime/context.ts';
import { Refused } from '../runtime/refused.ts';
import type { PartSources } from './part-sources.ts';

export interface Bringing {
  context: JobContext;
  archive: Pick<typeof archives.$inferSelect, 'name'>;
  sources: PartSources;
  /** What is said where it ends early: what became of what was brought until then. */
  ended: { nothing: string; full: string };
}

export interface Brought {
  /** The archive's file, where that is known. */
  archiveFileId: number | null;
  partId: number;
  /** Inside the payload. */
  at: string;
  /** A private name of this job; what lies there is removed. */
  temporary: string;
  modifiedUs: number;
}

/** From another copy where one is damaged: nobody is asked for that, and it is told. Throws Refused where none is whole. */
export async function bring(bringing: Bringing, file: Brought): Promise<void> {
  try {
    for await (const source of readable(bringing, file.partId)) {
      const damage = await bringFrom(bringing, file, source);
      if (damage === null) return;
      await bringing.sources.noteDamage(source.part, damage, file.archiveFileId);
    }
    throw noneLeft(bringing);
  } catch (error) {
    // Also where another has the work by now: the name is of this lease, and nobody else looks for it.
    removeOwn(file.temporary);
    throw error;
  }
}

export async function* readable({ sources, ended }: Pick<Bringing, 'sources' | 'ended'>, partId: number) {
  try {
    yield* sources.of(partId);
  } catch (error) {
    throw error instanceof CarrierAway ? notThere(error.carrier, ended.nothing) : error;
  }
}

export const noneLeft = ({ archive, sources: { damages }, ended }: Pick<Bringing, 'archive' | 'sources' | 'ended'>) =>
  new Refused(
    `This copy of ${archive.name} is damaged: ${damages.at(-1) ?? 'no good one is left'}. ${ended.nothing} Restore from another copy.`,
  );

export const notThere = (name: string, nothing: string) =>
  new Refused(
    `${name} cannot be reached, or another disk is in its place. ${nothing} Connect it and add the restore again.`,
  );

/** Says what is wrong with the copy; null where the file was brought, and is what was sealed. */
async function bringFrom(
  bringing: Bringing,
  file: Brought,
  { part, sums }: { part: CopyPart; sums: TrustedSums },
): Promise<string | null> {
  const { context } = bringing;
  context.check();
  const at = `${PAYLOAD}/${file.at}`;
  removeOwn(file.temporary);
  let result;
  try {
    result = await readFromCarrier(
      context.pools.carriers,
      { from: { carrier: part.place, of: part.folder, at, strong: !sums.xxh64 }, to: file.temporary },
      { progress: (bytes) => context.add(bytes), stop: context.stop },
    );
  } catch (error) {
    return damageIn(bringing, error, { part, at });
  }
  const { xxh64, sha512 } = sums;
  const isSealed = xxh64 ? sha512.has(at) && xxh64.get(at) === result.xxh64 : sha512.get(at) === result.sha512;
  if (!isSealed) {
    removeOwn(file.temporary);
    return `${at} is not what was sealed`;
  }
  keepTime(file.temporary, file.modifiedUs);
  return null;
}

/** Only what the carrier says counts against the copy; what the volume says is trouble of the volume, and is thrown. */
async function damageIn(
  { context, ended }: Bringing,
  error: unknown,
  { part, at }: { part: CopyPart; at: string },
): Promise<string> {
  context.check();
  const code = codeOf(error);
  if (code === 'ENOSPC' || code === 'EDQUOT') throw new Refused(ended.full);
  if (code === 'carrier_away') throw notThere(part.carrier, ended.nothing);
  await context.assertLease();
  if (['ENOENT', 'EIO', 'not a file', 'ELOOP'].includes(code)) return `${at} cannot be read (${code})`;
  throw error;
}
