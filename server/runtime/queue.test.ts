import { eq } from 'drizzle-orm';
import type { JobId } from '#core/model.ts';
import { testDatabase, type TestDatabase } from '#test/database.ts';
import { jobs } from '../db/schema/jobs.ts';
import { JobContext } from './context.ts';
import { cancelJob, claimJob, endJob, enqueue, heartbeat, LeaseLost, type NewJob, releaseLease } from './queue.ts';

let test_: TestDatabase;
beforeEach(async () => void (test_ = await testDatabase()));
afterEach(() => test_.drop());
const db = () => test_.db;
const NOW = new Date('2026-05-04T12:00:00Z');
const later = (seconds: number) => new Date(NOW.getTime() + seconds * 1000);
const put = (over: Partial<NewJob> = {}) =>
  enqueue(db(), { kind: 'remove', title: 'x', params: {}, who: 'Mara', volumes: [1], ...over }, NOW);
const claim = (volumes: number[], carriers: number[] = [], now = NOW) =>
  claimJob(db(), { worker: 'w', reached: { volumes, carriers }, leaseSeconds: 10, now });
const beat = { done: 5, total: 10, rate: 1, phase: 'p', unit: 'bytes' as const };

test('a worker takes only what it can reach whole, oldest first', async () => {
  await put({ volumes: [1, 2], carriers: [7] });
  const second = await put({ volumes: [2] });
  expect(await claim([1])).toBeNull();
  expect(await claim([1, 2])).toMatchObject({ id: second, state: 'running', attempts: 1 });
  expect(await claim([1, 2], [7])).toMatchObject({ id: 1 });
  expect(await claim([1, 2], [7])).toBeNull();
});

test('many workers at once take each job once', async () => {
  for (let i = 0; i < 12; i++) await put();
  const taken = await Promise.all(Array.from({ length: 16 }, () => claim([1])));
  const ids = taken.flatMap((job) => (job ? [job.id] : []));
  expect(new Set(ids).size).toBe(ids.length);
  // SKIP LOCKED may let one go by while another holds it; what is left is taken next.
  while ((await claim([1])) !== null) ids.push(0);
  expect(ids).toHaveLength(12);
});

test('a lease that ran out is taken over, and the one who had it finds out', async () => {
  await put();
  const first = (await claim([1]))!;
  expect(await claim([1], [], later(9))).toBeNull();
  const second = (await claim([1], [], later(11)))!;
  expect(second).toMatchObject({ id: first.id, attempts: 2 });
  await expect(heartbeat(db(), first, beat, 10)).rejects.toThrow(LeaseLost);
  await expect(db().transaction((tx) => endJob(tx, first, { state: 'done' }))).rejects.toThrow(LeaseLost);
  expect((await db().select().from(jobs))[0]).toMatchObject({ state: 'running', lease: second.lease });
  expect(await heartbeat(db(), second, beat, 10)).toEqual({ cancel: false });
  await db().transaction((tx) => endJob(tx, second, { state: 'done' }));
  expect((await db().select().from(jobs))[0]).toMatchObject({ state: 'done', done: 10, lease: null });
});

test('a lease that was given back is taken at once', async () => {
  await put();
  await releaseLease(db(), (await claim([1]))!);
  expect(await claim([1])).toMatchObject({ attempts: 2 });
});

test('one carrier is written by one job at a time, one volume read by one reader', async () => {
  await put({ kind: 'archive', volumes: [1], carriers: [7] });
  await put({ kind: 'archive', volumes: [2], carriers: [7] });
  await put({ kind: 'read volume', volumes: [3] });
  await put({ kind: 'read volume', volumes: [3] });
  const taken = [await claim([1, 2, 3], [7]), await claim([1, 2, 3], [7]), await claim([1, 2, 3], [7])];
  expect(taken.map((job) => job?.id)).toEqual([1, 3, undefined]);
});

test('a queued job is cancelled at once, a running one is asked', async () => {
  const [queued, running] = [await put({ volumes: [2] }), await put()];
  const job = (await claim([1]))!;
  await cancelJob(db(), queued);
  await cancelJob(db(), running);
  await cancelJob(db(), 999 as JobId);
  expect((await db().select().from(jobs).where(eq(jobs.id, queued)))[0]).toMatchObject({ state: 'cancelled' });
  expect(await heartbeat(db(), job, beat, 10)).toEqual({ cancel: true });
});

test('a thread that was told to stop does not turn a handed-over job into a failed one', () => {
  const context = new JobContext(null as never, null as never, null as never, 5);
  const stopped = Object.assign(new Error('The work was stopped.'), { code: 'stopped' });
  const full = Object.assign(new Error('no space'), { code: 'ENOSPC' });
  expect(context.reasonOf(stopped)).toBe(stopped);
  context.letGo();
  expect(context.reasonOf(stopped)).toBeInstanceOf(LeaseLost);
  expect(context.reasonOf(full)).toBe(full);
});
