// The rack: every volume under its station, with what it holds by kind. Clicking one narrows every lens to it, clicking
// it again widens; with the control or shift key several are chosen.
import clsx from 'clsx';
import { useEffect, useState } from 'react';
import { Link, useLocation, useSearchParams } from 'react-router';
import { z } from 'zod';
import { forecastWords } from '#core/forecast/forecast.ts';
import { KINDS } from '#core/model.ts';
import { counted, exactTime, percentFull, size, span } from '#core/wording/amounts.ts';
import { useKept } from '../lib/kept';
import { Closes, Dialog } from '../ui/dialog';
import { Bar, Button, inputLook, kindColour, type Part } from '../ui/parts';
import { Select } from '../ui/select';
import { useAsked, useChosen } from './links';
import { RACK_ORDERS, type RackGroup, rackGroups, type RackOrder } from './rack-order';
import type { FrameData } from './use-frame';

type Volume = FrameData['volumes'][number];

const asOrder = z.enum(RACK_ORDERS);
const asStations = z.array(z.string());
const NONE: string[] = [];
/** With fewer, all are seen at once. */
const MANY = 6;

/** Under 1100 px it is a strip; what it leaves out is in the sheet that its button opens. */
export function Rack({ frame }: { frame: FrameData }) {
  return (
    <nav
      aria-label="Storage"
      className="print:hidden row-span-1 overflow-y-auto border-r border-line bg-panel py-3 max-[699px]:hidden"
    >
      <div className="mb-1 px-1 min-[1100px]:hidden">
        <RackButton frame={frame} within />
      </div>
      <Volumes frame={frame} folds />
    </nav>
  );
}

/** @param folds it leaves out what a strip has no room for: names, bars and how full are enough to choose by */
function Volumes({ frame, folds = false }: { frame: FrameData; folds?: boolean }) {
  const chosen = useChosen();
  const [order, setOrder] = useKept('rack order', asOrder, RACK_ORDERS[0]);
  const [folded, setFolded] = useKept('rack folded', asStations, NONE);
  const [word, setWord] = useState('');
  const groups = rackGroups(frame.volumes, { order, word });
  return (
    <>
      <div className={clsx('flex items-baseline justify-between px-4 pb-1', folds && 'max-[1099px]:hidden')}>
        <h2 className="card-title">
          <Link
            to="/storage"
            className="hover:underline"
            title="Register, change and retire volumes; rules for kinds; templates"
          >
            Storage
          </Link>
        </h2>
        <AllVolumes chosen={chosen.length} all={frame.volumes.length} />
      </div>
      {frame.volumes.length >= MANY && <Tools {...{ word, setWord, order, setOrder, folds }} />}
      {frame.volumes.length === 0 && <p className="px-4 py-3 text-ink-2">No volume is registered.</p>}
      {frame.volumes.length > 0 && groups.length === 0 && (
        <p className="px-4 py-3 text-ink-2">No volume has “{word.trim()}” in its name.</p>
      )}
      {groups.map((one) => (
        <Group
          key={one.station ?? ''}
          group={one}
          // What is looked for is never hidden.
          isFolded={one.station !== null && word === '' && folded.includes(one.station)}
          onFold={(fold) =>
            setFolded(fold ? [...folded, one.station!] : folded.filter((station) => station !== one.station))
          }
          {...{ chosen, folds }}
          nowMs={frame.nowMs}
        />
      ))}
    </>
  );
}

interface ToolsProps {
  word: string;
  setWord: (word: string) => void;
  order: RackOrder;
  setOrder: (order: RackOrder) => void;
  folds: boolean;
}

function Tools({ word, setWord, order, setOrder, folds }: ToolsProps) {
  return (
    <div className={clsx('flex gap-1.5 px-4 pb-1', folds && 'max-[1099px]:hidden')}>
      <input
        type="search"
        aria-label="Find a volume"
        placeholder="Find"
        value={word}
        onChange={(event) => setWord(event.target.value)}
        className={clsx(inputLook, 'h-[26px]! min-w-0 flex-1 text-[13px]!')}
      />
      <Select
        aria-label="Order of the volumes"
        value={order}
        onChange={(event) => setOrder(asOrder.parse(event.target.value))}
        className={clsx(inputLook, 'h-[26px]! w-auto! px-1! text-[13px]!')}
      >
        {RACK_ORDERS.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </Select>
    </div>
  );
}

interface GroupProps {
  group: RackGroup<Volume>;
  isFolded: boolean;
  onFold: (fold: boolean) => void;
  chosen: number[];
  nowMs: number;
  folds: boolean;
}

/** The volumes of a station under its name, which folds them; or all of them, each with its station. */
function Group({ group: { station, volumes }, isFolded, onFold, ...rest }: GroupProps) {
  const { chosen, folds } = rest;
  const first = volumes[0]!;
  // What is narrowed to stays in sight, and a strip has no name to unfold by.
  const isHidden = (volume: Volume) => isFolded && !chosen.includes(volume.volumeId);
  return (
    <div className="mt-2">
      {station !== null && (
        <h3 className={clsx('px-4 text-xs text-ink-3', folds && 'max-[1099px]:hidden')}>
          <button
            type="button"
            aria-expanded={!isFolded}
            onClick={() => onFold(!isFolded)}
            className="flex min-h-6 w-full items-center gap-1 text-left hover:text-ink"
            title={isFolded ? 'Show its volumes' : 'Hide its volumes'}
          >
            <span aria-hidden="true" className="w-2.5 text-[10px]">
              {isFolded ? '▸' : '▾'}
            </span>
            <span className="truncate">
              {first.role === 'portable'
                ? 'Portable'
                : `${station} · ${first.role === 'server' ? 'shared' : 'workstation'}`}
            </span>
            {isFolded && <span className="ml-auto whitespace-nowrap">{counted(volumes.length, 'volume')}</span>}
          </button>
        </h3>
      )}
      {volumes.map((volume) => (
        <div key={volume.volumeId} className={clsx(isHidden(volume) && (folds ? 'min-[1100px]:hidden' : 'hidden'))}>
          <VolumeRow volume={volume} withStation={station === null} {...rest} />
        </div>
      ))}
    </div>
  );
}

/** Opens the whole rack beside the lens: from the strip, or from the top bar where there is no room for one. */
export function RackButton({ frame, within = false }: { frame: FrameData; within?: boolean }) {
  const [open, setOpen] = useState(false);
  const { key } = useLocation();
  useEffect(() => setOpen(false), [key]);
  return (
    <Dialog
      title="Storage"
      isPlain
      open={open}
      onOpen={setOpen}
      className="inset-y-0 left-0 w-[280px] overflow-y-auto border-r bg-panel py-3"
      opener={
        <button
          type="button"
          className={clsx('card-title rounded px-1 py-1 hover:underline', !within && 'min-[700px]:hidden')}
        >
          Storage
        </button>
      }
    >
      <Volumes frame={frame} />
      <div className="mt-3 px-4">
        <Closes>
          <Button>Close</Button>
        </Closes>
      </div>
    </Dialog>
  );
}

function AllVolumes({ chosen, all }: { chosen: number; all: number }) {
  const { pathname } = useLocation();
  const search = useAsked();
  if (chosen === 0)
    return <span className="text-xs text-ink-3">{all === 1 ? 'one volume' : `all ${all} volumes`}</span>;
  const next = new URLSearchParams(search);
  next.delete('v');
  return (
    <Link to={{ pathname, search: next.toString() }} className="text-xs text-accent hover:underline">
      {chosen} of {all}, show all
    </Link>
  );
}

interface RowProps extends Pick<GroupProps, 'chosen' | 'nowMs' | 'folds'> {
  volume: Volume;
  withStation: boolean;
}

function VolumeRow({ volume, chosen, ...rest }: RowProps) {
  const { pathname } = useLocation();
  const search = useAsked();
  const [, setSearch] = useSearchParams();
  const isChosen = chosen.includes(volume.volumeId);
  const addressOf = (ids: number[]) => {
    const next = new URLSearchParams(search);
    next.delete('folder');
    if (ids.length > 0) next.set('v', ids.join(','));
    else next.delete('v');
    return next;
  };
  const alone = isChosen && chosen.length === 1 ? [] : [volume.volumeId];
  const among = isChosen ? chosen.filter((id) => id !== volume.volumeId) : [...chosen, volume.volumeId];
  return (
    <Link
      to={{ pathname, search: addressOf(alone).toString() }}
      onClick={(event) => {
        if (!event.ctrlKey && !event.metaKey && !event.shiftKey) return;
        event.preventDefault();
        setSearch(addressOf(among));
      }}
      aria-current={isChosen ? 'true' : undefined}
      className={clsx(
        'block border-l-[3px] py-1.5 hover:bg-raised',
        'pr-4 pl-[13px]',
        rest.folds && 'max-[1099px]:pr-2 max-[1099px]:pl-[5px]',
        isChosen ? 'border-accent bg-raised' : 'border-transparent',
      )}
    >
      <RowText volume={volume} {...rest} />
    </Link>
  );
}

/** Its name, what it holds by kind, and how full it is. */
function RowText({ volume, nowMs, folds, withStation }: Omit<RowProps, 'chosen'>) {
  const parts = partsOf(volume);
  const note = noteOf(volume, nowMs);
  return (
    <>
      <div
        className={clsx(
          'truncate font-medium',
          folds &&
            'max-[1099px]:text-xs max-[1099px]:leading-tight max-[1099px]:break-words max-[1099px]:whitespace-normal',
        )}
        title={volume.name}
      >
        {volume.name}
        {withStation && <span className="text-xs font-normal text-ink-3"> {volume.station}</span>}
      </div>
      <div className={clsx('my-1', volume.state !== 'reachable' && 'opacity-60')}>
        <Bar parts={parts} whole={volume.capacityBytes} label={volume.name} />
      </div>
      <div className="flex justify-between gap-2 text-xs text-ink-3">
        <span className={clsx('whitespace-nowrap', folds && 'max-[1099px]:hidden')}>
          {size(volume.usedBytes)} of {size(volume.capacityBytes)}
        </span>
        <span
          className={clsx('truncate', note.tone, folds && 'max-[1099px]:leading-tight max-[1099px]:whitespace-normal')}
          title={note.title}
        >
          {note.words}
        </span>
      </div>
    </>
  );
}

/** Further away than this, how full it is says more than when it will be. */
const SOON_DAYS = 120;

function noteOf(volume: Volume, nowMs: number): { words: string; tone: string; title: string } {
  const share = volume.capacityBytes > 0 ? volume.usedBytes / volume.capacityBytes : 0;
  const title = volume.readMs === null ? 'never read' : `last read ${exactTime(volume.readMs)}`;
  if (volume.state === 'swapped') return { words: 'another disk there', tone: 'text-loss font-medium', title };
  if (volume.state === 'unreachable')
    return {
      words: volume.seenMs === null ? 'not connected' : `away ${span(nowMs - volume.seenMs)}`,
      tone: 'text-caution',
      title: volume.seenMs === null ? title : `last seen ${exactTime(volume.seenMs)}, ${title}`,
    };
  if (volume.readMs === null) return { words: 'not read yet', tone: '', title };
  const full = `${percentFull(volume.usedBytes, volume.capacityBytes)} % full`;
  const { forecast } = volume;
  if (forecast.says === 'fills' && forecast.earliest <= SOON_DAYS) {
    const soon =
      forecast.earliest <= 7 ? 'text-loss font-medium' : forecast.earliest <= 21 ? 'text-caution font-medium' : '';
    return { words: forecastWords(forecast), tone: soon, title: `${full}, ${title}` };
  }
  const tone = share >= 0.95 ? 'text-loss font-medium' : share >= 0.85 ? 'text-caution font-medium' : '';
  return { words: full, tone, title: `${forecastWords(forecast)}, ${title}` };
}

/** By kind, and what lies aside: that takes its space still. */
function partsOf(volume: Volume): Part[] {
  const parts: Part[] = KINDS.flatMap((kind) => volume.byKind.filter((k) => k.kind === kind)).map(
    ({ kind, bytes }) => ({
      key: kind,
      bytes,
      colour: kindColour(kind),
      label: kind,
    }),
  );
  if (volume.asideBytes > 0)
    parts.push({ key: 'aside', bytes: volume.asideBytes, colour: 'var(--ink-3)', label: 'set aside' });
  return parts;
}
