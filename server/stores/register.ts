// Registering through the interface: the same as in stores.ts, with a receipt, and a new volume is read at once.
import type { VolumeId } from '#core/model.ts';
import { type Database, inTransaction } from '../db/connect.ts';
import { type By, placeReceipt } from './places.ts';
import { addCarrier, addVolume, type NewCarrier, type NewVolume } from './stores.ts';
import { askToRead } from '../site/work.ts';

export async function registerVolume(db: Database, given: NewVolume, by: By): Promise<VolumeId> {
  const volumeId = await addVolume(db, given, by.now);
  await inTransaction(db, (tx) =>
    placeReceipt(tx, by, 'volume added', `${given.name} at ${given.path} on ${given.station}`),
  );
  await askToRead(db, [volumeId], by);
  return volumeId;
}

export async function registerCarrier(db: Database, given: NewCarrier, by: By): Promise<void> {
  await addCarrier(db, given, by.now);
  await inTransaction(db, (tx) => placeReceipt(tx, by, 'carrier added', `${given.name} at ${given.path}`));
}
