// An archive that was written by Keramion, of this house or another, known by its own lists: what its files are, and the sum that
// every copy of it is known by. Asked when a folder is taken in.
import { z } from 'zod';
import { MANIFEST, parseManifest, PAYLOAD, TAG_MANIFEST } from '#core/fixity/bagit.ts';
import { ENCODINGS } from '#core/archive/encoding.ts';
import { sha512 } from '#disk/sums.ts';
import type { Carrier } from '../carriers/kind.ts';
import type { Db } from '../db/connect.ts';
import type { archiveFiles } from '../db/schema/archives.ts';
import { volumes } from '../db/schema/stores.ts';
import { readText } from './copies.ts';

const CONTENTS = 'keramion-archive.json';

const contents = z.object({
  format: z.literal('keramion-archive 1'),
  project: z.string().max(250),
  /** Of an archive on several carriers: which of its parts, and the folders of all. */
  part: z.number().int().optional(),
  of: z.array(z.string()).optional(),
  elsewhere: z
    .array(
      z.object({
        folder: z.string().max(250),
        files: z.array(z.object({ path: z.string(), sha512: z.string().length(128).nullable() })),
      }),
    )
    .optional(),
  files: z.array(
    z.object({
      path: z.string(),
      role: z.enum(['media', 'part', 'encoded', 'document', 'original document']),
      encoded: z.enum(ENCODINGS).optional(),
      frames: z.object({ from: z.number().nullable(), to: z.number().nullable() }).optional(),
      staysWhole: z.string().optional(),
      original: z.object({
        volume: z.string(),
        path: z.string(),
        sizeBytes: z.number().int().nonnegative(),
        modified: z.iso.datetime(),
      }),
    }),
  ),
});

type Facts = Pick<
  typeof archiveFiles.$inferInsert,
  'role' | 'volumeId' | 'path' | 'modifiedUs' | 'ofBytes' | 'partFrom' | 'partTo' | 'encoding' | 'measured' | 'whyWhole'
>;

export interface OwnBag {
  manifestSha512: string;
  /** Whose archive it is, as it says itself. */
  project: string;
  /** By the path of each in the bag. */
  files: ReadonlyMap<string, Facts>;
  /** What belongs to it and lies in another, by the place in its payload. */
  elsewhere: readonly { folder: string; path: string; sha512: string }[];
}

/** What an archive of ours says of itself; null of anything else, and where its lists are not what they were. */
export async function ownBag(db: Db, carrier: Carrier, folder: string): Promise<OwnBag | null> {
  const text = async (name: string) => {
    try {
      return await readText(carrier, folder, `${PAYLOAD}/${name}`);
    } catch {
      // Whatever it is, it is no list of ours: then all that lies there is taken as it was found.
      return null;
    }
  };
  const tags = await text(TAG_MANIFEST);
  const listed = tags === null ? null : parseManifest(tags, 128);
  if (!listed?.ok || ![MANIFEST, CONTENTS].every((name) => listed.entries.some((entry) => entry.path === name)))
    return null;
  let said: z.infer<typeof contents> | null = null;
  for (const { path, hash } of listed.entries) {
    const own = await text(path);
    if (own === null || sha512(own) !== hash) return null;
    if (path === CONTENTS) said = contents.safeParse(json(own)).data ?? null;
  }
  if (!said) return null;
  const known = new Map(
    (await db.select({ id: volumes.id, name: volumes.name }).from(volumes)).map(({ id, name }) => [name, id]),
  );
  return {
    manifestSha512: sha512(tags!),
    project: said.project,
    elsewhere: elsewhereOf(said),
    files: new Map(
      said.files.map(({ path, role, frames, encoded, staysWhole, original }) => [
        path,
        {
          ...{ role, volumeId: known.get(original.volume) ?? 0, path: original.path },
          modifiedUs: Date.parse(original.modified) * 1000,
          ...(role === 'part'
            ? {
                ofBytes: original.sizeBytes,
                partFrom: frames?.from ?? null,
                partTo: frames?.to ?? null,
                measured: true,
              }
            : {}),
          ...(role === 'encoded' ? { ofBytes: original.sizeBytes, encoding: encoded ?? null, measured: true } : {}),
          whyWhole: staysWhole ?? null,
        },
      ]),
    ),
  };
}

/** Of an archive on several carriers its first part is the whole, and the others stand for themselves. */
function elsewhereOf({ part = 1, of = [], elsewhere = [] }: z.infer<typeof contents>): OwnBag['elsewhere'] {
  return elsewhere.flatMap(({ folder, files }) =>
    part > 1 && of.includes(folder)
      ? []
      : files.flatMap(({ path, sha512: sum }) =>
          sum !== null && path.startsWith(`${PAYLOAD}/`)
            ? [{ folder, path: path.slice(PAYLOAD.length + 1), sha512: sum }]
            : [],
        ),
  );
}

function json(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}
