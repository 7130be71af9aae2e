// What the storage page asks of the services, and what it changes through them.
import type { z } from 'zod';
import type { Route } from './+types/storage';
import { placesForm } from '#contract/forms.ts';
import type { JobId, StationId, VolumeId } from '#core/model.ts';
import { allMounts, changeStation, retireStation, retireVolume, setMount, stationRows } from '#server/stores/places.ts';
import { lastReading } from '#server/readings/notices.ts';
import { rackVolumes } from '#server/site/rack.ts';
import { carrierRows } from '#server/archives/shelf.ts';
import { awaitJob } from '#server/runtime/await-job.ts';
import { askToChangeVolume, askToRegisterCarrier, askToRegisterVolume } from '#server/stores/register.ts';
import { allCarrierKinds } from '#server/carriers/kinds.ts';
import { answer } from '../answer.server';
import { db } from '../db.server';
import { personOf } from '../person.server';

export async function loader({ request }: Route.LoaderArgs) {
  const [volumes, mounts, carriers, stations] = await Promise.all([
    rackVolumes(db()),
    allMounts(db()),
    carrierRows(db()),
    stationRows(db()),
  ]);
  const asked = new URL(request.url).searchParams.get('edit');
  const edit = volumes.find((volume) => String(volume.volumeId) === asked) ?? null;
  const reading = edit ? await lastReading(db(), edit.volumeId) : null;
  return {
    volumes,
    mounts,
    carriers,
    stations,
    edit,
    reading,
    kinds: allCarrierKinds().map(({ kind, name, fields }) => ({ kind, name, fields: [...fields] })),
    adding: asked === 'carrier' ? ('carrier' as const) : ('volume' as const),
  };
}

/** A worker does it, since it stands at the disks; its answer is the answer. */
const done = async (jobId: Promise<JobId>) => awaitJob(db(), await jobId);

type VolumeForm = Extract<z.output<typeof placesForm>, { intent: 'add volume' | 'change volume' }>;

const volumeFacts = (form: VolumeForm) => ({
  name: form.name,
  path: form.path,
  duty: form.duty,
  quotaBytes: form.capacity,
  readEveryHours: form.everyHours,
  systemDrive: form.systemDrive,
  portable: form.portable,
  shared: form.shared,
  linkMbits: form.linkMbits,
  disk: form.disk,
});

export async function action({ request }: Route.ActionArgs) {
  const by = { who: await personOf(request), now: new Date() };
  return answer(request, placesForm, async (form) => {
    switch (form.intent) {
      case 'add volume': {
        const given = { station: form.station, stationRole: form.role, ...volumeFacts(form) };
        await done(askToRegisterVolume(db(), given, by));
        return `${form.name} is registered and is being read.`;
      }
      case 'change volume': {
        const change = { volumeId: form.volumeId as VolumeId, ...volumeFacts(form) };
        await done(askToChangeVolume(db(), change, by));
        return `${form.name} is changed. Kinds follow its duty at the next reading.`;
      }
      case 'change station':
        await changeStation(db(), { stationId: form.stationId as StationId, name: form.name, role: form.role }, by);
        return `${form.name} is changed.`;
      case 'retire station':
        await retireStation(db(), form.stationId as StationId, by);
        return 'The station is retired. Nothing on any disk was touched.';
      case 'retire':
        await retireVolume(db(), form.volumeId as VolumeId, by);
        return 'It is retired. What was known of it is kept; nothing on it was touched.';
      case 'mount':
        await setMount(db(), { volumeId: form.volumeId as VolumeId, station: form.station, path: form.path }, by);
        return form.path === '' ? `Its path on ${form.station} is forgotten.` : `Its path on ${form.station} is kept.`;
      case 'add carrier': {
        const { name, kind, place, settings, capacity } = form;
        await done(askToRegisterCarrier(db(), { name, kind, place, settings, capacityBytes: capacity }, by));
        return `${name} is registered.`;
      }
    }
  });
}
