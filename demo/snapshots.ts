// Three weeks of snapshots of the demo's main document, as its worker would have taken them: the same document with less in it
// the longer ago it is.
import { randomUUID } from 'node:crypto';
import { readFileSync } from 'node:fs';
import path from 'node:path';
import { xxh64 } from '@node-rs/xxhash';
import { eq } from 'drizzle-orm';
import { contentsOf } from '#core/snapshots/contents.ts';
import { snapshotPath, snapshotRule, summaryOf } from '#core/snapshots/snapshots.ts';
import { documentPool, readDocument } from '#disk/documents/documents.ts';
import { PrivateNames } from '#disk/private-names.ts';
import { Root } from '#disk/root.ts';
import { keepMoment, snapshotAt } from '#disk/snapshots.ts';
import type { Database } from '#server/db/connect.ts';
import { documents } from '#server/db/schema/documents.ts';
import { snapshotContents, snapshots } from '#server/db/schema/snapshots.ts';
import { volumes } from '#server/db/schema/stores.ts';
import { siteMark } from '#server/db/site-mark.ts';
import { setSnapshotRule } from '#server/snapshots/rule.ts';
import type { By } from '#server/stores/places.ts';

const OF = { file: 'ropewalk-projects/lamp-keepers/lamp-keepers_ep3.otio', project: 'Lamp Keepers' };
const ON = 'Ropewalk media';
/** Hours ago, and how much of every timeline there was by then. */
const PAST: readonly (readonly [hours: number, share: number])[] = [
  ...([
    [480, 0.2],
    [384, 0.35],
    [312, 0.35],
    [216, 0.5],
    [144, 0.6],
    [96, 0.7],
    [72, 0.72],
  ] as const),
  ...([
    [48, 0.8],
    [30, 0.84],
    [26, 0.9],
    [22, 0.9],
    [7, 0.93],
    [5.5, 0.97],
    [3.2, 0.99],
  ] as const),
];
/** The timeline that was begun last. */
const LATE = { timeline: 'teaser 30s', share: 0.8 };

interface Node {
  OTIO_SCHEMA?: string;
  name?: string;
  children?: Node[];
  tracks?: Node;
}

/** The document with so much of each timeline. */
function less(node: Node, share: number): Node {
  if (node.OTIO_SCHEMA?.startsWith('Track'))
    return { ...node, children: node.children?.slice(0, Math.max(1, Math.ceil(node.children.length * share))) };
  const children = node.children?.filter((child) => share >= LATE.share || child.name !== LATE.timeline);
  return {
    ...node,
    ...(children ? { children: children.map((child) => less(child, share)) } : {}),
    ...(node.tracks ? { tracks: less(node.tracks, share) } : {}),
  };
}

export async function leaveSnapshots(db: Database, root: string, { who, now }: By): Promise<void> {
  const [volume] = await db.select().from(volumes).where(eq(volumes.name, ON));
  await setSnapshotRule(db, snapshotRule.parse({ volumeId: volume!.id }), { who, now });
  const name = path.basename(OF.file);
  const [document] = await db.select().from(documents).where(eq(documents.name, name));
  const whole = JSON.parse(readFileSync(path.join(root, OF.file), 'utf8')) as Node;
  const [to, pool, site] = [Root.open(volume!.path, volume!.identity), documentPool(), await siteMark(db)];
  const names = new PrivateNames({ site, job: randomUUID(), lease: randomUUID() });
  try {
    for (const [id, [hours, share]] of PAST.entries()) {
      const bytes = Buffer.from(`${JSON.stringify(less(whole, share), null, 2)}\n`);
      const takenAt = new Date(now.getTime() - hours * 3_600_000);
      const facts = { sizeBytes: bytes.length, modifiedUs: (takenAt.getTime() - 240_000) * 1000 };
      const sum = xxh64(bytes).toString(16).padStart(16, '0');
      const { fileId, projectId } = document!;
      const of = { projectId, project: OF.project, fileId, name, takenUs: takenAt.getTime() * 1000, id: id + 1 };
      const at = snapshotAt(site, snapshotPath(of));
      const moment = { bytes, facts: { ...facts, device: 0, inode: 0, changedUs: 0 }, xxh64: sum };
      await keepMoment(to, { at, temporary: names.path('copy', id), check: () => Promise.resolve() }, moment);
      const { reading } = await readDocument(pool, { path: to.placeText(at), name }, facts);
      if (!reading.ok) throw new Error(`An earlier ${name} of the demo cannot be read: ${reading.trouble.detail}.`);
      const [{ insertId: snapshotId }] = await db.insert(snapshots).values({
        ...{ projectId, fileId, name, onVolumeId: volume!.id, path: at, state: 'kept', takenAt, xxh64: sum },
        ...{ ...facts, summary: summaryOf(reading.document) },
      });
      await db.insert(snapshotContents).values({ snapshotId, contents: contentsOf(reading.document)! });
    }
  } finally {
    to.close();
    await pool.end();
  }
}
