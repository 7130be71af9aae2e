// Which files an archive holds encoded anew: what was asked for by kind, as far as what is known of each lets it be tried. Shaping asks for
// many at once.
import { sql } from 'drizzle-orm';
import {
  type EncodedFacts,
  encodingOf,
  encodingWork,
  guessedBytes,
  isSoundBy,
  whyAsItIs,
} from '#core/archive/encoding.ts';
import type { Kept } from '#core/archive/lengths.ts';
import type { ArchiveScope, ProjectFile } from '#core/archive/selection.ts';
import type { ProjectId } from '#core/model.ts';
import { isStillName } from '#core/units/units.ts';
import { idList } from '../db/conditions.ts';
import type { Db } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import type { Facts } from './facts.ts';
import { lengthsOf } from './lengths.ts';

interface Asked {
  files: readonly ProjectFile[];
  scope: ArchiveScope;
  facts: Facts;
  /** As it was staged, where it was: what a worker found out counts. */
  staged: (file: ProjectFile, now: Kept) => Kept;
}

/** Says of every file that is to be encoded how, or why it stays as it is. */
export async function addEncodings(
  db: Db,
  projectId: ProjectId,
  { files, scope, facts: known, staged }: Asked,
): Promise<void> {
  const pieces = inPieces(files);
  const asked = files.filter(
    (file) => !file.isDocument && file.goesWith === undefined && encodingOf(scope.encode, file) !== null,
  );
  if (asked.length === 0) return;
  const fileIds = asked.map((file) => file.fileId);
  const facts = await known.byId('essence', fileIds, (ids) => essenceOf(db, ids));
  const used = await lengthsOf(db, projectId, {
    fileIds: asked.filter((file) => file.used).map((file) => file.fileId),
    ...{ versions: scope.versions, timelines: [], facts: known },
  });
  for (const file of asked) {
    const as = encodingOf(scope.encode, file)!;
    const essence = facts.get(file.fileId) ?? null;
    const own = used.get(file.fileId);
    const why = whyAsItIs(essence, {
      name: file.name,
      isStill: isStillName(file.name) || (own?.stills.length ?? 0) > 0,
      isSpanned: pieces.has(file.fileId),
      relinks: !own || own.uses.every((use) => use.relinks),
    });
    // What cannot be encoded keeps the length that was asked for.
    if (why !== null && file.kept && file.kept.length.is !== 'whole') continue;
    const length: Kept =
      why === null
        ? {
            ...{ is: 'encoded', as, isSound: isSoundBy(essence, file.name) },
            ...{ bytes: guessedBytes(essence, file.sizeBytes, as), work: encodingWork(essence, file.sizeBytes) },
          }
        : { is: 'whole', why };
    file.kept = { length: staged(file, length), frames: 0 };
  }
}

/** Files with other pieces of the same recording, and not only with what lies beside them. */
function inPieces(files: readonly ProjectFile[]): Set<number> {
  const ending = (of: string) => of.slice(of.lastIndexOf('.')).toLowerCase();
  const endings = new Map(files.map((file) => [file.fileId, ending(file.name)]));
  return new Set(
    files.flatMap(({ goesWith, name }) =>
      goesWith !== undefined && endings.get(goesWith) === ending(name) ? [goesWith] : [],
    ),
  );
}

/** What files say of themselves that are as they were read. */
export async function essenceOf(db: Db, fileIds: readonly number[]): Promise<Map<number, EncodedFacts>> {
  const found = new Map<number, EncodedFacts>();
  for (const ids of inSlices(fileIds, 5000)) {
    const [rows] = (await db.execute(sql`
      SELECT e.file_id AS id, e.format, e.width, e.height, e.channels, e.sample_rate AS sampleRate, e.rate_num AS num, e.rate_den AS den, e.duration_frames AS frames
      FROM essence e JOIN files f ON f.id = e.file_id
      WHERE e.file_id IN ${idList(ids)} AND e.trouble IS NULL AND e.read_size_bytes = f.size_bytes AND e.read_modified_us = f.modified_us`)) as unknown as [
      {
        id: number;
        format: string;
        width: number | null;
        height: number | null;
        channels: number | null;
        sampleRate: number | null;
        num: number | null;
        den: number | null;
        frames: number | null;
      }[],
    ];
    for (const { id, format, width, height, channels, sampleRate, num, den, frames } of rows) {
      const isSound = width === null;
      const rate = isSound ? [sampleRate, 1] : [num, den];
      found.set(Number(id), {
        ...{ format, width, height, channels, sampleRate, isSound },
        frames: frames === null ? null : Number(frames),
        rate: rate[0] && rate[1] ? { num: rate[0], den: rate[1] } : null,
      });
    }
  }
  return found;
}
