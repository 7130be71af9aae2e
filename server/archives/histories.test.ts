// Generated histories of an archive: copies made, rotten, read back, repaired and restored, in any order. What the catalogue says of a
// copy is true whenever it was looked at, no whole copy is ever called damaged, and as long as one is whole all comes back.
// A bounded part here; HISTORIES=1000 is the whole. A seed that was printed is tried again with SEED.
import { readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { desc, eq, isNull } from 'drizzle-orm';
import fc from 'fast-check';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { archiveCopies, copyParts } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { addArchive } from '../steps/archive.ts';
import { addCopy, repairable } from '../steps/copy-archive.ts';
import { addRestore } from '../steps/restore.ts';
import type { Worker } from '../worker.ts';
import { askToReadBack } from './read-back.ts';

const HISTORIES = Number(process.env.HISTORIES ?? 0) || 3;
const SEED = Number(process.env.SEED ?? Date.now() % 2 ** 31);
const CARRIERS = ['kd-1', 'kd-2', 'kd-3', 'kd-4'];
const CLIPS = ['a', 'b', 'c'];

type Event =
  | { do: 'copy'; to: number }
  | { do: 'rot'; which: number; file: number; place: number }
  | { do: 'read back'; which: number }
  | { do: 'repair' }
  | { do: 'restore'; which: number };

const event: fc.Arbitrary<Event> = fc.oneof(
  { weight: 2, arbitrary: fc.record({ do: fc.constant('copy' as const), to: fc.nat(3) }) },
  {
    weight: 3,
    arbitrary: fc.record({
      do: fc.constant('rot' as const),
      ...{ which: fc.nat(3), file: fc.nat(20), place: fc.nat(1 << 20) },
    }),
  },
  { weight: 2, arbitrary: fc.record({ do: fc.constant('read back' as const), which: fc.nat(3) }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constant('repair' as const) }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constant('restore' as const), which: fc.nat(3) }) },
);

let site: TestSite;
let worker: Worker;
let back: VolumeId;
const carrierIds: CarrierId[] = [];
const at = (...parts: string[]) => path.join(site.root, ...parts);

beforeAll(async () => {
  site = await TestSite.open();
  const media = await site.volume('media');
  back = await site.volume('back');
  for (const clip of CLIPS) site.put(`media/fog/rushes/${clip}.mov`, Buffer.alloc(20_000, clip));
  site.put(
    'media/fog/fog.otio',
    otio(
      'Fog',
      CLIPS.map((clip) => `rushes/${clip}.mov`),
    ),
  );
  await site.read(media);
  for (const name of CARRIERS) carrierIds.push(await site.carrier(name));
  worker = site.worker();
});
afterAll(async () => {
  await worker.stop();
  await site.close();
});

const ended = async () => {
  const open = () => site.db.select({ id: jobs.id }).from(jobs).where(isNull(jobs.finishedAt)).limit(1);
  await until(async () => (await open()).length === 0);
  const [last] = await site.db.select().from(jobs).orderBy(desc(jobs.id)).limit(1);
  return last!;
};
async function planned() {
  await site.runPlan();
  return ended();
}
const filesIn = (folder: string): string[] =>
  readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => path.join(entry.parentPath, entry.name))
    .sort();

/** One copy as it really is. */
interface Real {
  copyId: number;
  carrier: number;
  isRotten: boolean;
}

class History {
  readonly copies: Real[] = [];
  private restored = 0;
  private constructor(
    private readonly number: number,
    readonly archiveId: ArchiveId,
  ) {}

  static async begin(number: number): Promise<History> {
    const asked = { projectId: 1 as ProjectId, carrierIds: [carrierIds[number % 4]!], now: new Date() };
    await addArchive(site.db, { ...asked, folder: `fog_${number}` });
    expect(await planned()).toMatchObject({ state: 'done' });
    const [copy] = await site.db.select().from(archiveCopies).orderBy(desc(archiveCopies.id)).limit(1);
    const history = new History(number, copy!.archiveId as ArchiveId);
    const first = { copyId: copy!.id, carrier: number % 4, isRotten: false };
    history.copies.push(first);
    history.isWhole(first);
    return history;
  }

  async happen(one: Event): Promise<void> {
    const chosen = 'which' in one ? this.copies[one.which % this.copies.length]! : null;
    switch (one.do) {
      case 'copy':
        return this.copy({ archiveId: this.archiveId, carrierIds: [carrierIds[one.to]!], now: new Date() }, one.to);
      case 'rot': {
        const files = filesIn(at(CARRIERS[chosen!.carrier]!, `fog_${this.number}`));
        const file = files[one.file % files.length]!;
        const bytes = readFileSync(file);
        const place = one.place % bytes.length;
        bytes[place] = bytes[place]! ^ 0x5a;
        writeFileSync(file, bytes);
        // The same byte once more makes it whole again.
        chosen!.isRotten = !this.isWhole(chosen!);
        return;
      }
      case 'read back': {
        if ((await this.states()).get(chosen!.copyId) === 'ended early') return;
        await askToReadBack(site.db, chosen!.copyId, { who: 'Mara', now: new Date() });
        const job = await ended();
        const damaged = (await this.states()).get(chosen!.copyId) === 'damaged';
        expect(job.state).toBe(chosen!.isRotten ? 'failed' : 'done');
        if (chosen!.isRotten) expect(damaged).toBe(true);
        return;
      }
      case 'repair': {
        const [bad] = await repairable(site.db, this.archiveId);
        if (!bad || bad.to === null) return;
        const asked = { archiveId: this.archiveId, carrierIds: [bad.to], instead: bad.copyId, now: new Date() };
        return this.copy(asked, carrierIds.indexOf(bad.to));
      }
      case 'restore':
        return this.restore(chosen!);
    }
  }

  /** What a copy holds, compared with what was archived and with the lists of the first. */
  private isWhole({ carrier }: Real): boolean {
    const folder = at(CARRIERS[carrier]!, `fog_${this.number}`);
    const print = filesIn(folder).map(
      (file) => `${path.relative(folder, file)} ${readFileSync(file).toString('base64')}`,
    );
    this.sealed ??= print.join('\n');
    return print.join('\n') === this.sealed;
  }
  /** Every file of the first copy, when it was sealed. */
  private sealed: string | null = null;

  private async copy(asked: Parameters<typeof addCopy>[1], carrier: number): Promise<void> {
    const before = await site.db.select().from(archiveCopies);
    try {
      await addCopy(site.db, asked);
    } catch {
      // It is there already, or no copy is good by what is known: nothing was added.
      return;
    }
    const job = await planned();
    const made = (await site.db.select().from(archiveCopies)).filter((row) => !before.some((old) => old.id === row.id));
    expect(made).toHaveLength(1);
    expect([job.state, made[0]!.state]).toEqual(
      made[0]!.state === 'good' ? ['done', 'good'] : ['failed', 'ended early'],
    );
    if (made[0]!.state !== 'good') {
      // What cannot be read anywhere cannot be copied; nothing half lies there.
      expect(this.copies.some((one) => !one.isRotten)).toBe(false);
      expect(readdirSync(at(CARRIERS[carrier]!))).not.toContain(`fog_${this.number}`);
      return;
    }
    const real = { copyId: made[0]!.id, carrier, isRotten: false };
    expect(this.isWhole(real)).toBe(true);
    this.copies.push(real);
  }

  private async restore({ copyId }: Real): Promise<void> {
    const folder = `back-${this.number}-${this.restored++}`;
    try {
      await addRestore(site.db, { archiveId: this.archiveId, copyId, volumeId: back, folder, now: new Date() });
    } catch {
      return;
    }
    const job = await planned();
    if (job.state !== 'done') {
      expect(this.copies.some((one) => !one.isRotten)).toBe(false);
      expect(readdirSync(at('back'))).not.toContain(folder);
      return;
    }
    for (const clip of CLIPS)
      expect(readFileSync(at('back', folder, `media/Rushes/${clip}.mov`))).toEqual(Buffer.alloc(20_000, clip));
  }

  private async states(): Promise<Map<number, string>> {
    const rows = await site.db.select().from(archiveCopies).where(eq(archiveCopies.archiveId, this.archiveId));
    return new Map(rows.map((row) => [row.id, row.state]));
  }

  /** What must be true at any time. */
  async judge(): Promise<void> {
    const states = await this.states();
    for (const { copyId, isRotten } of this.copies) {
      // Rotten once and called so, it stays so: only what never was is never called so.
      if (states.get(copyId) === 'damaged')
        expect([copyId, isRotten || this.wasRotten.has(copyId)]).toEqual([copyId, true]);
      if (isRotten) this.wasRotten.add(copyId);
    }
    const parts = await site.db.select().from(copyParts);
    for (const { copyId, state } of parts.filter((part) => states.has(part.copyId)))
      expect([copyId, state]).toEqual([copyId, states.get(copyId)]);
  }
  private readonly wasRotten = new Set<number>();
}

test(`${HISTORIES} histories of copies, rot, read-backs, repairs and restores, seed ${SEED}`, async () => {
  console.error(`histories: ${HISTORIES}, SEED=${SEED}`);
  const all = fc.sample(fc.array(event, { minLength: 6, maxLength: 12 }), { seed: SEED, numRuns: HISTORIES });
  for (const [number, events] of all.entries()) {
    const history = await History.begin(number);
    const told: Event[] = [];
    for (const one of events) {
      told.push(one);
      try {
        await history.happen(one);
        await history.judge();
      } catch (error) {
        throw new Error(`history ${number} after ${JSON.stringify(told)}: ${String(error)}`, { cause: error });
      }
    }
    // What was brought back was looked at: a reading of it all after every restore would take longer and longer.
    for (const name of readdirSync(at('back')))
      if (name.startsWith('back-')) rmSync(at('back', name), { recursive: true });
    await site.read(back);
  }
}, 7_200_000);
