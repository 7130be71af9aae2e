// A treemap of folders and files by bytes. D3 lays out, React draws links, so that every area is reached by keyboard;
// the table beside it holds the same numbers.
import clsx from 'clsx';
import { hierarchy, treemap, treemapSquarify } from 'd3';
import { Link } from 'react-router';
import type { Kind } from '#core/model.ts';
import { size } from '#core/say/amounts.ts';
import { kindColour } from '../ui/parts';

interface Area {
  key: string;
  name: string;
  bytes: number;
  folderId: number | null;
  kind: Kind | null;
}

const WIDTH = 100;
const HEIGHT = 64;
const MOST = 60;

export function AreaMap({
  rows,
  files,
  to,
}: {
  rows: { folderId: number; name: string; bytes: number }[];
  files: { fileId: number; name: string; kind: Kind; bytes: number }[];
  to: (folderId: number) => string;
}) {
  const areas: Area[] = [
    ...rows.map((row) => ({
      key: `d${row.folderId}`,
      name: row.name,
      bytes: row.bytes,
      folderId: row.folderId,
      kind: null,
    })),
    ...files.map((file) => ({
      key: `f${file.fileId}`,
      name: file.name,
      bytes: file.bytes,
      folderId: null,
      kind: file.kind,
    })),
  ]
    .filter((area) => area.bytes > 0)
    .sort((a, b) => b.bytes - a.bytes);
  const shown = areas.slice(0, MOST);
  const rest = areas.slice(MOST).reduce((sum, area) => sum + area.bytes, 0);
  if (rest > 0)
    shown.push({ key: 'rest', name: `${areas.length - MOST} smaller`, bytes: rest, folderId: null, kind: 'other' });
  const root = treemap<{ children?: Area[] } & Partial<Area>>()
    .size([WIDTH, HEIGHT])
    .paddingInner(0.35)
    .tile(treemapSquarify.ratio(1.4))(
    hierarchy<{ children?: Area[] } & Partial<Area>>({ children: shown }).sum((area) => area.bytes ?? 0),
  );
  return (
    <div className="relative h-[max(300px,calc(100vh-340px))] w-full" role="group" aria-label="Map of area by size">
      {root.leaves().map((leaf) => {
        const area = leaf.data as Area;
        const [w, h] = [(leaf.x1 - leaf.x0) / WIDTH, (leaf.y1 - leaf.y0) / HEIGHT];
        const style = {
          left: `${(leaf.x0 / WIDTH) * 100}%`,
          top: `${(leaf.y0 / HEIGHT) * 100}%`,
          width: `${w * 100}%`,
          height: `${h * 100}%`,
        };
        const words = `${area.name}, ${size(area.bytes)}`;
        const inside = w > 0.09 && h > 0.07 && (
          <>
            <span className="block truncate font-medium">{area.name}</span>
            <span className="block truncate text-[13px]">{size(area.bytes)}</span>
          </>
        );
        const look = clsx('absolute overflow-hidden rounded-[3px] text-left leading-tight', inside && 'px-2 py-1');
        if (area.folderId === null)
          return (
            <div
              key={area.key}
              title={words}
              className={`${look} bg-free text-ink`}
              style={{ ...style, boxShadow: `inset 4px 0 0 ${kindColour(area.kind ?? 'other')}` }}
            >
              {inside}
              <span className="sr-only">{inside ? '' : words}</span>
            </div>
          );
        return (
          <Link
            key={area.key}
            to={to(area.folderId)}
            title={words}
            aria-label={words}
            className={`${look} bg-accent-wash text-ink hover:bg-accent hover:text-on-accent`}
            style={style}
          >
            {inside}
          </Link>
        );
      })}
    </div>
  );
}
