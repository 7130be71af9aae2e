// Tables: sortable, sticky header, numbers to the right, rows beyond 200 drawn only where they are seen, walkable with
// the arrow keys. What is in a cell is asked for as plain content: as a component made anew with every drawing it would be put
// in the place of itself, and take the focus, or the half of a click, with it.
import { useVirtualizer } from '@tanstack/react-virtual';
import {
  type Header,
  type Row as TableRow,
  getCoreRowModel,
  getSortedRowModel,
  type SortingState,
  useReactTable,
} from '@tanstack/react-table';
import clsx from 'clsx';
import { type ReactNode, type RefObject, useMemo, useRef, useState } from 'react';
import { useFirstOnServer } from '../lib/hydrated';
import { MENU_LETTER, openMenuOf, type RowAction, RowMenus, useAct } from './menu';
import { Scroll } from './scroll';

export interface Column<Row> {
  key: string;
  title: ReactNode;
  number?: boolean;
  sort?: (row: Row) => string | number;
  cell: (row: Row) => ReactNode;
  width?: number | string;
}

export interface TableProps<Row> {
  label: string;
  rows: readonly Row[];
  columns: readonly Column<Row>[];
  rowKey: (row: Row) => string | number;
  first?: { by: string; down: boolean };
  /** Height of a row in px, for long tables. */
  rowHeight?: number;
  /** Scrolls inside this many px; without it the page scrolls and every row is drawn. */
  height?: number | string;
  marked?: (row: Row) => boolean;
  /** The row under the pointer, null when it left: for pictures that light up with the table. */
  onPoint?: (row: Row | null) => void;
  /** What can be done with a row: in its menu, and by letters on the row itself. */
  actions?: (row: Row) => RowAction[];
}

const DRAWN_AT_ONCE = 200;
const DRAWN_ON_SERVER = 30;

export function Table<Row>({
  label,
  rows,
  columns,
  rowKey,
  first,
  rowHeight = 33,
  height,
  marked,
  onPoint,
  actions,
}: TableProps<Row>) {
  const table = useRows(rows, columns, first);
  const scroller = useRef<HTMLDivElement>(null);
  const all = table.getRowModel().rows;
  const { drawn, above, below } = useDrawn(all, scroller, height !== undefined, rowHeight);
  const byKey = new Map(columns.map((column) => [column.key, column]));
  const act = useAct();
  const actionsAt = (row: HTMLElement) => actions?.(rows[Number(row.dataset.at)]!) ?? null;
  const region = (
    <Scroll
      ref={scroller}
      label={label}
      maxHeight={height}
      isWide
      onKeyDown={(event) => {
        const row = (event.target as HTMLElement).closest<HTMLElement>('tr[data-at]');
        if (!row || !pressed(event, row, { of: actionsAt, act })) walk(event);
      }}
      onPointerLeave={onPoint && (() => onPoint(null))}
    >
      <table className="table" aria-rowcount={all.length + 1}>
        <thead>
          <tr>
            {table.getFlatHeaders().map((header) => (
              <HeadCell key={header.id} header={header} column={byKey.get(header.id)!} />
            ))}
          </tr>
        </thead>
        <Body {...{ drawn, above, below, byKey, rowKey, rowHeight, marked, onPoint }} isActed={actions !== undefined} />
      </table>
    </Scroll>
  );
  return actions ? <RowMenus of={actionsAt}>{region}</RowMenus> : region;
}

interface BodyProps<Row> extends Pick<TableProps<Row>, 'rowKey' | 'marked' | 'onPoint'> {
  drawn: readonly TableRow<Row>[];
  above: number;
  below: number;
  byKey: ReadonlyMap<string, Column<Row>>;
  rowHeight: number;
  /** Rows have a menu. */
  isActed: boolean;
}

function Body<Row>({ drawn, above, below, byKey, rowKey, rowHeight, marked, onPoint, isActed }: BodyProps<Row>) {
  return (
    <tbody>
      {above > 0 && <tr aria-hidden style={{ height: above }} />}
      {drawn.map((row) => (
        <tr
          key={rowKey(row.original)}
          tabIndex={-1}
          data-at={isActed ? row.index : undefined}
          onPointerEnter={onPoint && (() => onPoint(row.original))}
          className={marked?.(row.original) ? 'bg-accent-wash' : 'hover:bg-panel'}
          style={{ height: rowHeight }}
        >
          {row.getVisibleCells().map((cell) => (
            <td key={cell.id} className={clsx(byKey.get(cell.column.id)!.number && 'number')}>
              {byKey.get(cell.column.id)!.cell(row.original)}
            </td>
          ))}
        </tr>
      ))}
      {below > 0 && <tr aria-hidden style={{ height: below }} />}
    </tbody>
  );
}

interface Pressing {
  of: (row: HTMLElement) => RowAction[] | null;
  act: (action: RowAction) => void;
}

/** A letter on a row itself does what its menu offers under it. True where it was one. */
function pressed(event: React.KeyboardEvent, row: HTMLElement, { of, act }: Pressing): boolean {
  if (event.ctrlKey || event.metaKey || event.altKey || event.target !== row) return false;
  if (event.key === MENU_LETTER) openMenuOf(row);
  else {
    const action = of(row)?.find((one) => one.letter === event.key);
    if (!action) return false;
    act(action);
  }
  event.preventDefault();
  event.stopPropagation();
  return true;
}

function HeadCell<Row>({ header, column }: { header: Header<Row, unknown>; column: Column<Row> }) {
  const sorted = header.column.getIsSorted();
  return (
    <th
      scope="col"
      className={clsx(column.number && 'number')}
      style={{ width: column.width }}
      aria-sort={sorted === 'asc' ? 'ascending' : sorted === 'desc' ? 'descending' : undefined}
    >
      {column.sort ? (
        <button type="button" onClick={header.column.getToggleSortingHandler()} className="hover:text-ink">
          {column.title}
          <span aria-hidden className="ml-0.5 inline-block w-3">
            {sorted === 'asc' ? '↑' : sorted === 'desc' ? '↓' : ''}
          </span>
        </button>
      ) : (
        column.title
      )}
    </th>
  );
}

function useRows<Row>(rows: readonly Row[], columns: readonly Column<Row>[], first: TableProps<Row>['first']) {
  const [sorting, setSorting] = useState<SortingState>(first ? [{ id: first.by, desc: first.down }] : []);
  const data = useMemo(() => [...rows], [rows]);
  return useReactTable<Row>({
    data,
    columns: columns.map((column) => ({
      id: column.key,
      accessorFn: (row: Row) => column.sort?.(row) ?? '',
      enableSorting: column.sort !== undefined,
      sortDescFirst: column.number ?? false,
    })),
    state: { sorting },
    onSortingChange: setSorting,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
  });
}

/** Of a long table that scrolls in itself, the rows that are seen, and the space of those above and below them. */
function useDrawn<Row>(
  all: TableRow<Row>[],
  scroller: RefObject<HTMLDivElement | null>,
  scrolls: boolean,
  rowHeight: number,
) {
  const long = scrolls && all.length > DRAWN_AT_ONCE;
  const virtual = useVirtualizer({
    count: all.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 12,
    enabled: long,
  });
  const seen = long ? virtual.getVirtualItems() : null;
  const above = seen?.[0]?.start ?? 0;
  const below = seen ? virtual.getTotalSize() - (seen.at(-1)?.end ?? 0) : 0;
  const first = useFirstOnServer(all, DRAWN_ON_SERVER);
  return { drawn: seen ? seen.map((item) => all[item.index]!) : first, above, below };
}

/** Up and down walk the rows; Enter follows the row's first link or button. */
function walk(event: React.KeyboardEvent<HTMLDivElement>) {
  if (!['ArrowDown', 'ArrowUp', 'Enter'].includes(event.key)) return;
  const target = event.target as HTMLElement;
  if (target.closest('a, button, input') && event.key === 'Enter') return;
  const rows = [...event.currentTarget.querySelectorAll<HTMLTableRowElement>('tbody tr[tabindex]')];
  const at = rows.findIndex((row) => row.contains(document.activeElement));
  if (event.key === 'Enter') rows[at]?.querySelector<HTMLElement>('a, button')?.click();
  else rows[Math.min(rows.length - 1, Math.max(0, at + (event.key === 'ArrowDown' ? 1 : -1)))]?.focus();
  event.preventDefault();
}
