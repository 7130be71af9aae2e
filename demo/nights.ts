// Three weeks of the demo house's nights, as its worker would have left them: caches that went by a rule, with receipts and their items, and a
// volume that was read again; one night failed, and was caught up.
import { randomUUID } from 'node:crypto';
import { eq } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import { removeCaches } from '#core/steps/remove-caches.ts';
import { inTransaction, type Database, type Transaction } from '#server/db/connect.ts';
import { jobs } from '#server/db/schema/jobs.ts';
import { plans, stepItems, steps } from '#server/db/schema/plans.ts';
import { volumes } from '#server/db/schema/stores.ts';
import { NIGHT_RULES } from '#server/plan/night.ts';
import { keptRules, saveRule } from '#server/reclaim/cache-rules.ts';
import { ITEM_LINES, tallyOf } from '#server/runtime/run-items.ts';
import { writeReceipt } from '#server/runtime/receipts.ts';
import type { By } from '#server/stores/places.ts';
import { chance } from './chance.ts';

const DAY_MS = 86_400_000;
const NIGHTS = 21;
/** So many nights ago the volume was away. */
const MISSED = 4;
const RULE = { by: 'age', days: 250 } as const;
const CACHES = 'loft-2 scratch';
const READ = 'Ropewalk projects';

/** The job of something that ended on its own. */
async function past(
  tx: Transaction,
  job: Pick<typeof jobs.$inferInsert, 'kind' | 'title' | 'who' | 'params' | 'stepId' | 'trouble'>,
  { at, seconds }: { at: Date; seconds: number },
): Promise<{ jobId: number; finishedAt: Date }> {
  const finishedAt = new Date(at.getTime() + seconds * 1000);
  const [{ insertId }] = await tx.insert(jobs).values({
    ...{ ...job, mark: randomUUID(), state: job.trouble ? 'failed' : 'done', worker: 'demo', attempts: 1 },
    ...{ createdAt: at, startedAt: at, finishedAt },
  });
  return { jobId: insertId, finishedAt };
}

/** At an hour of the clock of so many nights ago. */
function nightAt(now: Date, ago: number, hour: number, minute: number): Date {
  const at = new Date(now.getTime() - ago * DAY_MS);
  at.setHours(hour, minute, 0, 0);
  return at;
}

export async function leaveNights(db: Database, { who, now }: By): Promise<void> {
  const luck = chance(7);
  const [scratch] = await db.select().from(volumes).where(eq(volumes.name, CACHES));
  const [read] = await db.select().from(volumes).where(eq(volumes.name, READ));
  await db.update(volumes).set({ readEveryHours: 24 }).where(eq(volumes.id, read!.id));
  const since = nightAt(now, NIGHTS + 1, 16, 20);
  await saveRule(
    db,
    { volumeId: scratch!.id as VolumeId, projectId: null, rule: RULE, except: [], atNight: true, mostBytes: 20e9 },
    { who, now: since },
  );
  const [rule] = await keptRules(db);
  for (let ago = NIGHTS; ago >= 1; ago--)
    await inTransaction(db, async (tx) => {
      const of = { volumeId: scratch!.id, rule: rule!.words.slice(0, 200), cutDay: dayOf(now) - ago - RULE.days };
      if (ago !== MISSED)
        await removed(tx, of, {
          at: nightAt(now, ago, 1, luck.between(5, 25)),
          seconds: luck.between(20, 190) / 10,
          // What was left in the night that failed goes in the one that comes.
          sizes: Array.from({ length: luck.between(6, 30) * (ago === MISSED - 1 ? 2 : 1) }, () =>
            luck.between(4e6, 46e6),
          ),
        });
      await readAgain(tx, { id: read!.id, name: READ }, { now, ago, seconds: luck.between(11, 48) / 10 });
    });
}

const dayOf = (at: Date): number => Math.floor(at.getTime() / DAY_MS);

interface Of {
  volumeId: number;
  rule: string;
  cutDay: number;
}

async function removed(
  tx: Transaction,
  { volumeId, rule, cutDay }: Of,
  { at, seconds, sizes }: { at: Date; seconds: number; sizes: readonly number[] },
): Promise<void> {
  const params = { cutDay, rule };
  const title = removeCaches.title(params, {});
  const bytes = sizes.reduce((sum, one) => sum + one, 0);
  const doneAt = new Date(at.getTime() + seconds * 1000);
  const run = { runBy: NIGHT_RULES, runAt: at, doneAt };
  const [{ insertId: planId }] = await tx.insert(plans).values({ state: 'done', draft: null, createdAt: at, ...run });
  const [{ insertId: stepId }] = await tx.insert(steps).values({
    ...{ planId, what: { kind: removeCaches.kind, ...params }, title, files: sizes.length, bytes, freedBytes: bytes },
  });
  await tx.insert(stepItems).values(
    sizes.map((sizeBytes, i) => ({
      ...{ stepId, volumeId, fileId: 0, sizeBytes, state: 'done' as const },
      path: `cache/frames/${cutDay}/${String(i + 1).padStart(5, '0')}.frame`,
      modifiedUs: (cutDay * DAY_MS - i * 60_000) * 1000,
    })),
  );
  const { jobId } = await past(
    tx,
    { kind: removeCaches.kind, title, who: NIGHT_RULES, params: {}, stepId },
    { at, seconds },
  );
  await tx.update(steps).set({ jobId }).where(eq(steps.id, stepId));
  const tally = await tallyOf(tx, stepId);
  await writeReceipt(tx, {
    ...{ at: doneAt, who: NIGHT_RULES, action: removeCaches.action, title, projectId: null, jobId, stepId },
    ...{ files: tally.files, bytes, held: 0, itemsSha256: tally.itemsSha256 },
    facts: {
      ...{ held: {}, notReached: 0, itemLines: ITEM_LINES },
      freed: { allocatedBytes: bytes, linkedBytes: 0, measuredBytes: bytes },
    },
  });
}

async function readAgain(
  tx: Transaction,
  { id, name }: { id: number; name: string },
  { now, ago, seconds }: { now: Date; ago: number; seconds: number },
): Promise<void> {
  const job = { kind: 'read volume', title: `Read ${name}`, who: 'the schedule', params: { volumeId: id } };
  if (ago !== MISSED) return void (await past(tx, job, { at: nightAt(now, ago, 2, 40), seconds }));
  const trouble = `${name} was taken away while it was read. What the last reading told of it is kept; nothing on it was changed. Connect it, and it is read again by itself.`;
  await past(tx, { ...job, trouble }, { at: nightAt(now, ago, 2, 40), seconds: 3.1 });
  await past(tx, job, { at: nightAt(now, ago, 9, 12), seconds });
}
