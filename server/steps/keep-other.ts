// Of two files that are the same the one that was proposed to stay goes aside, and the other stays. In this very step both are
// read whole; documents that name the one get new versions that name the other; and only what no document that counts uses
// any more is set aside.
import { eq, inArray, sql } from 'drizzle-orm';
import type { z } from 'zod';
import { KEPT_ELSEWHERE, KEPT_HERE, keepOther as kind } from '#core/steps/keep-other.ts';
import { joinPath } from '#core/paths.ts';
import type { Held } from '#disk/remove.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { documentsNamingItems, usedByLiving } from '../db/naming.ts';
import { files } from '../db/schema/catalogue.ts';
import { stepItems } from '../db/schema/plans.ts';
import { fileSums } from '../db/schema/worth.ts';
import type { JobContext } from '../runtime/context.ts';
import type { StoreNeed } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { finishItems, type Item, type ItemWork, runItems, type Step } from '../runtime/run-items.ts';
import { type Added, addFileStepIn, FILE_FACTS, notInAPlan } from './adding.ts';
import { readDocumentsBefore, storesOfDocuments, unreadFindings } from './documents-before.ts';
import { commonFindings, inWork } from './findings.ts';
import { serverStep } from './kind.ts';
import type { Place } from './move-documents.ts';
import { relinkedFacts, relinkedFinding, relinkPlaces } from './moving.ts';
import { volumesOfItems } from './remove.ts';
import { settingAside } from './set-aside.ts';
import { isLikeThere, type Like, likesOf, proveLikes } from './twin-proof.ts';

type Params = z.infer<typeof kind.params>;
type Pairs = readonly (readonly [number, number])[];

/** Adds the step for pairs that the last comparison found the same: the first of each goes aside, the second stays. */
export function addKeepOther(
  db: Database,
  { pairs, now }: { pairs: Pairs; now: Date },
): Promise<Pick<Added, 'files' | 'bytes'>> {
  return inTransaction(db, async (tx) => {
    const known = await knownSums(tx, pairs.flat());
    const goes = new Set(pairs.map(([one]) => one));
    const isGood = ([one, other]: Pairs[number]) =>
      one !== other && !goes.has(other) && known.has(one) && known.get(one)!.sums === known.get(other)?.sums;
    const good = pairs.filter(isGood);
    if (good.length === 0)
      throw new Refused(
        'These are not the same any more, as far as the last comparison tells. Compare again. Nothing was added.',
      );
    const added = { files: 0, bytes: 0 };
    for (const here of [false, true]) {
      const some = good.filter(([one, other]) => (known.get(one)!.volumeId === known.get(other)!.volumeId) === here);
      if (some.length === 0) continue;
      const params = { pairs: some.map(([one, other]): [number, number] => [one, other]), here };
      const { files, bytes } = await addFileStepIn(tx, { kind, params, names: {}, now }, async (_tx, stepId) => {
        await tx.execute(sql`
        INSERT INTO step_items (${FILE_FACTS.columns}) SELECT ${stepId}, ${FILE_FACTS.values}
        FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id AND v.retired_at IS NULL
        WHERE f.gone_at IS NULL AND f.id IN ${some.map(([one]) => one)} AND ${notInAPlan}`);
        return 'They are gone, or in a plan already. Nothing was added.';
      });
      added.files += files;
      added.bytes += bytes;
    }
    return added;
  });
}

/** Of files that were compared whole: size and sum, and where they lie. */
async function knownSums(tx: Transaction, ids: readonly number[]) {
  const known = new Map<number, { sums: string; volumeId: number }>();
  for (const some of inSlices([...new Set(ids)], 1000))
    for (const row of await tx
      .select({ id: files.id, volumeId: files.volumeId, sizeBytes: fileSums.sizeBytes, xxh64: fileSums.xxh64 })
      .from(fileSums)
      .innerJoin(files, eq(files.id, fileSums.fileId))
      .where(inArray(fileSums.fileId, [...some])))
      if (row.xxh64 !== null) known.set(row.id, { sums: `${row.sizeBytes} ${row.xxh64}`, volumeId: row.volumeId });
  return known;
}

interface Proved {
  likes: ReadonlyMap<number, Like>;
  relinked: Awaited<ReturnType<typeof relinkPlaces>>;
}

/** Reads both of each pair, then has documents name the one that stays. */
async function prove(context: JobContext, step: Step, { pairs, here }: Params): Promise<Proved> {
  context.rename('comparing');
  const stays = new Map(pairs);
  const likes = (await likesOf(context.db, step.id, { here })).filter(
    (like) => stays.get(Number(like.fileId)) === Number(like.likeId),
  );
  const proved = new Map<number, Like>();
  for (const ids of inSlices([...new Set(likes.map((like) => Number(like.fileId)))], 500)) {
    const items = await context.db
      .select()
      .from(stepItems)
      .where(sql`${stepItems.stepId} = ${step.id} AND ${inArray(stepItems.fileId, [...ids])}`);
    for (const [fileId, like] of await proveLikes(context, items, likes)) proved.set(fileId, like);
    await context.checkIn();
  }
  // A name that is no text cannot be written into a document.
  const places = [...proved].flatMap(([fileId, like]): [number, Place][] =>
    like.rawName || like.rawFolder
      ? []
      : [[fileId, { volumeId: Number(like.volumeId), path: joinPath(like.folder, like.name) }]],
  );
  const relinked = await relinkPlaces(context, new Map(places));
  context.rename(kind.phase);
  return { likes: proved, relinked };
}

async function lastLook(context: JobContext, { likes }: Proved, items: readonly Item[]): Promise<Map<number, Held>> {
  const held = new Map<number, Held>();
  const used = await usedByLiving(
    context.db,
    items.map((item) => item.fileId),
    { newest: true },
  );
  for (const item of items) {
    const like = likes.get(item.fileId);
    if (!like || !(await isLikeThere(context, like))) held.set(item.id, { done: false, reason: 'no good copy' });
    else if (used.has(item.fileId)) held.set(item.id, { done: false, reason: 'in use' });
  }
  return held;
}

function workOf(context: JobContext, step: Step, params: Params): ItemWork {
  let proved: Proved = { likes: new Map(), relinked: { versions: [], left: [] } };
  const { here } = params;
  const aside = settingAside(context, step, { level: here ? 3 : 2, reason: here ? KEPT_HERE : KEPT_ELSEWHERE });
  return {
    kind,
    projectId: null,
    ...aside,
    prepare: async () => {
      await readDocumentsBefore(context, step.id);
      proved = await prove(context, step, params);
    },
    lastLook: (items) => lastLook(context, proved, items),
    lastWords: async (tx, tally, ending) => ({
      ...(await aside.lastWords!(tx, tally, ending)),
      ...relinkedFacts(proved.relinked),
    }),
  };
}

export const keepOther = serverStep({
  kind,
  findings: async (db, step) => [
    ...(await commonFindings(db, step)),
    ...(await inWork(db, step)),
    ...(await unreadFindings(db, step)),
    ...(await relinkedFinding(db, step, await documentsNamingItems(db, step.stepId))),
  ],
  async stores(tx, step, { here }) {
    const own = [...(await volumesOfItems(tx, step.id)), ...(await storesOfDocuments(tx, step.id))];
    const naming = await documentsNamingItems(tx, step.id);
    const likes = await likesOf(tx, step.id, { here });
    const changed = new Set(
      [...own.filter((need) => need.mode === 'change'), ...naming].map((one) =>
        'volumeId' in one ? one.volumeId : one.id,
      ),
    );
    return [
      ...own,
      ...naming.flatMap(({ volumeId }): StoreNeed[] => [
        { store: 'volume', id: volumeId, mode: 'change' },
        { store: 'catalogue', id: volumeId, mode: 'change' },
      ]),
      ...likes
        .filter((like) => !changed.has(Number(like.volumeId)))
        .map((like): StoreNeed => ({ store: 'volume', id: Number(like.volumeId), mode: 'look' })),
    ];
  },
  run: (context, step, params) => runItems(context, step, workOf(context, step, params)),
  giveUp: (context, step, params) =>
    finishItems(context, step, {
      work: workOf(context, step, params),
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
