// How an archive is packed on a carrier: as a folder, or as one file; or as it was found, where somebody else packed it. Whoever
// adds a way writes its container and one line here; everything else goes on speaking of files in a pack.
import type { Container } from '#core/archive/containers/container.ts';
import { tar } from '#core/archive/containers/tar.ts';
import { zip } from '#core/archive/containers/zip.ts';
import { Registry } from '#core/registry.ts';
import { FoundFolder } from './as-found.ts';
import { FoundPacked } from './found-packed.ts';
import type { Carrier } from './kind.ts';
import { PackedCarrier } from './packed.ts';

export const FOLDER = 'folder';
/** What others wrote: nothing in it is ours, and all of it is payload. */
const AS_FOUND = ' as found';
export const isAsFound = (packer: string): boolean => packer.endsWith(AS_FOUND);

/** How what lies under a name is packed, by whoever did: by its ending. */
export const packerOfFound = (name: string): string =>
  `${/\.tar$/i.test(name) ? 'tar' : /\.zip$/i.test(name) ? 'zip' : 'folder'}${AS_FOUND}`;

const packers = new Registry<Container>('way to pack');
packers.add('tar', tar);
packers.add('zip', zip);

export const isOneFile = (packer: string): boolean => packer !== FOLDER && !isAsFound(packer);

/** What lies on a carrier under this name: a folder, or one file. */
export const packedName = (folder: string, packer: string): string => folder + (packers.get(packer)?.ending ?? '');

/** The same carrier, where what is written to it becomes one file. */
export function packed(carrier: Carrier, place: { packer: string }): Carrier {
  if (place.packer === FOLDER) return carrier;
  if (isAsFound(place.packer)) {
    const kind = place.packer.slice(0, -AS_FOUND.length);
    return kind === 'tar' || kind === 'zip'
      ? new FoundPacked(carrier, kind, JSON.stringify(place))
      : new FoundFolder(carrier);
  }
  const container = packers.get(place.packer);
  if (!container) throw new Error(`There is no way to pack called ${place.packer}.`);
  return new PackedCarrier(carrier, container, JSON.stringify(place));
}
