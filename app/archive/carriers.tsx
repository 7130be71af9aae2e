// On which carriers an archive is written: which of those that are ticked make a copy each, whole or in parts, and what an
// earlier archive holds already.
import { useMemo } from 'react';
import { useNavigate } from 'react-router';
import { copiesShort } from '#core/archive/copies.ts';
import { copySets, layOn, overheadOf } from '#core/archive/layout.ts';
import { count, counted, duration, exactTime, listed, size } from '#core/wording/amounts.ts';
import { useTo } from '../shell/links';
import { Bar, Card, Chip } from '../ui/parts';
import { Select } from '../ui/select';
import { small } from './length';
import type { Route } from './+types/shape';

type Data = Route.ComponentProps['loaderData'];
type Carrier = Data['carriers'][number];

/** A carrier of a copy, and what of the archive goes on it. */
interface On {
  carrierId: number;
  name: string;
  bytes: number;
  /** Numbers of its parts, from 1. */
  parts: number[];
}

export interface Copies {
  sets: On[][];
  /** In how many parts it is written. */
  parts: number;
  /** What is chosen and holds no copy, alone or with the others. */
  unused: Carrier[];
}

/** The copies that the chosen carriers make. */
export function useCopies({ carriers, sizes, scope }: Data, chosen: readonly number[]): Copies {
  return useMemo(() => {
    const overhead = overheadOf(scope.pack);
    const byId = new Map(carriers.map((carrier) => [carrier.carrierId as number, carrier]));
    const holders = carriers
      .filter((carrier) => chosen.includes(carrier.carrierId))
      .map(({ carrierId, freeBytes }) => ({ carrierId, roomBytes: freeBytes }));
    const { sets, unused } = copySets(sizes, holders, overhead);
    const laid = layOn(sizes, sets, overhead);
    return {
      parts: laid?.partBytes.length ?? 1,
      unused: unused.map(({ carrierId }) => byId.get(carrierId)!),
      sets: (laid?.copies ?? []).map((copy) =>
        copy.carriers.map(({ carrierId, parts }) => ({
          ...{ carrierId, name: byId.get(carrierId)!.name, parts: parts.map((part) => part + 1) },
          bytes: parts.reduce((sum, part) => sum + laid!.partBytes[part]!, 0),
        })),
      ),
    };
  }, [carriers, sizes, scope.pack, chosen]);
}

interface CarriersProps {
  data: Data;
  chosen: readonly number[];
  copies: Copies;
  onChoose: (ids: number[]) => void;
}

export function Carriers({ data, chosen, copies, onChoose }: CarriersProps) {
  const toggle = (id: number) => onChoose(chosen.includes(id) ? chosen.filter((one) => one !== id) : [...chosen, id]);
  if (data.carriers.length === 0)
    return <Card title="Carriers">No carrier is registered, so there is nowhere to write to.</Card>;
  const on = new Map(copies.sets.flat().map((one) => [one.carrierId, one]));
  return (
    <Card title="Carriers" aside={`about ${duration(data.estimate)}`}>
      <div role="group" aria-label="Carriers" className="grid gap-2.5">
        {data.carriers.map((carrier) => (
          <CarrierChoice
            key={carrier.carrierId}
            carrier={carrier}
            bytes={data.archiveBytes}
            on={on.get(carrier.carrierId) ?? null}
            chosen={chosen.includes(carrier.carrierId)}
            onToggle={() => toggle(carrier.carrierId)}
          />
        ))}
      </div>
      <Made data={data} copies={copies} />
      <p className="mt-3 text-[13px] text-ink-2">
        Read once, written to each carrier and read back whole from each before it is sealed; the time is{' '}
        {data.measured ? 'from earlier work here' : 'a guess until work was measured here'}
        {Object.keys(data.scope.encode).length > 0 && ', with what is encoded anew before that'}.
      </p>
    </Card>
  );
}

/** What the ticked carriers come to, in a line a copy. */
function Made({ data: { carriers, rule, archiveBytes }, copies }: { data: Data; copies: Copies }) {
  if (copies.sets.length === 0 && copies.unused.length === 0)
    return (
      <p className="mt-3 border-t border-line pt-2 text-[13px] text-ink-2">
        No carrier is ticked. {size(archiveBytes)} and room for its lists are needed, on one or on several together.
      </p>
    );
  const placeOf = new Map(carriers.map((carrier) => [carrier.carrierId as number, carrier.place]));
  const short = copiesShort(
    copies.sets.map((set) => set.map((one) => placeOf.get(one.carrierId)!)),
    rule,
  );
  return (
    <ol className="mt-3 grid gap-1 border-t border-line pt-2 text-[13px]">
      {copies.sets.map((set, i) => (
        <li key={set.map((one) => one.carrierId).join()}>
          Copy {i + 1}: {set.length === 1 ? 'whole on ' : `over ${counted(set.length, 'carrier')}, `}
          <span className="path">{listed(set.map((one) => one.name))}</span>
        </li>
      ))}
      {copies.unused.length > 0 && (
        <li className="text-loss">
          <span className="path">{listed(copies.unused.map((carrier) => carrier.name))}</span>{' '}
          {copies.unused.length === 1 ? 'holds' : 'hold'} no copy. Tick more, or larger ones.
        </li>
      )}
      {short !== null && (
        <li>
          <Chip tone="caution">{short}</Chip> <span className="text-ink-2">of what the house wants</span>
        </li>
      )}
    </ol>
  );
}

interface CarrierProps {
  carrier: Carrier;
  bytes: number;
  on: On | null;
  chosen: boolean;
  onToggle: () => void;
}

function CarrierChoice({ carrier, bytes, on, chosen, onToggle }: CarrierProps) {
  const free = carrier.freeBytes;
  const own = on?.bytes ?? bytes;
  const fits = on !== null || (!chosen && free >= bytes);
  return (
    <label className="block cursor-pointer">
      <span className="flex items-baseline justify-between gap-2">
        <span className="flex items-center gap-2">
          <input type="checkbox" checked={chosen} onChange={onToggle} className="accent-accent" />
          <b className="path">{carrier.name}</b>
        </span>
        <span
          className={
            carrier.state === 'reachable' && (fits || !chosen) ? 'text-[13px] text-ink-2' : 'text-[13px] text-loss'
          }
        >
          {carrier.state !== 'reachable' ? 'not in reach' : roomWords({ free, own, fits, chosen })}
        </span>
      </span>
      <span className="mt-1 block">
        <Bar
          height={12}
          label={carrier.name}
          whole={carrier.capacityBytes}
          parts={[
            { key: 'there', bytes: carrier.usedBytes, colour: 'var(--kind-cache)', label: 'there' },
            {
              key: 'this',
              bytes: chosen ? Math.min(free, own) : 0,
              colour: fits ? 'var(--accent)' : 'var(--loss)',
              label: 'this archive',
            },
          ]}
        />
      </span>
    </label>
  );
}

function roomWords({ free, own, fits, chosen }: { free: number; own: number; fits: boolean; chosen: boolean }): string {
  if (fits) return `${size(Math.max(0, free - own))} left after`;
  return chosen ? `${size(Math.max(0, own - free))} too small` : `${size(free)} free, holds a part`;
}

/** Whether it builds on an earlier archive of the same project. */
export function Base({ data: { before, base } }: { data: Data }) {
  const to = useTo();
  const navigate = useNavigate();
  return (
    <li className="py-1.5">
      <label className="flex items-baseline justify-between gap-2">
        Builds on
        <Select
          value={base ? String(base.archiveId) : ''}
          onChange={(event) =>
            void navigate(to({ base: event.target.value || null }), { preventScrollReset: true, replace: true })
          }
          className={`${small} max-w-[11rem] text-[13px]`}
        >
          <option value="">nothing, it stands alone</option>
          {before.map((one) => (
            <option key={one.archiveId} value={one.archiveId} title={exactTime(one.sealedMs)}>
              {one.folder}
            </option>
          ))}
        </Select>
      </label>
      {base && (
        <span className="block text-[13px] text-ink-2">
          {base.files === 0
            ? 'nothing of it lies there as it is now'
            : `${count(base.files)} ${base.files === 1 ? 'file lies' : 'files lie'} there as now, ${size(base.bytes)}, not written again`}
        </span>
      )}
    </li>
  );
}
