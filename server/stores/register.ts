// Registering and changing volumes and carriers through the interface: the web process touches no disk of the site, so a
// worker looks, gives the identity and writes it down, with a receipt. Whoever asked waits for it to end.
import { z } from 'zod';
import { DUTIES } from '#core/model.ts';
import { carrierKindOf } from '../carriers/kinds.ts';
import { askToRead } from '../site/work.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import type { JobContext } from '../runtime/context.ts';
import { enqueue } from '../runtime/queue.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';
import { changeVolume, placeReceiptIn, type VolumeChange } from './places.ts';
import { addCarrier, addVolume, type NewCarrier, type NewVolume } from './stores.ts';
import { type By } from './places.ts';

const traits = {
  systemDrive: z.boolean(),
  portable: z.boolean(),
  shared: z.boolean(),
  linkMbits: z.number().nullable(),
  disk: z.string().optional(),
};
const newVolume = z.object({
  station: z.string(),
  stationRole: z.enum(['workstation', 'server', 'portable']),
  name: z.string(),
  path: z.string(),
  duty: z.enum(DUTIES),
  quotaBytes: z.number().nullable(),
  readEveryHours: z.number().nullable(),
  ...traits,
});
const newCarrier = z.object({
  name: z.string(),
  kind: z.string(),
  place: z.string(),
  settings: z.record(z.string(), z.unknown()),
  capacityBytes: z.number().nullable(),
});
const volumeChange = z.object({
  volumeId: z.number().int(),
  name: z.string(),
  duty: z.enum(DUTIES),
  quotaBytes: z.number().nullable(),
  path: z.string(),
  readEveryHours: z.number().nullable(),
  ...traits,
});

async function ending(context: JobContext, work: () => Promise<void>): Promise<void> {
  try {
    await work();
    await endPlainly(context);
  } catch (thrown) {
    await endAfter(context, thrown);
  }
}

const byOf = (context: JobContext): By => ({ who: context.job.who, now: context.now() });

export const registerVolumeWork = workKind({
  kind: 'register volume',
  params: newVolume,
  run: (context, given) =>
    ending(context, async () => {
      const volumeId = await addVolume(context.db, given, context.now());
      await placeReceiptIn(context.db, byOf(context), {
        action: 'volume added',
        title: `${given.name} at ${given.path} on ${given.station}`,
      });
      await askToRead(context.db, [volumeId], byOf(context));
    }),
});

export const registerCarrierWork = workKind({
  kind: 'register carrier',
  params: newCarrier,
  run: (context, given) =>
    ending(context, async () => {
      await addCarrier(context.db, given, context.now());
      const kind = carrierKindOf(given.kind);
      const settings = kind.settings.parse(given.settings);
      await placeReceiptIn(context.db, byOf(context), {
        action: 'carrier added',
        title: `${given.name}, a ${kind.name}: ${kind.describe(settings)}`,
      });
    }),
});

export const changeVolumeWork = workKind({
  kind: 'change volume',
  params: volumeChange,
  run: (context, change) => ending(context, () => changeVolume(context.db, change as VolumeChange, byOf(context))),
});

/** Asks a worker to register a volume; gives the number of the work. */
export const askToRegisterVolume = (db: Database, given: NewVolume, by: By) =>
  ask(db, { kind: registerVolumeWork.kind, title: `Register ${given.name}`, params: newVolume.parse(given) }, by);

export const askToRegisterCarrier = (db: Database, given: NewCarrier, by: By) =>
  ask(db, { kind: registerCarrierWork.kind, title: `Register ${given.name}`, params: newCarrier.parse(given) }, by);

export const askToChangeVolume = (db: Database, change: VolumeChange, by: By) =>
  ask(db, { kind: changeVolumeWork.kind, title: `Change ${change.name}`, params: volumeChange.parse(change) }, by);

const ask = (db: Database, job: { kind: string; title: string; params: Record<string, unknown> }, by: By) =>
  inTransaction(db, (tx) => enqueue(tx, { ...job, who: by.who, stores: [] }, by.now));
