// The shelf is exported, and brought into an empty catalogue: whole, or not at all; and what lies on the carriers comes back from
// there.
import { existsSync, readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq, sql } from 'drizzle-orm';
import fc from 'fast-check';
import type { ArchiveId, CarrierId, ProjectId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { typed } from '#test/command.ts';
import { archiveBins, archiveCopies, archiveFiles, archives, awaitedFiles } from '../db/schema/archives.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { carriers } from '../db/schema/stores.ts';
import { setHold } from './keeping.ts';
import { addArchive } from '../steps/archive.ts';
import { addRestore } from '../steps/restore.ts';
import { exportCatalogue } from './export.ts';
import { importCatalogue } from './import.ts';
import { askToReadBackAll } from './read-back.ts';
import { archiveRows } from './shelf.ts';
import { SHELF_TABLES } from './shelf-tables.ts';

let site: TestSite;
let other: TestSite;
let at: string;
const BY = { who: 'Mara', now: new Date('2026-03-01T12:00:00Z') };
const asked = (secrets: [string, string][] = []) => ({ ...BY, secrets: new Map(secrets) });

beforeEach(async () => {
  [site, other] = [await TestSite.open(), await TestSite.open()];
  const media = await site.volume('media');
  for (const clip of ['winch', 'quay']) site.put(`media/fog/rushes/${clip}.mov`, `${clip} `.repeat(1000));
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/winch.mov', 'rushes/quay.mov']));
  await site.read(media);
  const carrierIds: CarrierId[] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  await site.look();
  await addArchive(site.db, { ...{ projectId: 1 as ProjectId, carrierIds, folder: 'fog_1', now: new Date() } });
  await site.runPlan();
  await site.workOff();
  await site.db.update(projects).set({ client: 'Haff & Söhne', privateNotes: 'never tell' });
  await setHold(site.db, 1 as ArchiveId, 'a dispute', BY);
  at = path.join(site.root, 'export');
});
afterEach(async () => {
  await site.close();
  await other.close();
});

/** What is said of each archive, but for what only a look at its carriers tells. */
const told = async (of: TestSite) =>
  (await archiveRows(of.db)).map(({ name, folder, state, files, bytes, copies, short }) => ({
    ...{ name, folder, state, files, bytes, short },
    copies: copies.map((copy) => [copy.state, copy.readBackMs, copy.carriers.map((one) => one.name)]),
  }));

const isEmpty = async (): Promise<boolean> => {
  for (const { name } of SHELF_TABLES) {
    const [rows] = (await other.db.execute(sql.raw(`SELECT COUNT(*) AS n FROM ${name}`))) as unknown as [
      { n: number }[],
    ];
    if (Number(rows[0]!.n) > 0) return false;
  }
  return (await other.db.select().from(receipts)).length === 0;
};

test('everything on the shelf is known again: found, read back and restored from the carriers', async () => {
  await exportCatalogue(site.db, at, new Date());
  const text = readdirSync(path.join(at, 'tables')).map((name) => readFileSync(path.join(at, 'tables', name), 'utf8'));
  expect(text.join('')).not.toContain('never tell');
  expect(await typed(other, 'import-catalogue', at)).toMatch(/^1 archive with 4 files on 2 carriers are known again/);
  expect(await told(other)).toEqual(await told(site));
  const [archive] = await other.db.select().from(archives);
  expect(archive).toMatchObject({ holdReason: 'a dispute', holdBy: 'Mara', jobId: null });
  const [project] = await other.db.select().from(projects);
  expect(project).toMatchObject({ name: 'Fog', client: 'Haff & Söhne', privateNotes: '', origin: 'carrier' });
  expect(await typed(other, 'where', 'winch')).toMatch(/winch\.mov +fog_1 +kd-1/);
  // The first catalogue is gone, and so are the originals; the carriers are known by their identities.
  rmSync(path.join(site.root, 'media'), { recursive: true });
  const volume = await other.volume('new');
  await other.read(volume);
  await other.look();
  await askToReadBackAll(other.db, 1 as ArchiveId, BY);
  await other.workOff();
  expect((await archiveRows(other.db))[0]!.copies.map((copy) => copy.state)).toEqual(['good', 'good']);
  const [copy] = await other.db.select().from(archiveCopies);
  await addRestore(other.db, {
    ...{ archiveId: 1 as ArchiveId, copyId: copy!.id, volumeId: volume, folder: 'back', now: new Date() },
    only: { timelines: ['Cut'], bins: [], files: [] },
  });
  await other.runPlan();
  await other.workOff();
  const back = readdirSync(path.join(other.root, 'new/back'), { recursive: true }).map(String);
  const winch = back.find((name) => name.endsWith('winch.mov'))!;
  expect(readFileSync(path.join(other.root, 'new/back', winch), 'utf8')).toBe('winch '.repeat(1000));
});

test('what an archive awaits comes along, and is nothing in an export of before; bins are found again', async () => {
  const awaited = { archiveId: 1, folder: 'fog_0', path: 'media/a.mov', sha512: 'a'.repeat(128) };
  await site.db.insert(awaitedFiles).values(awaited);
  await exportCatalogue(site.db, at, new Date());
  const list = path.join(at, 'tables/list.json');
  const told = JSON.parse(readFileSync(list, 'utf8')) as { tables: { name: string }[] };
  const third = await TestSite.open();
  try {
    await importCatalogue(third.db, at, asked());
    expect(await third.db.select().from(awaitedFiles)).toMatchObject([awaited]);
    expect((await third.db.select().from(archiveBins)).map((bin) => bin.name)).toEqual(['Rushes']);
  } finally {
    await third.close();
  }
  told.tables = told.tables.filter(({ name }) => name !== 'awaited_files');
  writeFileSync(list, JSON.stringify(told));
  await importCatalogue(other.db, at, asked());
  expect(await other.db.select().from(awaitedFiles)).toEqual([]);
});

test('only into an empty catalogue, and only what is an export', async () => {
  await site.db.update(archiveFiles).set({ modifiedUs: -2_082_844_800_000_000 }).where(eq(archiveFiles.id, 1));
  await exportCatalogue(site.db, at, new Date());
  await importCatalogue(other.db, at, asked());
  const before = await told(other);
  await expect(importCatalogue(other.db, at, asked())).rejects.toThrow(
    'An import is for an empty catalogue, and this one has projects already. Nothing was changed.',
  );
  expect(await told(other)).toEqual(before);
  await expect(importCatalogue(other.db, path.join(at, 'nowhere'), asked())).rejects.toThrow(
    /cannot be read as an export of the catalogue \(ENOENT/,
  );
  writeFileSync(path.join(at, 'tables/list.json'), '{"form":2}');
  await expect(importCatalogue(other.db, at, asked())).rejects.toThrow(/damaged, or of a form that is not known/);
});

test('keys of stores are in no export, and are said again', async () => {
  const settings = {
    ...{ address: 'https://store.example:9000', bucket: 'shelf', accessKey: 'house', secretKey: 'salt and fog' },
    ...{ rentedGb: 100 },
  };
  await site.db.insert(carriers).values({
    ...{ name: 'Far shore', kind: 'remote store', place: 'far', settings, capacityBytes: 1e11 },
  });
  await exportCatalogue(site.db, at, new Date());
  for (const name of readdirSync(at, { recursive: true }).map(String))
    if (/\.\w+$/.test(name)) expect(readFileSync(path.join(at, name), 'utf8')).not.toContain('salt and fog');
  await expect(importCatalogue(other.db, at, asked())).rejects.toThrow(
    'Far shore needs its secret key, which no export holds. Nothing was changed. Say it with --secret "Far shore=…".',
  );
  expect(await isEmpty()).toBe(true);
  await expect(typed(other, 'import-catalogue', at, '--secret', 'no key')).rejects.toThrow('Nothing was changed');
  await typed(other, 'import-catalogue', at, '--secret', 'Far shore=salt and fog', '--json');
  const [far] = await other.db.select().from(carriers).where(eq(carriers.name, 'Far shore'));
  expect(far!.settings).toMatchObject({ bucket: 'shelf', secretKey: 'salt and fog' });
});

test('whatever is changed in an export, all of it is refused', async () => {
  await exportCatalogue(site.db, at, new Date());
  const files = SHELF_TABLES.map(({ name }) => `tables/${name}.ndjson`).filter(
    (name) => readFileSync(path.join(at, name)).length > 0,
  );
  const change = fc.record({
    file: fc.constantFrom(...files),
    where: fc.double({ min: 0, max: 0.999999, noNaN: true }),
    byte: fc.nat(255),
    how: fc.constantFrom('byte', 'cut', 'twice', 'gone'),
  });
  await fc.assert(
    fc.asyncProperty(change, async ({ file, where, byte, how }) => {
      const place = path.join(at, file);
      const was = readFileSync(place);
      const n = Math.floor(where * was.length);
      const changed = {
        byte: () =>
          Buffer.concat([was.subarray(0, n), Buffer.from([byte === was[n] ? byte ^ 1 : byte]), was.subarray(n + 1)]),
        cut: () => was.subarray(0, n),
        twice: () => Buffer.concat([was, was.subarray(was.lastIndexOf(10, was.length - 2) + 1)]),
        gone: () => null,
      }[how]();
      if (changed) writeFileSync(place, changed);
      else renameSync(place, `${place}.away`);
      try {
        await expect(importCatalogue(other.db, at, asked())).rejects.toThrow(/Nothing was changed/);
        expect(await isEmpty()).toBe(true);
      } finally {
        if (existsSync(`${place}.away`)) renameSync(`${place}.away`, place);
        else writeFileSync(place, was);
      }
    }),
    { numRuns: 40 },
  );
  await importCatalogue(other.db, at, asked());
  expect(await told(other)).toEqual(await told(site));
});
