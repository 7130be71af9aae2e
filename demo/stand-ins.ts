// The tape library and the remote store of the demo house: stand-ins, as a process of their own on loopback. Started with the
// demo; the product only knows their addresses.
import path from 'node:path';
import { pathToFileURL } from 'node:url';
import { startStore } from '#server/carriers/store/stand-in.ts';
import { startLibrary } from '#server/carriers/tape/stand-in.ts';
import { BLANK_TAPES, FAR, TAPES } from './site.ts';

/** @param folder where their tapes and objects are kept */
export async function startStandIns(folder: string, ports: { library: number; store: number }) {
  const library = await startLibrary({
    ...{ folder: path.join(folder, 'library'), slots: 24, drives: 2, tapeBytes: 12e12, port: ports.library },
    barcodes: [...TAPES.map((tape) => tape.barcode), ...BLANK_TAPES],
  });
  const { bucket, accessKey } = FAR;
  const store = await startStore({
    folder: path.join(folder, 'store'),
    bucket,
    accessKey,
    port: ports.store,
    thawSeconds: 20,
  });
  return { library, store };
}

if (import.meta.url === pathToFileURL(process.argv[1] ?? '').href) {
  const [, , folder, library, store] = process.argv;
  const started = await startStandIns(folder!, { library: Number(library), store: Number(store) });
  process.on('SIGTERM', () => {
    void Promise.all([started.library.stop(), started.store.stop()]).then(() => process.exit(0));
  });
}
