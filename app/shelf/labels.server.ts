// Labels of carriers for the printer: the number as text and as a QR code (ISO/IEC 18004), so that a scanner types it into the
// search field.
import QRCode from 'qrcode';
import type { Route } from './+types/labels';
import { carrierRows } from '#server/archives/shelf.ts';
import { siteName } from '#server/site/site.ts';
import { db } from '../db.server';

/** Dark modules of the code, as the path of a square of `size` units. */
export interface Label {
  size: number;
  path: string;
}

export async function labelOf(name: string): Promise<Label> {
  const { modules } = await Promise.resolve(QRCode.create(name, { errorCorrectionLevel: 'M' }));
  let path = '';
  for (let y = 0; y < modules.size; y++)
    for (let x = 0; x < modules.size; x++) if (modules.get(y, x)) path += `M${x} ${y}h1v1h-1z`;
  return { size: modules.size, path };
}

export async function loader({ request }: Route.LoaderArgs) {
  const asked = (new URL(request.url).searchParams.get('c') ?? '').split(',').map(Number);
  const all = await carrierRows(db());
  const chosen = all.filter((carrier) => asked.includes(carrier.carrierId));
  const carriers = chosen.length > 0 ? chosen : all;
  return {
    site: await siteName(db()),
    labels: await Promise.all(
      carriers.map(async ({ carrierId, name, type, place, capacityBytes }) => ({
        ...{ carrierId, name, type, place, capacityBytes },
        code: await labelOf(name),
      })),
    ),
  };
}
