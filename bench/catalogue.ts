// A catalogue of a large site, written straight into the tables: what a year of readings would have left. Made once and
// kept under var/bench; used by the benchmarks of loaders, search and reach.
import { existsSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import type { Connection } from 'mysql2/promise';
import { union } from '#core/time/rates.ts';
import { pathHash } from '#server/db/catalogue-writer.ts';
import { connect, type Database, loadRows, withConnection } from '#server/db/connect.ts';
import { migrate } from '#server/db/migrate.ts';
import { recomputeProjectSums } from '#server/readings/project-sums.ts';
import { type OwnDatabase, startDatabase } from '../setup/mariadb.ts';

export const SITE = {
  volumes: 12,
  projects: 300,
  /** Folders of a project by kind; fifty files in each: 3,000,000 files. */
  folders: { source: 70, cache: 80, render: 30, audio: 12, document: 1, proxy: 7 },
  filesAFolder: 50,
  mediaAProject: 1000,
  timelines: 2000,
  uses: 3_000_000,
} as const;

export async function largeCatalogue(): Promise<{ server: OwnDatabase; db: Database }> {
  const home = path.resolve('var/bench/catalogue');
  const done = path.join(home, 'made');
  if (!existsSync(done)) rmSync(home, { recursive: true, force: true });
  const server = await startDatabase(path.join(home, 'db'), { port: 0, durable: false });
  const db = connect(server.url);
  await migrate(db);
  if (!existsSync(done)) {
    console.log('Making the catalogue of 3,000,000 files; this takes some minutes, once …');
    await make(db);
    writeFileSync(done, '');
  }
  return { server, db };
}

const DAY_US = 86_400_000_000;
const today = Math.floor(Date.now() / 86_400_000);

async function make(db: Database): Promise<void> {
  await withConnection(db, async (connection) => {
    await connection.query(
      "INSERT INTO stations (id, name, role) VALUES (1, 'store', 'server'), (2, 'loft', 'workstation')",
    );
    await connection.query(
      'INSERT INTO volumes (id, station_id, name, path, duty, capacity_bytes, quota, state, read_at, seen_at) VALUES ?',
      [
        Array.from({ length: SITE.volumes }, (_, v) => [
          v + 1,
          (v % 2) + 1,
          `volume ${v + 1}`,
          `/nowhere/${v + 1}`,
          (['source', 'cache', 'renders', 'none'] as const)[v % 4],
          20e12,
          true,
          'reachable',
          new Date(),
          new Date(),
        ]),
      ],
    );
    await connection.query('INSERT INTO projects (id, name, slug, state, state_since) VALUES ?', [
      Array.from({ length: SITE.projects }, (_, p) => [
        p + 1,
        `Project ${p + 1}`,
        `project-${p + 1}`,
        (['planned', 'in work', 'finishing', 'delivered', 'archived'] as const)[p % 5],
        new Date(Date.now() - p * 86_400_000),
      ]),
    ]);
  });
  await withConnection(db, writeFiles);
  await withConnection(db, writeDocuments);
  await withConnection(db, writeRollups);
  await recomputeProjectSums(db);
}

const KIND_OF = Object.entries(SITE.folders) as [keyof typeof SITE.folders, number][];
const ENDING = { source: 'mov', cache: 'frm', render: 'mov', audio: 'wav', document: 'txt', proxy: 'mov' } as const;

interface Folder {
  id: number;
  volume: number;
  parent: number | null;
  path: string;
  project: number | null;
  files: number;
  bytes: number;
}

async function writeFiles(connection: Connection): Promise<void> {
  const folders: Folder[] = [];
  const add = (volume: number, parent: Folder | null, name: string, project: number | null): Folder => {
    const path = parent && parent.path !== '' ? `${parent.path}/${name}` : name;
    const folder = { id: folders.length + 1, volume, parent: parent?.id ?? null, path, project, files: 0, bytes: 0 };
    folders.push(folder);
    return folder;
  };
  const tops = Array.from({ length: SITE.volumes }, (_, v) => add(v + 1, null, '', null));
  let fileId = 0;
  for (let p = 1; p <= SITE.projects; p++) {
    let text = '';
    for (const [k, [kind, count]] of KIND_OF.entries()) {
      const top = tops[(p + k * 5) % SITE.volumes]!;
      // One in ten projects has its renders where its source belongs: they have strayed.
      const own = add(top.volume, top, `project-${p}-${kind}`, p);
      for (let n = 0; n < count; n++) {
        const folder = add(top.volume, own, `day ${n}`, p);
        for (let i = 0; i < SITE.filesAFolder; i++) {
          fileId++;
          const size = ((fileId * 7919) % 9_000_000) + 1000;
          // What lies in one folder was shot, or rendered, within two days.
          const us = (today - ((n * 31 + p * 7 + (i % 2)) % 700)) * DAY_US + (fileId % 1000) * 1000;
          text += `${fileId}\t${folder.volume}\t${folder.id}\tA${String(p).padStart(3, '0')}C${String(n * 50 + i).padStart(5, '0')}_${(fileId * 13) % 10_000}.${ENDING[kind]}\t${size}\t${us}\t${kind}\t${p}\n`;
          for (const at of [folder, own, top]) {
            at.files++;
            at.bytes += size;
          }
        }
      }
    }
    await loadRows(connection, 'files (id, volume_id, folder_id, name, size_bytes, modified_us, kind, project_id)', [
      text,
    ]);
  }
  for (let i = 0; i < folders.length; i += 2000)
    await connection.query(
      'INSERT INTO folders (id, volume_id, parent_id, name, path, path_hash, project_id, total_files, total_bytes) VALUES ?',
      [
        folders
          .slice(i, i + 2000)
          .map((f) => [
            f.id,
            f.volume,
            f.parent,
            f.path.split('/').at(-1),
            f.path,
            pathHash(f.path),
            f.project,
            f.files,
            f.bytes,
          ]),
      ],
    );
  await connection.query('INSERT INTO claims (project_id, volume_id, folder, folder_hash, reason, settled) VALUES ?', [
    folders
      .filter((f) => f.project !== null && !f.path.includes('/'))
      .map((f) => [f.project, f.volume, f.path, pathHash(f.path), 'named after the project', true]),
  ]);
  await connection.query('INSERT INTO homes (project_id, kind, volume_id, folder) VALUES ?', [
    folders
      .filter((f) => f.project !== null && !f.path.includes('/'))
      .map((f) => [
        f.project,
        f.path.split('-').at(-1),
        f.project! % 10 === 0 ? (f.volume % SITE.volumes) + 1 : f.volume,
        f.path,
      ]),
  ]);
}

async function writeDocuments(connection: Connection): Promise<void> {
  const perProject = SITE.folders.source * SITE.filesAFolder;
  const filesAProject = KIND_OF.reduce((sum, [, count]) => sum + count, 0) * SITE.filesAFolder;
  const timelinesEach = SITE.timelines / SITE.projects;
  const usesEach = SITE.uses / SITE.timelines;
  let timeline = 0;
  for (let p = 1; p <= SITE.projects; p++) {
    const first = (p - 1) * filesAProject;
    const documentFile = first + filesAProject - SITE.filesAFolder * SITE.folders.proxy - 1;
    await connection.query(
      "INSERT INTO documents (id, project_id, file_id, name, state, read_size_bytes, read_modified_us, read_at) VALUES (?, ?, ?, ?, 'read', 1, 1, NOW())",
      [p, p, documentFile, `project-${p}.otio`],
    );
    await connection.query('INSERT INTO bins (id, document_id, parent_id, name) VALUES ?', [
      Array.from({ length: 20 }, (_, b) => [(p - 1) * 20 + b + 1, p, null, `Day ${b + 1}`]),
    ]);
    let uses = '';
    const reached = Array.from({ length: SITE.mediaAProject }, () => ({
      ranges: [] as { start: number; duration: number }[],
      timelines: new Set<number>(),
    }));
    for (; timeline < p * timelinesEach; timeline++) {
      await connection.query(
        'INSERT INTO timelines (id, document_id, bin_id, name, duration_frames, rate_num, rate_den) VALUES (?, ?, NULL, ?, 90000, 25, 1)',
        [timeline + 1, p, `cut ${timeline + 1}`],
      );
      for (let u = 0; u < usesEach; u++) {
        let m = (u * 17 + timeline) % SITE.mediaAProject;
        if (m % 4 === 3) m -= 1;
        const range = { start: 90_000 + ((u * 37) % 4800), duration: 50 + (u % 120) };
        reached[m]!.ranges.push(range);
        reached[m]!.timelines.add(timeline + 1);
        uses += `${timeline + 1}\t${(p - 1) * SITE.mediaAProject + m + 1}\t${range.start}\t${range.duration}\t25\t1\n`;
      }
    }
    let media = '';
    let targets = '';
    let clips = '';
    for (let m = 0; m < SITE.mediaAProject; m++) {
      const id = (p - 1) * SITE.mediaAProject + m + 1;
      const { ranges, timelines } = reached[m]!;
      // Every fiftieth is borrowed from the next project.
      const file =
        m % 50 === 49 && p < SITE.projects
          ? first + filesAProject + (m % perProject) + 1
          : first + (m % perProject) + 1;
      const joined = JSON.stringify(union(ranges).map((range) => [range.start, range.duration]));
      media += `${id}\t${p}\t${p}\tclip ${m}\tinside\t1\t1\t90000\t5000\t25\t1\t${m % 4 === 3 ? 0 : 1}\t${joined}\t${JSON.stringify([...timelines])}\n`;
      targets += `${id}\t0\tmedia/${m}.mov\t${file}\n`;
      clips += `${p}\t${(p - 1) * 20 + (m % 20) + 1}\t${id}\tA${p}C${m}\n`;
    }
    await loadRows(
      connection,
      'media (id, document_id, project_id, name, place, targets, found, start_frame, duration_frames, rate_num, rate_den, used, ranges, timeline_ids)',
      [media],
    );
    await loadRows(connection, 'media_targets (media_id, ord, target, file_id)', [targets]);
    await loadRows(connection, 'clips (document_id, bin_id, media_id, name)', [clips]);
    await loadRows(connection, 'uses (timeline_id, media_id, start_frame, duration_frames, rate_num, rate_den)', [
      uses,
    ]);
  }
}

async function writeRollups(connection: Connection): Promise<void> {
  await connection.query(
    `INSERT INTO folder_holdings (folder_id, kind, project_id, day, volume_id, files, bytes, newest_us, oldest_us, largest_bytes)
     SELECT folder_id, kind, project_id, FLOOR(modified_us / 86400000000) AS touched, MIN(volume_id), COUNT(*), SUM(size_bytes), MAX(modified_us), MIN(modified_us), MAX(size_bytes)
     FROM files GROUP BY folder_id, kind, project_id, touched`,
  );
  await connection.query(
    'INSERT INTO volume_holdings (volume_id, project_id, kind, day, files, bytes) SELECT volume_id, project_id, kind, day, SUM(files), SUM(bytes) FROM folder_holdings GROUP BY volume_id, project_id, kind, day',
  );
  await connection.query(
    'INSERT INTO volume_days (volume_id, day, files, bytes) SELECT volume_id, day, SUM(files), SUM(bytes) FROM volume_holdings GROUP BY volume_id, day',
  );
  await connection.query(
    'INSERT INTO volume_sums (volume_id, project_id, kind, files, bytes) SELECT volume_id, project_id, kind, SUM(files), SUM(bytes) FROM volume_holdings GROUP BY volume_id, project_id, kind',
  );
  for (let day = today - 56; day <= today; day++)
    await connection.query(
      `INSERT INTO samples (volume_id, day, project_id, kind, files, bytes)
       SELECT volume_id, ?, project_id, kind, SUM(files), SUM(bytes) FROM volume_holdings WHERE day <= ? GROUP BY volume_id, project_id, kind`,
      [day, day],
    );
  await connection.query(
    'INSERT INTO sample_sums (volume_id, day, bytes) SELECT volume_id, day, SUM(bytes) FROM samples GROUP BY volume_id, day',
  );
  for (const table of [
    'files',
    'folders',
    'folder_holdings',
    'volume_holdings',
    'uses',
    'media',
    'media_targets',
    'samples',
  ])
    await connection.query(`ANALYZE TABLE ${table}`);
}
