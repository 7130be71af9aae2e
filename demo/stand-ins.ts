// The tape library, the remote store and the mail server of the demo house: stand-ins, as a process of their own on loopback. Started with the
// demo; the product only knows their addresses.
import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { pathToFileURL } from 'node:url';
import { startStore } from '#server/carriers/store/stand-in.ts';
import { startLibrary } from '#server/carriers/tape/stand-in.ts';
import { startMailServer } from '#server/post/stand-in.ts';
import { BLANK_TAPES, FAR, TAPES } from './site.ts';

/** @param folder where their tapes, objects and mails are kept */
export async function startStandIns(folder: string, ports: { library: number; store: number; mail: number }) {
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
  const mails = path.join(folder, 'mails');
  mkdirSync(mails, { recursive: true });
  const mail = await startMailServer({
    port: ports.mail,
    taken: ({ raw }) => writeFileSync(path.join(mails, `${new Date().toISOString().replaceAll(':', '-')}.eml`), raw),
  });
  return { library, store, mail };
}

if (import.meta.url === pathToFileURL(process.argv[1] ?? '').href) {
  const [, , folder, library, store, mail] = process.argv;
  const ports = { library: Number(library), store: Number(store), mail: Number(mail) };
  const started = await startStandIns(folder!, ports);
  process.on('SIGTERM', () => {
    void Promise.all([started.library.stop(), started.store.stop(), started.mail.stop()]).then(() => process.exit(0));
  });
}
