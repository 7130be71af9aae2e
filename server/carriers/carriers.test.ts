// Every kind of carrier keeps the same promises: nothing has its name before it is whole, nothing is written over, a lease
// that was taken over writes nothing any more, and what is away or slow is never called damaged.
import { randomBytes, randomUUID } from 'node:crypto';
import { mkdirSync, mkdtempSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { finished } from 'node:stream/promises';
import { codeOf } from '#disk/facts.ts';
import { disk } from './disk/disk.ts';
import type { Carrier, CarrierKind, Pack } from './kind.ts';
import { store } from './store/store.ts';
import { tape } from './tape/tape.ts';
import { type LibraryStandIn, startLibrary } from './tape/stand-in.ts';
import { startStore, type StoreStandIn } from './store/stand-in.ts';

const root = mkdtempSync(path.join(os.tmpdir(), 'carriers-'));
let remote: StoreStandIn;
let library: LibraryStandIn;
const BARCODES = ['KD0001L8', 'KD0002L8', 'KD0003L8', 'KD0004L8'];
beforeAll(async () => {
  library = await startLibrary({
    ...{ folder: path.join(root, 'library'), slots: 8, drives: 2, barcodes: BARCODES, tapeBytes: 400e6 },
  });
  const at = { bucket: 'shelf', accessKey: 'key' };
  remote = await startStore({ folder: path.join(root, 'store'), ...at });
});
afterAll(async () => {
  await remote.stop();
  await library.stop();
  rmSync(root, { recursive: true, force: true });
});

interface Way {
  name: string;
  kind: CarrierKind;
  settings: () => object;
}
const any = (kind: unknown) => kind as CarrierKind;
const WAYS: Way[] = [
  { name: 'disk', kind: any(disk), settings: () => ({ folder: path.join(root, 'disk') }) },
  { name: 'tape', kind: any(tape), settings: () => ({ library: library.address, barcode: 'KD0001L8' }) },
  {
    name: 'remote store',
    kind: any(store),
    settings: () => ({
      ...{ address: remote.address, bucket: 'shelf', accessKey: 'key', secretKey: 'secret', rentedGb: 100 },
      ...{ storageClass: '', thawHours: 0, costPerGbMonth: 0, costPerGbBack: 0 },
    }),
  },
];

let number = 0;
const newPack = (): Pack => ({
  folder: `kd_${number++}`,
  ...{ site: randomUUID(), job: randomUUID(), lease: randomUUID(), item: 1 },
});
const successor = (pack: Pack): Pack => ({ ...pack, lease: randomUUID() });

async function put(carrier: Carrier, pack: Pack, at: string, content: Buffer): Promise<void> {
  const stream = await carrier.write(pack, at, { sizeBytes: content.length, modifiedMs: 0 });
  stream.end(content);
  await finished(stream);
}
async function bytes(carrier: Carrier, of: Pack | string, at: string, range?: { at: number; length: number }) {
  const chunks: Buffer[] = [];
  for await (const chunk of (await carrier.read(of, at, range)) as AsyncIterable<Buffer>) chunks.push(chunk);
  return Buffer.concat(chunks);
}
async function names(carrier: Carrier, of: Pack | string) {
  const all: string[] = [];
  for await (const { at } of carrier.list(of)) all.push(at);
  return all.sort();
}
const refusal = (work: Promise<unknown>) => work.then(() => null).catch((error: unknown) => codeOf(error));

describe.each(WAYS)('$name', ({ kind, settings }) => {
  let carrier: Carrier;
  let identity: string;
  let own: object;
  beforeAll(async () => {
    mkdirSync(path.join(root, 'disk'), { recursive: true });
    ({ settings: own, identity } = await kind.register(settings()));
    carrier = await kind.open(own, identity);
  });
  afterAll(() => carrier.close());

  test('keeps its identity, and another is not opened under it', async () => {
    expect(await kind.look(own)).toMatchObject({ state: 'reachable', identity });
    expect((await kind.register(own)).identity).toBe(identity);
    expect(await refusal(kind.open(own, randomUUID()))).toBe('carrier_away');
  });

  test('what is written has no name before it is placed, and reads back whole and in ranges', async () => {
    const pack = newPack();
    const large = randomBytes(17 << 20);
    expect(await carrier.takeOver(pack)).toBe(false);
    await carrier.begin(pack);
    await put(carrier, pack, 'data/Rushes/a b+ü%.mov', large);
    await put(carrier, pack, 'bagit.txt', Buffer.from('bag'));
    await put(carrier, pack, 'empty', Buffer.alloc(0));
    expect(await carrier.has(pack.folder)).toBe(false);
    expect((await bytes(carrier, pack, 'data/Rushes/a b+ü%.mov')).equals(large)).toBe(true);
    await carrier.place(pack);
    expect(await carrier.has(pack.folder)).toBe(true);
    expect(await names(carrier, pack.folder)).toEqual(['bagit.txt', 'data/Rushes/a b+ü%.mov', 'empty']);
    expect((await bytes(carrier, pack.folder, 'data/Rushes/a b+ü%.mov')).equals(large)).toBe(true);
    const range = { at: 9_000_001, length: 70_000 };
    expect(
      (await bytes(carrier, pack.folder, 'data/Rushes/a b+ü%.mov', range)).equals(large.subarray(9_000_001, 9_070_001)),
    ).toBe(true);
    expect((await bytes(carrier, pack.folder, 'empty')).length).toBe(0);
    expect(await carrier.look(pack.folder, 'bagit.txt')).toMatchObject({ sizeBytes: 3 });
    expect(await carrier.look(pack.folder, 'none')).toBeNull();
    expect(await refusal(bytes(carrier, pack.folder, 'none'))).toBe('ENOENT');
    expect(await carrier.unfinished(pack.site)).toEqual([]);
  });

  test('a name that is taken is never written over', async () => {
    const [first, second] = [newPack(), newPack()];
    second.folder = first.folder;
    for (const pack of [first, second]) {
      await carrier.begin(pack);
      await put(carrier, pack, 'who', Buffer.from(pack.lease));
      if (pack === first) await carrier.place(first);
    }
    expect(await refusal(carrier.place(second))).toBe('EEXIST');
    expect((await bytes(carrier, first.folder, 'who')).toString()).toBe(first.lease);
    await carrier.discard(second);
    expect(await carrier.unfinished(second.site)).toEqual([]);
    expect((await bytes(carrier, first.folder, 'who')).toString()).toBe(first.lease);
  });

  test('who was taken over writes nothing any more, and the successor goes on with what was whole', async () => {
    const pack = newPack();
    await carrier.begin(pack);
    await put(carrier, pack, 'a', Buffer.from('first'));
    const late = await carrier.write(pack, 'b', { sizeBytes: 4, modifiedMs: 0 });
    const next = successor(pack);
    expect(await carrier.takeOver(next)).toBe(true);
    late.end(Buffer.from('late'));
    expect(await refusal(finished(late))).toBe('pack_gone');
    expect(await refusal(put(carrier, pack, 'c', Buffer.from('late')))).toBe('pack_gone');
    expect(await refusal(carrier.place(pack))).toBe('pack_gone');
    await carrier.discard(pack);
    expect(await names(carrier, next)).toEqual(['a']);
    await put(carrier, next, 'b', Buffer.from('next'));
    await carrier.place(next);
    expect((await bytes(carrier, next.folder, 'b')).toString()).toBe('next');
    expect(await carrier.takeOver(successor(next))).toBe(false);
    expect(await carrier.unfinished(pack.site)).toEqual([]);
  });

  test('what is thrown away or taken out is gone, and what is broken off is not there', async () => {
    const pack = newPack();
    await carrier.begin(pack);
    await put(carrier, pack, 'a', Buffer.from('a'));
    await put(carrier, pack, 'b', Buffer.from('b'));
    await carrier.remove(pack, 'a');
    const broken = await carrier.write(pack, 'c', { sizeBytes: 20 << 20, modifiedMs: 0 });
    await new Promise((resolve) => broken.write(randomBytes(9 << 20), resolve));
    broken.destroy();
    await new Promise((resolve) => broken.once('close', resolve));
    expect(await names(carrier, pack)).toEqual(['b']);
    expect(await carrier.unfinished(pack.site)).toMatchObject([{ lease: pack.lease }]);
    await carrier.discard({ ...pack, folder: '' });
    expect(await carrier.unfinished(pack.site)).toEqual([]);
    expect(await carrier.takeOver(successor(pack))).toBe(false);
  });
});

describe('a remote store in trouble', () => {
  const way = WAYS[2]!;
  const opened = async () => {
    const { settings, identity } = await way.kind.register(way.settings());
    return { carrier: await way.kind.open(settings, identity), settings, identity };
  };
  const placedPack = async (carrier: Carrier) => {
    const pack = newPack();
    await carrier.begin(pack);
    await put(carrier, pack, 'a', Buffer.from('whole'));
    await carrier.place(pack);
    return pack;
  };

  test.each([
    ['does not answer', { away: true }],
    ['cannot read it', { unreadableIn: '/a' }],
  ])('one that %s is away: nothing is said of what lies there', async (_what, faults) => {
    const { carrier } = await opened();
    const pack = await placedPack(carrier);
    Object.assign(remote.faults, faults);
    try {
      expect(await refusal(bytes(carrier, pack.folder, 'a'))).toBe('carrier_away');
    } finally {
      Object.assign(remote.faults, { away: false, unreadableIn: null });
    }
    expect((await bytes(carrier, pack.folder, 'a')).toString()).toBe('whole');
    await carrier.close();
  });

  test('another bucket under its name is not taken for it', async () => {
    const { carrier, settings, identity } = await opened();
    remote.faults.swapped = true;
    try {
      expect(await refusal(way.kind.open(settings, identity))).toBe('carrier_away');
      expect(await way.kind.look(settings)).toMatchObject({ state: 'reachable', identity: null });
    } finally {
      remote.faults.swapped = false;
    }
    await carrier.close();
  });

  test('one that is full says so, and what was there stays', async () => {
    const { carrier } = await opened();
    const pack = newPack();
    await carrier.begin(pack);
    remote.faults.full = true;
    try {
      expect(await refusal(put(carrier, pack, 'a', Buffer.from('a')))).toBe('ENOSPC');
      expect(await refusal(put(carrier, pack, 'b', randomBytes(9 << 20)))).toBe('ENOSPC');
    } finally {
      remote.faults.full = false;
    }
    expect(await names(carrier, pack)).toEqual([]);
    await carrier.discard(pack);
    await carrier.close();
  });
});

describe('a tape in trouble', () => {
  const settings = (barcode: string) => ({ library: library.address, barcode });
  const opened = async (barcode = 'KD0002L8') => {
    const { identity } = await tape.register(settings(barcode));
    return { carrier: await tape.open(settings(barcode), identity), identity };
  };
  const placedPack = async (carrier: Carrier, content = Buffer.from('whole')) => {
    const pack = newPack();
    await carrier.begin(pack);
    await put(carrier, pack, 'a', content);
    await carrier.place(pack);
    return pack;
  };
  const calm = {
    ...{ dirtyDrive: null, failedDrive: null, unreadable: null, flipped: null, taken: null, swapped: null },
    full: false,
  };
  afterEach(() => void Object.assign(library.faults, calm));

  test('a drive that is dirty or fails is changed for the other: nothing is said of the tape', async () => {
    const { carrier } = await opened();
    const content = randomBytes(5 << 20);
    const pack = await placedPack(carrier, content);
    for (const fault of ['dirtyDrive', 'failedDrive'] as const)
      for (const drive of [0, 1]) {
        Object.assign(library.faults, calm, { [fault]: drive });
        expect((await bytes(carrier, pack.folder, 'a')).equals(content)).toBe(true);
      }
    Object.assign(library.faults, calm, { dirtyDrive: 0, failedDrive: 1 });
    expect(await refusal(bytes(carrier, pack.folder, 'a'))).toBe('carrier_away');
  });

  test('a block that no drive reads is unreadable, and a bit that turned is seen in the bytes', async () => {
    const { carrier } = await opened();
    const content = randomBytes(3 << 20);
    const pack = await placedPack(carrier, content);
    const [block] = await carrier.positions!(pack.folder, ['a']);
    library.faults.unreadable = { barcode: 'KD0002L8', block: block! + 1 };
    expect(await refusal(bytes(carrier, pack.folder, 'a'))).toBe('EIO');
    Object.assign(library.faults, calm, { flipped: { barcode: 'KD0002L8', block: block! } });
    const read = await bytes(carrier, pack.folder, 'a');
    expect([read.length, read.equals(content)]).toEqual([content.length, false]);
  });

  test('one that was taken out, or another with its label, is away', async () => {
    const { carrier, identity } = await opened();
    const pack = await placedPack(carrier);
    library.faults.taken = 'KD0002L8';
    expect(await refusal(bytes(carrier, pack.folder, 'a'))).toBe('carrier_away');
    expect(await tape.look(settings('KD0002L8'))).toMatchObject({ state: 'unreachable' });
    Object.assign(library.faults, calm, { swapped: 'KD0002L8' });
    expect(await refusal(tape.open(settings('KD0002L8'), identity))).toBe('carrier_away');
    Object.assign(library.faults, calm);
    expect((await bytes(carrier, pack.folder, 'a')).toString()).toBe('whole');
  });

  test('one that is full says so, and its index still fits', async () => {
    const { carrier } = await opened('KD0003L8');
    const pack = newPack();
    await carrier.begin(pack);
    await put(carrier, pack, 'a', Buffer.from('a'));
    const before = await carrier.freeBytes();
    const large = await carrier.write(pack, 'b', { sizeBytes: 500e6, modifiedMs: 0 });
    const block = randomBytes(4 << 20);
    const writing = (async () => {
      for (let i = 0; i < 120 && !large.destroyed; i++)
        await new Promise<void>((resolve, reject) =>
          large.write(block, (error) => (error ? reject(error) : resolve())),
        );
    })();
    large.on('error', () => undefined);
    expect(await refusal(writing)).toBe('ENOSPC');
    await carrier.place(pack);
    expect(await names(carrier, pack.folder)).toEqual(['a']);
    expect([before > 300e6, await carrier.freeBytes()]).toEqual([true, 0]);
  }, 60_000);

  test('many tapes are read in turn with two drives, and two threads that write one at once lose nothing', async () => {
    const one = await opened('KD0004L8');
    const two = await tape.open(settings('KD0004L8'), one.identity);
    const pack = newPack();
    await one.carrier.begin(pack);
    const contents = [randomBytes(9 << 20), randomBytes(9 << 20)];
    await Promise.all([put(one.carrier, pack, 'a', contents[0]!), put(two, pack, 'b', contents[1]!)]);
    await one.carrier.place(pack);
    const others = await Promise.all(['KD0002L8', 'KD0001L8'].map((barcode) => opened(barcode)));
    const packs: Pack[] = [];
    for (const other of others) packs.push(await placedPack(other.carrier));
    const read = await Promise.all([
      bytes(one.carrier, pack.folder, 'a'),
      bytes(two, pack.folder, 'b'),
      ...others.map((other, i) => bytes(other.carrier, packs[i]!.folder, 'a')),
    ]);
    expect(read.map((own) => own.length)).toEqual([9 << 20, 9 << 20, 5, 5]);
    expect(contents.every((content, i) => content.equals(read[i]!))).toBe(true);
  }, 60_000);

  test('an index partition that was broken off is made up for behind the data', async () => {
    const { carrier, identity } = await opened('KD0002L8');
    const pack = await placedPack(carrier);
    const { TapeLibrary } = await import('./tape/library.ts');
    const raw = new TapeLibrary(library.address, 'KD0002L8');
    await raw.reserve('rot');
    await raw.append({ partition: 'a', at: 4, records: ['mark', Buffer.from('<ltfsind')], owner: 'rot' });
    // Another process knows nothing of the tape yet.
    await jest.isolateModulesAsync(async () => {
      const { tape: fresh } = await import('./tape/tape.ts');
      const again = await fresh.open(settings('KD0002L8'), identity);
      expect(await again.has(pack.folder)).toBe(true);
      expect((await bytes(again, pack.folder, 'a')).toString()).toBe('whole');
    });
  });
});

describe.each(WAYS.slice(1))('$name: broken off', ({ kind, settings }) => {
  const faults = () => (kind.kind === 'tape' ? library.faults : remote.faults);
  test('placing that was broken off at any call is gone on with, or thrown away without a trace', async () => {
    const { settings: own, identity } = await kind.register(settings());
    const carrier = await kind.open(own, identity);
    for (const ends of ['placed', 'thrown away'])
      // Every third call, from another one for either end.
      for (let calls = ends === 'placed' ? 0 : 1; ; calls += 3) {
        const pack = newPack();
        await carrier.begin(pack);
        for (const at of ['a', 'b', 'c']) await put(carrier, pack, at, Buffer.from(at));
        const broken = await breakAfter(calls, () => carrier.place(pack));
        const next = successor(pack);
        const goesOn = await carrier.takeOver(next);
        if (ends === 'placed' && goesOn) await carrier.place(next);
        if (ends === 'thrown away' && goesOn) await carrier.discard(next);
        if (ends === 'placed' || !goesOn) {
          expect(await names(carrier, pack.folder)).toEqual(['a', 'b', 'c']);
          expect((await bytes(carrier, pack.folder, 'c')).toString()).toBe('c');
        } else {
          expect(await carrier.has(pack.folder)).toBe(false);
          expect(await names(carrier, pack.folder)).toEqual([]);
        }
        expect(await carrier.unfinished(pack.site)).toEqual([]);
        if (!broken) break;
      }
    await carrier.close();
  }, 120_000);

  /** The store does not answer any more from the n-th call on, until the work has failed. */
  async function breakAfter(calls: number, work: () => Promise<void>): Promise<boolean> {
    faults().awayAfter = calls;
    try {
      await work();
      return false;
    } catch (error) {
      expect(codeOf(error)).toBe('carrier_away');
      return true;
    } finally {
      faults().awayAfter = null;
    }
  }
});
