import { eq, sql } from 'drizzle-orm';
import type { JobId } from '#core/model.ts';
import { testDatabase, type TestDatabase } from '#test/database.ts';
import { until } from '#test/site.ts';
import { inTransaction } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';
import { carriers, stations, volumes } from '../db/schema/stores.ts';
import { JobContext } from './context.ts';
import {
  assertLease,
  cancelJob,
  claimJob,
  claimNew,
  endJob,
  enqueue,
  heartbeat,
  type Job,
  LeaseLost,
  type NewJob,
  releaseJob,
  type StoreNeed,
} from './queue.ts';

let test_: TestDatabase;
beforeEach(async () => {
  test_ = await testDatabase();
  await db().insert(stations).values({ name: 's', role: 'server' });
  for (let i = 1; i <= 3; i++) {
    const volume = {
      stationId: 1,
      name: `v${i}`,
      path: `/v${i}`,
      duty: 'none' as const,
      capacityBytes: 1,
      quota: false,
    };
    await db().insert(volumes).values(volume);
    const settings = { folder: `/c${i}` };
    await db()
      .insert(carriers)
      .values({ name: `c${i}`, kind: 'disk', place: 'p', settings, capacityBytes: 1 });
  }
});
afterEach(() => test_.drop());
const db = () => test_.db;
const look = (id: number): StoreNeed => ({ store: 'volume', id, mode: 'look' });
const change = (id: number): StoreNeed => ({ store: 'volume', id, mode: 'change' });
const carrier = (id: number): StoreNeed => ({ store: 'carrier', id, mode: 'change' });
const put = (stores: readonly StoreNeed[] = [look(1)], over: Partial<NewJob> = {}) =>
  inTransaction(db(), (tx) =>
    enqueue(tx, { kind: 'x', title: 'x', params: {}, who: 'Mara', stores, ...over }, new Date()),
  );
const claim = (volumeIds: number[] = [1, 2, 3], carrierIds: number[] = [1, 2, 3]) =>
  claimJob(db(), { worker: 'w', reached: { volumes: volumeIds, carriers: carrierIds }, leaseSeconds: 10 });
const claimWith = (more: Partial<Parameters<typeof claimJob>[1]>) =>
  claimJob(db(), { worker: 'w', reached: { volumes: [1, 2, 3], carriers: [1, 2, 3] }, leaseSeconds: 10, ...more });
/** As if the worker had been silent for longer than its lease, by the database's clock. */
const runOut = (job: Job) =>
  db()
    .update(jobs)
    .set({ leaseUntil: sql`UTC_TIMESTAMP(3) - INTERVAL 1 SECOND` })
    .where(eq(jobs.id, job.id));
const beat = { done: 5, total: 10, rate: 1, phase: 'p', unit: 'bytes' as const };
const jobsNow = () => db().select().from(jobs).orderBy(jobs.id);

test('a worker takes only what it can reach whole, oldest first', async () => {
  await put([look(1), look(2), carrier(1)]);
  const second = await put([look(2)]);
  expect(await claim([1], [])).toBeNull();
  expect(await claim([1, 2], [])).toMatchObject({ id: second, state: 'running', attempts: 1, crashes: 0 });
  expect(await claim([1, 2], [1])).toMatchObject({ id: 1 });
  expect(await claim([1, 2], [1])).toBeNull();
});

test('many workers at once take each job once', async () => {
  for (let i = 0; i < 12; i++) await put();
  const ids: number[] = [];
  while (ids.length < 12) {
    const taken = await Promise.all(Array.from({ length: 6 }, () => claim()));
    ids.push(...taken.flatMap((job) => (job ? [job.id] : [])));
  }
  expect(new Set(ids).size).toBe(12);
});

test('looking is shared, changing is alone, and of many that claim at once one has it', async () => {
  await put([change(1)]);
  await put([look(1)]);
  await put([look(1)]);
  await put([look(2), carrier(1)]);
  await put([look(3), carrier(1)]);
  const first = (await claim())!;
  expect([first.id, (await claim())?.id, await claim()]).toEqual([1, 4, null]);
  await inTransaction(db(), (tx) => endJob(tx, first, { state: 'done' }));
  expect([(await claim())?.id, (await claim())?.id, await claim()]).toEqual([2, 3, null]);
});

test('however many wait for what somebody has, the one behind them that can begin does', async () => {
  for (let i = 0; i < 60; i++) await put([carrier(1)]);
  const free = await put([carrier(2)]);
  const first = (await claim())!;
  expect((await claim())?.id).toBe(free);
  expect(await claim()).toBeNull();
  await inTransaction(db(), (tx) => endJob(tx, first, { state: 'done' }));
  expect((await claim())?.id).toBe(first.id + 1);
});

test('two jobs are never leased for one carrier, in many rounds of many workers', async () => {
  const ROUNDS = 60;
  let doubled = 0;
  for (let round = 0; round < ROUNDS; round++) {
    await put([carrier(1), look(1)]);
    await put([carrier(1), look(2)]);
    const taken = (await Promise.all([claim(), claim(), claim(), claim()])).filter((job) => job !== null);
    if (taken.length > 1) doubled++;
    expect(taken.length).toBeGreaterThan(0);
    for (const job of taken) await inTransaction(db(), (tx) => endJob(tx, job, { state: 'done' }));
    for (let job = await claim(); job; job = await claim())
      await inTransaction(db(), (tx) => endJob(tx, job!, { state: 'done' }));
  }
  expect(doubled).toBe(0);
});

test('a lease that ran out is taken over, and the one who had it can write nothing more', async () => {
  await put();
  const first = (await claim())!;
  expect(await claim()).toBeNull();
  await runOut(first);
  const second = (await claim())!;
  expect(second).toMatchObject({ id: first.id, attempts: 2, crashes: 1 });
  await expect(heartbeat(db(), first, beat, 10)).rejects.toThrow(LeaseLost);
  await expect(assertLease(db(), first)).rejects.toThrow(LeaseLost);
  const zombie = contextOf(first);
  await expect(zombie.transaction((tx) => tx.update(volumes).set({ name: 'mine' }))).rejects.toThrow(LeaseLost);
  await expect(zombie.assertLease()).rejects.toThrow(LeaseLost);
  await expect(inTransaction(db(), (tx) => endJob(tx, first, { state: 'done' }))).rejects.toThrow(LeaseLost);
  expect((await jobsNow())[0]).toMatchObject({ state: 'running', lease: second.lease });
  expect(await heartbeat(db(), second, beat, 10)).toEqual({ cancel: false });
  await inTransaction(db(), (tx) => endJob(tx, second, { state: 'done' }));
  expect((await jobsNow())[0]).toMatchObject({ state: 'done', done: 10, lease: null });
});

test('a lease that ran out is renewed where nobody took it, unless others have its stores by now', async () => {
  await put([change(1)]);
  await put([change(1)]);
  const slow = (await claim())!;
  await runOut(slow);
  await contextOf(slow).assertLease();
  expect(await claim()).toBeNull();
  await runOut(slow);
  // Cancelled work is skipped here by asking for the second alone, as another worker's turn might.
  const other = await claimJob(db(), {
    worker: 'v',
    reached: { volumes: [1], carriers: [] },
    leaseSeconds: 10,
    only: 2 as JobId,
  });
  expect(other).toMatchObject({ id: 2 });
  await expect(contextOf(slow).assertLease()).rejects.toThrow(LeaseLost);
  await expect(heartbeat(db(), slow, beat, 10)).rejects.toThrow(LeaseLost);
});

test('a job writes in its transactions only', async () => {
  await put();
  const context = contextOf((await claim())!);
  expect(() => context.db.update(volumes)).toThrow('in its transactions only');
  expect(() => context.db.insert(volumes)).toThrow('in its transactions only');
  expect(() => context.db.delete(volumes)).toThrow('in its transactions only');
  await context.transaction((tx) => tx.update(volumes).set({ linkMbits: 5 }));
  expect((await db().select().from(volumes))[0]!.linkMbits).toBe(5);
});

test('a job that was given back is taken at once, and that is no crash', async () => {
  await put();
  await releaseJob(db(), (await claim())!);
  expect(await claim()).toMatchObject({ attempts: 2, crashes: 0 });
});

test('work of ones own is put in and had in one breath, or not at all', async () => {
  const job = { kind: 'x', title: 'x', params: {}, who: 'Mara', stores: [change(1)] };
  const own = await claimNew(db(), job, { worker: 'w', leaseSeconds: 10 });
  expect(own).toMatchObject({ state: 'running' });
  expect(await claimNew(db(), job, { worker: 'v', leaseSeconds: 10 })).toBeNull();
  expect(await jobsNow()).toHaveLength(1);
});

test('a queued job is cancelled at once, one that was begun is asked, and one that is not there is said', async () => {
  const queued = await put([look(2)]);
  const begun = await put([look(3)]);
  const running = await put();
  const job = (await claim([1], []))!;
  await releaseJob(db(), (await claim([3], []))!);
  expect(await cancelJob(db(), queued)).toBe('ended');
  expect(await cancelJob(db(), running)).toBe('asked');
  // It may have files on their way: a worker ends it.
  expect(await cancelJob(db(), begun)).toBe('asked');
  await expect(cancelJob(db(), 999 as JobId)).rejects.toThrow('There is no such work.');
  await expect(cancelJob(db(), queued)).rejects.toThrow('has ended already');
  expect((await jobsNow()).map((row) => row.state)).toEqual(['cancelled', 'queued', 'running']);
  expect(await heartbeat(db(), job, beat, 10)).toEqual({ cancel: true });
});

const contextOf = (job: Job) =>
  new JobContext({
    db: db(),
    job,
    pools: null as never,
    leaseSeconds: 10,
    paths: { volume: () => null, carrier: () => null },
  });

test('a thread that was told to stop does not turn a handed-over job into a failed one', async () => {
  await put();
  const context = contextOf((await claim())!);
  const stopped = Object.assign(new Error('The work was stopped.'), { code: 'stopped' });
  const full = Object.assign(new Error('no space'), { code: 'ENOSPC' });
  expect(context.reasonOf(stopped)).toBe(stopped);
  context.abandon();
  expect(context.reasonOf(stopped)).toBeInstanceOf(LeaseLost);
  expect(context.reasonOf(full)).toBe(full);
});

test('what is asked of a tape that is in a drive comes first, but nobody waits for that for more than an hour', async () => {
  const reading = (id: number): StoreNeed => ({ store: 'carrier', id, mode: 'look' });
  const first = await put([reading(1)]);
  const other = await put([reading(2)]);
  const same = await put([reading(1)]);
  expect((await claimWith({}))!.id).toBe(first);
  expect((await claimWith({ inDrive: [1] }))!.id).toBe(same);
  await db().update(jobs).set({ state: 'queued', lease: null, leaseUntil: null }).where(eq(jobs.id, same));
  await db()
    .update(jobs)
    .set({ createdAt: sql`UTC_TIMESTAMP(3) - INTERVAL 61 MINUTE` })
    .where(eq(jobs.id, other));
  expect((await claimWith({ inDrive: [1] }))!.id).toBe(other);
});

test('where a drive becomes free while work is looked for, what is asked of the tape in it comes first all the same', async () => {
  await db()
    .update(carriers)
    .set({ facts: { sharing: { drivesOf: 'the library', drives: 1 } } });
  const first = await put([carrier(1)]);
  await put([carrier(2)]);
  const same = await put([carrier(1)]);
  expect((await claimWith({ woundKinds: ['disk'] }))!.id).toBe(first);
  const { claimed } = await inTransaction(db(), async (tx) => {
    await tx.select().from(carriers).where(eq(carriers.id, 2)).for('update');
    const claiming = claimWith({ woundKinds: ['disk'], inDrive: [1] });
    // It has tried what comes first, which another had, and waits for the row of the other tape.
    await until(async () => {
      const [[row]] = (await db().execute(
        sql`SELECT COUNT(*) AS n FROM information_schema.processlist WHERE db = DATABASE() AND info LIKE 'SELECT id FROM carriers%'`,
      )) as unknown as [{ n: number }[]];
      return Number(row!.n) > 0;
    });
    await db().update(jobs).set({ state: 'done', lease: null, leaseUntil: null }).where(eq(jobs.id, first));
    return { claimed: claiming };
  });
  expect((await claimed)!.id).toBe(same);
  expect(await claimWith({ woundKinds: ['disk'], inDrive: [1] })).toBeNull();
});

test('two never wind one carrier to and fro: of kinds that are wound each is read by one alone', async () => {
  await put([{ store: 'carrier', id: 1, mode: 'look' }]);
  await put([{ store: 'carrier', id: 1, mode: 'look' }]);
  expect(await claimWith({ woundKinds: ['disk'] })).not.toBeNull();
  expect(await claimWith({ woundKinds: ['disk'] })).toBeNull();
  expect(await claimWith({ woundKinds: ['tape'] })).not.toBeNull();
});

test('no more carriers of one library are worked on than it has drives; what alone needs more begins', async () => {
  const sharing = (drives: number) => ({ facts: { sharing: { drivesOf: 'the library', drives } } });
  await db().update(carriers).set(sharing(1));
  const reading = (...ids: number[]) => put(ids.map((id) => ({ store: 'carrier', id, mode: 'look' })));
  const first = await reading(1);
  await reading(2);
  const woundKinds = ['tape'];
  expect((await claimWith({ woundKinds }))!.id).toBe(first);
  expect(await claimWith({ woundKinds })).toBeNull();
  await db().update(carriers).set(sharing(2));
  expect(await claimWith({ woundKinds })).not.toBeNull();
  await reading(3);
  expect(await claimWith({ woundKinds })).toBeNull();
  await db().update(jobs).set({ state: 'done' });
  await db().update(carriers).set(sharing(1));
  await reading(1, 2);
  expect(await claimWith({ woundKinds })).not.toBeNull();
});
