// A treemap of parts by bytes, and inside the larger ones what lies in them. D3 lays out, React draws links, so that every part is
// reached by keyboard; the table beside it holds the same numbers and lights up with it.
import clsx from 'clsx';
import { hierarchy, type HierarchyRectangularNode, treemap, treemapSquarify } from 'd3';
import type { KeyboardEvent } from 'react';
import { Link } from 'react-router';
import { size } from '#core/wording/amounts.ts';
import { beside, type Direction, type Rect } from './beside';

export interface MapArea {
  key: string;
  name: string;
  bytes: number;
  /** Where a click leads; null for what is gathered from many. */
  to: string | null;
  /** A mark at the edge: the kind of a file. */
  colour: string | null;
  /** What lies in it, where that is known. */
  inside?: readonly InnerArea[];
}

/** A part of a part: for the pointer, as the table of the part itself has it for everybody. */
export interface InnerArea {
  key: string;
  name: string;
  bytes: number;
  to: string;
  colour: string | null;
}

const WIDTH = 100;
const HEIGHT = 64;
const MOST = 60;

interface MapProps {
  areas: readonly MapArea[];
  pointed: string | null;
  onPoint: (key: string | null) => void;
}

export function AreaMap({ areas, pointed, onPoint }: MapProps) {
  const sorted = areas.filter((area) => area.bytes > 0).sort((a, b) => b.bytes - a.bytes);
  const shown: MapArea[] = sorted.slice(0, MOST);
  const rest = sorted.slice(MOST).reduce((sum, area) => sum + area.bytes, 0);
  if (rest > 0)
    shown.push({ key: 'rest', name: `${sorted.length - MOST} smaller`, bytes: rest, to: null, colour: null });
  const root = treemap<{ children?: MapArea[] } & Partial<MapArea>>()
    .size([WIDTH, HEIGHT])
    .paddingInner(0.35)
    .tile(treemapSquarify.ratio(1.4))(
    hierarchy<{ children?: MapArea[] } & Partial<MapArea>>({ children: shown }).sum((area) => area.bytes ?? 0),
  );
  const leaves = root.leaves();
  return (
    <div
      className="relative h-[max(300px,calc(100vh-350px))] w-full"
      role="group"
      aria-label="Map of area by size"
      onPointerLeave={() => onPoint(null)}
      onKeyDown={(event) => walk(event, leaves)}
    >
      {leaves.map((leaf) => (
        <Area key={(leaf.data as MapArea).key} leaf={leaf} pointed={pointed} onPoint={onPoint} />
      ))}
      {leaves.map((leaf) => (
        <Inside key={`in ${(leaf.data as MapArea).key}`} leaf={leaf} onPoint={onPoint} />
      ))}
    </div>
  );
}

const ARROWS: Partial<Record<string, Direction>> = {
  ArrowLeft: 'left',
  ArrowRight: 'right',
  ArrowUp: 'up',
  ArrowDown: 'down',
};

/** Arrow keys go to the area beside, over those that lead nowhere. */
function walk(event: KeyboardEvent<HTMLElement>, leaves: readonly Rect[]): void {
  const direction = ARROWS[event.key];
  if (!direction) return;
  const drawn = [...event.currentTarget.children].slice(0, leaves.length);
  for (let at: number | null = drawn.indexOf(event.target as Element); at !== null && at >= 0;) {
    at = beside(leaves, at, direction);
    const next = at === null ? null : drawn[at];
    if (!(next instanceof HTMLAnchorElement)) continue;
    event.preventDefault();
    next.focus();
    return;
  }
}

interface AreaProps extends Omit<MapProps, 'areas'> {
  leaf: HierarchyRectangularNode<Partial<MapArea>>;
}

function Area({ leaf, pointed, onPoint }: AreaProps) {
  const area = leaf.data as MapArea;
  const [w, h] = [(leaf.x1 - leaf.x0) / WIDTH, (leaf.y1 - leaf.y0) / HEIGHT];
  const words = `${area.name}, ${size(area.bytes)}`;
  const roomy = w > 0.09 && h > 0.07;
  const props = {
    title: words,
    style: {
      left: `${(leaf.x0 / WIDTH) * 100}%`,
      top: `${(leaf.y0 / HEIGHT) * 100}%`,
      width: `${w * 100}%`,
      height: `${h * 100}%`,
      boxShadow: area.colour ? `inset 4px 0 0 ${area.colour}` : undefined,
    },
    onPointerEnter: () => onPoint(area.key),
    className: clsx(
      'absolute overflow-hidden rounded-[3px] text-left leading-tight text-ink',
      roomy && (area.colour ? 'py-1 pr-2 pl-3' : 'px-2 py-1'),
      area.colour || !area.to ? 'bg-free' : 'bg-accent-wash',
      area.to && 'hover:bg-accent hover:text-on-accent focus-visible:bg-accent focus-visible:text-on-accent',
      area.key === pointed && area.to && '!bg-accent !text-on-accent',
    ),
  };
  const inside = roomy ? (
    <>
      <span className="block truncate font-medium">{area.name}</span>{' '}
      <span className="block truncate text-[13px]">{size(area.bytes)}</span>
    </>
  ) : (
    <span className="sr-only">{words}</span>
  );
  return area.to === null ? (
    <div {...props}>{inside}</div>
  ) : (
    <Link to={area.to} onFocus={() => onPoint(area.key)} onBlur={() => onPoint(null)} {...props}>
      {inside}
    </Link>
  );
}

/** Room for the name of the part itself, in px. */
const HEAD_PX = 42;
const MOST_INSIDE = 40;

/** What lies in a part, below its name. A click leads two steps down at once. */
function Inside({ leaf, onPoint }: Pick<AreaProps, 'leaf' | 'onPoint'>) {
  const area = leaf.data as MapArea;
  const [w, h] = [(leaf.x1 - leaf.x0) / WIDTH, (leaf.y1 - leaf.y0) / HEIGHT];
  const inside = (area.inside ?? []).slice(0, MOST_INSIDE);
  if (inside.length === 0 || w < 0.1 || h < 0.2) return null;
  // What lies in the part itself, or is too small to be told, has its share of the room as well.
  const rest = Math.max(0, area.bytes - inside.reduce((sum, one) => sum + one.bytes, 0));
  const root = treemap<{ children?: object[] } & Partial<InnerArea>>()
    .size([w * WIDTH, h * HEIGHT])
    .paddingInner(0.3)
    .tile(treemapSquarify.ratio(1.4))(
    hierarchy<{ children?: object[] } & Partial<InnerArea>>({
      children: [...inside, { key: '', bytes: rest, colour: area.colour }],
    }).sum((one) => one.bytes ?? 0),
  );
  return (
    <div
      aria-hidden
      className="pointer-events-none absolute px-1.5 pb-1.5"
      style={{
        left: `${(leaf.x0 / WIDTH) * 100}%`,
        top: `calc(${(leaf.y0 / HEIGHT) * 100}% + ${HEAD_PX}px)`,
        width: `${w * 100}%`,
        height: `calc(${h * 100}% - ${HEAD_PX}px)`,
      }}
    >
      <div className="relative h-full">
        {root.leaves().map((one) => (
          <InnerTile key={one.data.key} one={one} of={area} width={w * WIDTH} height={h * HEIGHT} onPoint={onPoint} />
        ))}
      </div>
    </div>
  );
}

interface InnerProps {
  one: HierarchyRectangularNode<Partial<InnerArea>>;
  of: MapArea;
  width: number;
  height: number;
  onPoint: MapProps['onPoint'];
}

function InnerTile({ one, of, width, height, onPoint }: InnerProps) {
  const { key, name, bytes, to, colour } = one.data as InnerArea;
  const [w, h] = [one.x1 - one.x0, one.y1 - one.y0];
  const isRoomy = w > 9 && h > 4.5;
  const style = {
    left: `${(one.x0 / width) * 100}%`,
    top: `${(one.y0 / height) * 100}%`,
    width: `${(w / width) * 100}%`,
    height: `${(h / height) * 100}%`,
    background: colour ? `color-mix(in oklab, ${colour} 40%, var(--ground))` : 'var(--ground)',
  };
  // Its own files, and what is too small.
  if (key === '') return <div className="absolute rounded-[2px] opacity-60" style={style} />;
  return (
    <Link
      to={to}
      tabIndex={-1}
      title={`${of.name} / ${name}, ${size(bytes)}`}
      onPointerEnter={() => onPoint(of.key)}
      className={clsx(
        'pointer-events-auto absolute overflow-hidden rounded-[2px] text-[12.5px] leading-tight text-ink hover:outline-2 hover:outline-accent',
        isRoomy && 'px-1.5 py-0.5',
      )}
      style={style}
    >
      {isRoomy && <span className="block truncate">{name}</span>}
    </Link>
  );
}
