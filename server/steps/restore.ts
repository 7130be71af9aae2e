// Brings an archive back to a volume, under a name of its own: the chain of checksums is followed from the catalogue to
// every byte while copying, the document is relinked to where its media now lies, and the project is known again.
// Built under a private name; a killed run goes on where it was, and nothing half-restored is ever seen.
import { existsSync, mkdirSync, readFileSync, renameSync, rmSync, statfsSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import { fileUrlOf, pathOfUrl } from '#core/documents/targets.ts';
import { relinkOtio } from '#core/documents/relink.ts';
import { FAST_SUMS, MANIFEST, type ManifestEntry, parseManifest, PAYLOAD, TAG_MANIFEST } from '#core/fixity/bagit.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { folderOf, resolveInside } from '#core/paths.ts';
import type { StepWhat } from '#core/plan/plan.ts';
import { codeOf } from '#disk/facts.ts';
import { absoluteText, refuseLinks } from '#disk/paths.ts';
import { PRIVATE_FOLDER, renameNew, syncFolder, writeWhole } from '#disk/private.ts';
import { type ArchiveSource, folderCarrier } from '../carriers/carrier.ts';
import { inTransaction } from '../db/connect.ts';
import { archives } from '../db/schema/archives.ts';
import { steps } from '../db/schema/plans.ts';
import { carriers, volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { claim } from '../readings/claims.ts';
import { itemsHash, writeReceipt } from '../ledger/ledger.ts';
import { stateOf, tooSmall } from '../stores/stores.ts';
import { volumeFree } from '../stores/volume-free.ts';
import { inParallel, sha512 } from './archive.ts';
import type { JobContext } from '../runtime/context.ts';
import { endJob } from '../runtime/queue.ts';
import { readDocuments } from '../readings/read-documents.ts';
import { readVolume } from '../readings/read-volume.ts';

type RestoreStep = Extract<StepWhat, { kind: 'restore' }>;

interface Restoring {
  context: JobContext;
  what: RestoreStep;
  archive: typeof archives.$inferSelect;
  volume: typeof volumes.$inferSelect;
  source: ArchiveSource;
  /** Where the restored project is built, and where it then lies. */
  begun: string;
  final: string;
  /** A note, written just before the project gets its name, that what stands there is ours. */
  placed: string;
}

export async function runRestore(context: JobContext): Promise<void> {
  const restoring = await open(context);
  try {
    // Put into place by an earlier run of this very job, which was killed before it could say so.
    const placed = existsSync(restoring.placed) && existsSync(restoring.final) && !existsSync(restoring.begun);
    if (!placed) await build(restoring);
  } catch (thrown) {
    const error = context.reasonOf(thrown);
    if ((error as Error).name !== 'LeaseLost') rmSync(restoring.begun, { recursive: true, force: true });
    throw error;
  }
  await makeKnown(restoring);
}

async function open(context: JobContext): Promise<Restoring> {
  const { db, job } = context;
  const [step] = await db.select().from(steps).where(eq(steps.id, job.stepId!));
  const what = step?.what;
  if (what?.kind !== 'restore') throw new Error('This job has no restore step.');
  const [archive] = await db.select().from(archives).where(eq(archives.id, what.archiveId));
  const [carrier] = await db.select().from(carriers).where(eq(carriers.id, what.carrierId));
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, what.volumeId));
  if (!archive || !carrier || !volume)
    throw new Error('The archive, carrier or volume of this job is not in the catalogue.');
  for (const store of [carrier, volume])
    if (stateOf(store).state !== 'reachable')
      throw new Refused(
        `${store.name} cannot be reached, or another disk is in its place. Nothing was restored. Connect it and stage the restore again.`,
      );
  const source = folderCarrier(carrier.path, carrier.capacityBytes).source(archive.folder);
  return {
    context,
    what,
    archive,
    volume,
    source,
    begun: path.join(volume.path, PRIVATE_FOLDER, `restoring-${job.id}`),
    final: absoluteText(volume.path, what.folder),
    placed: path.join(volume.path, PRIVATE_FOLDER, `restored-${job.id}`),
  };
}

async function build(restoring: Restoring): Promise<void> {
  const { context, archive, volume, begun, final } = restoring;
  refuseLinks(volume.path, restoring.what.folder);
  if (existsSync(final)) throw nameTaken(restoring);
  const sums = trustedSums(restoring);
  const total = archive.bytes;
  if (!existsSync(begun)) {
    const free = Math.min(await volumeFree(context.db, volume.id as VolumeId), freeOnDisk(volume.path));
    if (free < total) throw new Refused(tooSmall(volume.name, total, free).replace('written', 'restored'));
  }
  mkdirSync(begun, { recursive: true });
  context.phase('restoring', 'bytes', total);
  await inParallel(context.pools.content.size, sums, (entry) => copyOne(restoring, entry));
  relinkDocuments(restoring, sums);
  await context.checkLease();
  refuseLinks(volume.path, restoring.what.folder);
  mkdirSync(path.dirname(final), { recursive: true });
  if (existsSync(final)) throw nameTaken(restoring);
  rmSync(restoring.placed, { force: true });
  writeWhole(restoring.placed, '');
  renameSync(begun, final);
  syncFolder(path.dirname(final));
}

const nameTaken = ({ volume, what }: Restoring) =>
  new Refused(
    `${volume.name} has something named ${what.folder} already, and nothing is ever written over. Nothing was restored. Choose another name.`,
  );

function freeOnDisk(root: string): number {
  const fs = statfsSync(root);
  return fs.bavail * fs.bsize;
}

/** Sums of every payload file, trusted because each list is covered by the one before it, up to the catalogue. */
function trustedSums({ archive, source }: Restoring): ManifestEntry[] {
  const damaged = (detail: string) =>
    new Refused(`This copy of ${archive.name} is damaged: ${detail}. Nothing was restored. Restore from another copy.`);
  const text = (name: string) => {
    try {
      return source.readText(name);
    } catch (error) {
      throw damaged(`${name} cannot be read (${codeOf(error)})`);
    }
  };
  const list = (name: string, digits: number) => {
    const reading = parseManifest(text(name), digits);
    if (!reading.ok) throw damaged(`line ${reading.trouble.line} of ${name} is wrong (${reading.trouble.detail})`);
    return reading.entries;
  };
  if (sha512(text(TAG_MANIFEST)) !== archive.manifestSha512)
    throw damaged(`${TAG_MANIFEST} is not the one that was sealed`);
  for (const entry of list(TAG_MANIFEST, 128))
    if (sha512(text(entry.path)) !== entry.hash) throw damaged(`${entry.path} is not what was sealed`);
  const strong = new Set(list(MANIFEST, 128).map((entry) => entry.path));
  const fast = list(FAST_SUMS, 32);
  if (
    fast.length !== strong.size ||
    fast.some((entry) => !strong.has(entry.path) || !entry.path.startsWith(`${PAYLOAD}/`))
  )
    throw damaged(`${FAST_SUMS} and ${MANIFEST} do not list the same files`);
  return fast;
}

/** Copies one file under a temporary name, compares its sum, and only then gives it its own. */
async function copyOne({ context, archive, source, begun }: Restoring, entry: ManifestEntry): Promise<void> {
  context.check();
  const target = absoluteText(begun, entry.path.slice(PAYLOAD.length + 1));
  if (existsSync(target)) {
    // Compared by an earlier run before it got its name.
    context.add(source.sizeOf(entry.path));
    return;
  }
  mkdirSync(path.dirname(target), { recursive: true });
  const temporary = `${target}.part`;
  rmSync(temporary, { force: true });
  let sum: string;
  try {
    const result = await context.pools.content.ask(
      { from: source.place(entry.path), to: temporary, sha512: false },
      { progress: (bytes) => context.add(bytes), stop: context.stop },
    );
    sum = result.xxh128;
  } catch (error) {
    context.check();
    const code = codeOf(error);
    if (code === 'ENOSPC')
      throw new Refused(
        'The volume is full. What had been restored was taken away again; the archive is as it was. Free some space and restore again.',
      );
    if (code === 'ENOENT' || code === 'EIO')
      throw new Refused(
        `This copy of ${archive.name} is damaged: ${entry.path} cannot be read (${code}). Nothing was restored. Restore from another copy.`,
      );
    throw error;
  }
  if (sum !== entry.hash) {
    rmSync(temporary, { force: true });
    throw new Refused(
      `This copy of ${archive.name} is damaged: ${entry.path} is not what was sealed. Nothing was restored. Restore from another copy.`,
    );
  }
  renameNew(temporary, target);
}

/** Points the documents' references, relative inside the bag, to where the media will lie. */
function relinkDocuments({ begun, final }: Restoring, sums: ManifestEntry[]): void {
  const inside = sums.map((entry) => entry.path.slice(PAYLOAD.length + 1));
  const there = new Set(inside);
  for (const document of inside.filter((at) => folderOf(at) === 'documents' && at.endsWith('.otio'))) {
    const place = absoluteText(begun, document);
    const text = readFileSync(place, 'utf8');
    const to = (url: string) => {
      if (url === '' || url.startsWith('/') || /^[a-z]+:/i.test(url)) return null;
      const at = resolveInside('documents', pathOfUrl(url));
      return at === null ? null : at;
    };
    const relinked = relinkOtio(text, {
      file: (url) => {
        const at = to(url);
        return at !== null && there.has(at) ? fileUrlOf(path.join(final, at)) : null;
      },
      sequence: (base, prefix) => {
        const at = to(base);
        return at !== null && inside.some((file) => file.startsWith(`${at}/${prefix}`))
          ? `${fileUrlOf(path.join(final, at))}/`
          : null;
      },
    });
    // Written over only inside the private folder: the relative one is on the carrier, and the original lies beside it.
    rmSync(place);
    writeWhole(place, relinked.text);
  }
}

/** Reads the volume, so that the project is known again with its media, and writes the receipt. */
async function makeKnown({ context, what, archive, volume, placed }: Restoring): Promise<void> {
  const { db, job, pools } = context;
  const volumeId = volume.id as VolumeId;
  context.rename('reading');
  await inTransaction(db, (tx) =>
    claim(tx, { projectId: archive.projectId as ProjectId, volumeId, folder: what.folder, reason: 'restored here' }),
  );
  await readVolume(db, pools.walk, volumeId, { stop: context.stop, now: context.now });
  await readDocuments(db, pools.documents, volumeId, { now: context.now });
  context.check();
  await inTransaction(db, async (tx) => {
    await writeReceipt(tx, {
      at: context.now(),
      who: job.who,
      action: 'project restored',
      title: job.title,
      projectId: archive.projectId,
      jobId: job.id,
      stepId: job.stepId,
      files: archive.files,
      bytes: archive.bytes,
      held: 0,
      facts: { archiveId: archive.id, volume: volume.name, folder: what.folder },
      itemsSha256: itemsHash([`${archive.manifestSha512}  ${what.folder}`]),
    });
    await endJob(tx, job, { state: 'done' });
  });
  rmSync(placed, { force: true });
}
