// What an archive's page asks of the services, and what it changes through them.
import type { Route } from './+types/archive';
import { archiveForm } from '#contract/forms.ts';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { archiveProject } from '#core/steps/archive.ts';
import { counted, listed, size } from '#core/wording/amounts.ts';
import { archivePageSentence, awaitedWords, letGoSentence, shapeWords, takenInWords } from '#core/wording/archives.ts';
import { holdsBack, keepingOf, letGo, setHold, setKeeping } from '#server/archives/keeping.ts';
import { awaitedBy } from '#server/archives/kin.ts';
import { archiveById, contentRows, partRows, receiptsOfArchive, shapeOf, takenInFacts } from '#server/archives/page.ts';
import { binsIn, timelinesIn } from '#server/archives/contents.ts';
import { measuredRates } from '#server/archives/rates.ts';
import { askToReadBackAll, readBackWords } from '#server/archives/read-back.ts';
import { takesPacked } from '#server/carriers/kinds.ts';
import { archiveRows, carrierRows } from '#server/archives/shelf.ts';
import { askForViewing, viewingRows } from '#server/archives/viewing.ts';
import { inTransaction } from '#server/db/connect.ts';
import { allMounts } from '#server/stores/places.ts';
import { projectById } from '#server/projects/projects.ts';
import { addRelease, releaseKey, releaseOf } from '#server/steps/release.ts';
import { addCopy, repairable } from '#server/steps/copy-archive.ts';
import { addPutBack } from '#server/steps/put-back.ts';
import { addRestore } from '#server/steps/restore.ts';
import { answer, idFrom } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

const isInWork = (state: string): boolean => state === 'in work' || state === 'finishing';

/** What can be asked for of it by name, and what it takes to have it where. */
async function portionsOf(archiveId: number) {
  const [timelines, bins, rates, mounts] = await Promise.all([
    timelinesIn(db(), archiveId),
    binsIn(db(), archiveId),
    measuredRates(db()),
    allMounts(db()),
  ]);
  return { timelines, bins, bytesPerSecond: rates.readBack, mounts };
}

export async function loader({ params, request }: Route.LoaderArgs) {
  const archiveId = idFrom(params.archiveId, 'archive');
  const known = await archiveById(db(), archiveId);
  const [row] = known ? await archiveRows(db(), archiveId) : [];
  if (!known || !row) throw new Response('There is no such archive on the shelf.', { status: 404 });
  const search = new URL(request.url).searchParams;
  const word = (search.get('q') ?? '').trim().slice(0, 200);
  const after = Math.max(0, Math.floor(Number(search.get('after') ?? 0)) || 0);
  const [parts, content, shape, receipts, release, project, carriers, portions, damaged, taken, viewing, awaited] =
    await Promise.all([
      partRows(db(), archiveId),
      contentRows(db(), archiveId, { word, after }),
      shapeOf(db(), known.jobId),
      receiptsOfArchive(db(), { archiveId, projectId: known.projectId }),
      releaseOf(db(), { archiveId, projectId: known.projectId }),
      projectById(db(), known.projectId as ProjectId),
      carrierRows(db()),
      portionsOf(archiveId),
      repairable(db(), archiveId as ArchiveId),
      takenInFacts(db(), known),
      viewingRows(db(), archiveId),
      awaitedBy(db(), archiveId),
    ]);
  const asked = archiveProject.params.safeParse(shape);
  const nowMs = Date.now();
  const good = row.copies.filter((copy) => copy.state === 'good');
  const facts = {
    ...{ name: row.name, sealedMs: row.sealedMs, files: row.files, bytes: row.bytes },
    good: good.map(({ carriers, readBackMs }) => ({ carriers: carriers.length, readBackMs })),
    damaged: row.copies.filter((copy) => copy.state === 'damaged').length,
  };
  return {
    archive: row,
    sentence: `${row.state === 'let go' ? letGoSentence(facts) : archivePageSentence(facts, nowMs)}${awaited === null ? '' : ` ${awaitedWords(awaited)}: take that in, and they are part of it again.`}`,
    project: project ? { id: project.id, name: project.name, isInWork: isInWork(project.state) } : null,
    parts,
    portions,
    content: content.rows,
    more: content.more,
    word,
    viewing,
    shape: [
      ...(asked.success ? shapeWords(asked.data.scope) : []),
      ...(taken ? takenInWords({ ...taken, files: row.files, same: taken.sameInOtherArchives }) : []),
      ...(row.buildsOn === null ? [] : [`Builds on ${row.buildsOn}`]),
    ],
    stayedOut: taken?.stayedOut ?? null,
    keeping: { ...keepingOf(known), holdsBack: await holdsBack(db(), known, new Date(nowMs)) },
    receipts,
    /** Damaged copies that wait for repair. */
    repairable: damaged,
    /** Where another copy could go: what holds none of it, and takes what is packed like it. */
    others: carriers
      .filter(({ kind }) => takesPacked(kind, known.packer))
      .filter(({ carrierId }) => !parts.some((part) => part.carrierId === carrierId && part.ofBase === null))
      .map(({ carrierId, name, place, freeBytes, state }) => ({ carrierId, name, place, freeBytes, state })),
    release: { ...release, parts: release.parts.map((part) => ({ ...part, key: releaseKey(part) })) },
    nowMs,
  };
}

export async function action({ request, params }: Route.ActionArgs) {
  return answer(request, archiveForm, async (form) => {
    const now = new Date();
    const archiveId = idFrom(params.archiveId, 'archive') as ArchiveId;
    switch (form.intent) {
      case 'release': {
        const { parts } = form;
        const added = await addRelease(db(), { archiveId, originals: form.originals === 'yes', parts, now });
        return `Added ${size(added.bytes)} in ${counted(added.steps, 'step')} to the plan. Nothing goes before the plan is run.`;
      }
      case 'read back': {
        const on = await askToReadBackAll(db(), archiveId, { who: await personOf(request), now, on: form.on });
        const dear = await readBackWords(db(), archiveId, form.on);
        return `Reading back what is on ${listed(on)} begins as soon as a worker reaches it${dear}. The ledger will say how it is.`;
      }
      case 'copy': {
        const carrierIds = form.carrierIds as CarrierId[];
        const added = await addCopy(db(), { archiveId, carrierIds, instead: form.instead, now });
        return `Added ${form.instead === undefined ? 'a copy' : 'the repair'} of ${size(added.bytes)} to the plan. Review the plan and run it.`;
      }
      case 'keep': {
        const { rule, until } = form;
        return `${await setKeeping(db(), archiveId, { rule, until }, { who: await personOf(request), now })}.`;
      }
      case 'hold':
        return `${await setHold(db(), archiveId, form.lift ? null : form.reason, { who: await personOf(request), now })}.`;
      case 'let go': {
        const { name } = await letGo(db(), archiveId, form.typed, { who: await personOf(request), now });
        return `${name} is let go. The ledger has it, with what may be wiped.`;
      }
      case 'viewing': {
        const asked = await inTransaction(db(), (tx) => askForViewing(tx, archiveId, now));
        return asked === 0
          ? 'There is none to make: each is made, or its original cannot be reached.'
          : `${counted(asked, 'viewing copy', 'viewing copies')} will be made as soon as a worker reaches the originals.`;
      }
      case 'put back': {
        const { copyId, only } = form;
        const added = await addPutBack(db(), { archiveId, copyId, only, now });
        return `Added putting ${size(added.bytes)} back to the plan. Review the plan and run it.`;
      }
      case 'restore': {
        const { copyId, folder, only, handles, station } = form;
        const volumeId = form.volumeId as VolumeId;
        const added = await addRestore(db(), { archiveId, copyId, volumeId, folder, only, handles, station, now });
        return `Added the restore of ${size(added.bytes)} to the plan. Review the plan and run it.`;
      }
    }
  });
}
