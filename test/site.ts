// A small real site for service tests: folders on disk, registered and read, with pools that the test ends.
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import pino from 'pino';
import type { CarrierId, Duty, PlanId, VolumeId } from '#core/model.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { openQuestions } from '#server/runtime/questions.ts';
import { jobs } from '#server/db/schema/jobs.ts';
import { currentPlan, runPlan } from '#server/plan/plan.ts';
import type { Pools } from '#server/runtime/context.ts';
import { readDocuments } from '#server/readings/read-documents.ts';
import { readVolume } from '#server/readings/read-volume.ts';
import { lookAtStores, signIn, signOut } from '#server/stores/reach.ts';
import { addCarrier, addVolume } from '#server/stores/stores.ts';
import { checkSums } from '#server/check/sums.ts';
import { checkLedger } from '#server/check/check.ts';
import { endPools, newPools, startWorker, type Worker } from '#server/worker.ts';
import { testDatabase, type TestDatabase } from './database.ts';

/** Threads take a second to start, so the tests of one file share them. */
const pools: Pools = newPools();
afterAll(() => endPools(pools));

let workers = 0;

export class TestSite {
  readonly root = mkdtempSync(path.join(os.tmpdir(), 'site-'));
  readonly pools = pools;
  /** The time of day for work, where it is to be another. */
  clock?: () => Date;
  /** False for a test that forges what the check is there to find. */
  checked = true;
  private constructor(readonly database: TestDatabase) {}

  static async open(): Promise<TestSite> {
    return new TestSite(await testDatabase());
  }

  get db() {
    return this.database.db;
  }

  put(file: string, content: string | Buffer = file): string {
    const place = path.join(this.root, file);
    mkdirSync(path.dirname(place), { recursive: true });
    writeFileSync(place, content);
    return place;
  }

  async volume(name: string, duty: Duty = 'none', quotaBytes: number | null = null): Promise<VolumeId> {
    mkdirSync(path.join(this.root, name), { recursive: true });
    return addVolume(
      this.db,
      {
        ...{ station: 'loft-1', stationRole: 'workstation' as const, name, path: path.join(this.root, name) },
        // All lie in one folder, and stand for disks of their own.
        ...{ duty, quotaBytes, disk: name },
      },
      new Date(),
    );
  }

  async carrier(name: string, capacityBytes: number | null = null): Promise<CarrierId> {
    mkdirSync(path.join(this.root, name), { recursive: true });
    return addCarrier(
      this.db,
      { name, kind: 'disk', place: 'cabinet', settings: { folder: path.join(this.root, name) }, capacityBytes },
      new Date(),
    );
  }

  async read(...ids: VolumeId[]) {
    const results = [];
    for (const id of ids)
      results.push(await readVolume(this.db, this.pools.walk, id, { stop: stopFlag(), now: () => new Date() }));
    const documents = [];
    for (const [i, id] of ids.entries())
      documents.push(
        await readDocuments(this.db, this.pools.documents, id, { now: () => new Date(), reading: results[i] }),
      );
    return { results, documents };
  }

  /** Runs the plan as it stands. */
  async runPlan(): Promise<void> {
    const plan = await currentPlan(this.db);
    const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: new Date() };
    const outcome = await runPlan(this.db, asked);
    if (!outcome.ok) throw new Error(`The plan did not run: ${JSON.stringify(outcome.trouble)}`);
  }

  /** Has a worker do all work that waits, until there is none or it asks something; gives the last of it. */
  async workOff(): Promise<typeof jobs.$inferSelect> {
    const worker = this.worker();
    await until(async () => {
      const all = await this.db.select().from(jobs);
      const asked = await openQuestions(
        this.db,
        all.map((job) => job.id),
      );
      const waits = (job: (typeof all)[number]) => job.state === 'queued' && !job.cancelAsked && asked.has(job.id);
      return all.every((job) => job.finishedAt !== null || waits(job));
    });
    await worker.stop();
    return (await this.db.select().from(jobs).orderBy(jobs.id)).at(-1)!;
  }

  /** Looks at every store once, as a worker that then goes away. */
  async look(): Promise<void> {
    const id = await signIn(this.db, { name: 'look', machine: 'test' });
    await lookAtStores(this.db, id, {});
    await signOut(this.db, id);
  }

  worker(leaseSeconds = 5): Worker {
    return startWorker(this.db, {
      name: `test ${workers++}`,
      leaseSeconds,
      pollMs: 30,
      log: pino({ level: 'silent' }),
      pools: this.pools,
      assesses: false,
      clock: this.clock,
    });
  }

  /** Ends the site. Whatever a test did, its sums must be what they sum, and its ledger whole. */
  async close(): Promise<void> {
    try {
      if (this.checked) expect([...(await checkSums(this.db)), ...(await checkLedger(this.db))]).toEqual([]);
    } finally {
      await this.database.drop();
      rmSync(this.root, { recursive: true, force: true });
    }
  }
}

const time = (value: number, rate = 25) => ({ OTIO_SCHEMA: 'RationalTime.1', rate, value });
const range = (start: number, duration: number) => ({
  OTIO_SCHEMA: 'TimeRange.1',
  start_time: time(start),
  duration: time(duration),
});
const clip = (url: string, cut: object | null) => ({
  OTIO_SCHEMA: 'Clip.2',
  name: url.split('/').at(-1),
  source_range: cut,
  media_references: {
    DEFAULT_MEDIA: { OTIO_SCHEMA: 'ExternalReference.1', target_url: url, available_range: range(0, 100) },
  },
  active_media_reference_key: 'DEFAULT_MEDIA',
});

/** A document with one bin holding all of `urls`, and one timeline using those of `used`. */
export function otio(name: string, urls: readonly string[], used: readonly string[] = urls): string {
  const track = {
    OTIO_SCHEMA: 'Track.1',
    kind: 'Video',
    name: 'V1',
    children: used.map((url) => clip(url, range(10, 20))),
  };
  return JSON.stringify(
    {
      OTIO_SCHEMA: 'SerializableCollection.1',
      name,
      children: [
        { OTIO_SCHEMA: 'SerializableCollection.1', name: 'Rushes', children: urls.map((url) => clip(url, null)) },
        { OTIO_SCHEMA: 'Timeline.1', name: 'Cut', tracks: { OTIO_SCHEMA: 'Stack.1', children: [track] } },
      ],
    },
    null,
    2,
  );
}

/** Waits until `done` says so; throws after `seconds`. */
export async function until(done: () => Promise<boolean> | boolean, seconds = 120): Promise<void> {
  const end = Date.now() + seconds * 1000;
  while (!(await done())) {
    if (Date.now() > end) throw new Error(`It did not come true within ${seconds} s.`);
    await new Promise((resolve) => setTimeout(resolve, 25));
  }
}
