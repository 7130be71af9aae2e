// What is made of a project: an archive, or what somebody else gets of it; and for that, who it is and where it is written.
import clsx from 'clsx';
import { Link } from 'react-router';
import type { ArchiveScope } from '#core/archive/selection.ts';
import type { HandedOver } from '#server/archives/handed-over.ts';
import { day, exactTime, size } from '#core/wording/amounts.ts';
import { useFrame } from '../shell/use-frame';
import { useTo } from '../shell/links';
import { Card, Field, inputLook } from '../ui/parts';
import { Select } from '../ui/select';

const ENDS = [
  { isHandOver: false, asked: null, words: 'Archive it' },
  { isHandOver: true, asked: 'hand-over', words: 'Hand it over' },
] as const;

/** The two ends, by the same page, of what was chosen. */
export function Ends({ isHandOver }: { isHandOver: boolean }) {
  const to = useTo();
  return (
    <nav aria-label="What for" className="flex gap-3">
      {ENDS.map((end) => (
        <Link
          key={end.words}
          to={to({ for: end.asked })}
          aria-current={end.isHandOver === isHandOver ? 'page' : undefined}
          className={clsx(
            'border-b-2',
            end.isHandOver === isHandOver ? 'border-accent font-semibold text-ink' : 'border-transparent underline',
          )}
        >
          {end.words}
        </Link>
      ))}
    </nav>
  );
}

interface ReceiverProps {
  data: { archiveBytes: number; earlier: readonly HandedOver[]; scope: Pick<ArchiveScope, 'pack'> };
  toWhom: string;
  onName: (name: string) => void;
}

export function Receiver({ data, toWhom, onName }: ReceiverProps) {
  const { volumes } = useFrame();
  // What can be carried away is what is meant most often.
  const there = volumes
    .filter((volume) => volume.state === 'reachable' && !volume.readOnly)
    .sort((a, b) => Number(b.portable) - Number(a.portable));
  const free = (volume: (typeof there)[number]) => Math.max(0, volume.capacityBytes - volume.usedBytes);
  return (
    <Card title="Who gets it, and where">
      <div className="grid gap-3">
        <Field label="For" hint="It stands in the package and in the receipt.">
          <input
            name="toWhom"
            value={toWhom}
            maxLength={120}
            onChange={(event) => onName(event.target.value)}
            className={inputLook}
            required
          />
        </Field>
        <Field label="Written to the volume">
          <Select name="volumeId" className={inputLook}>
            {there.map((volume) => (
              <option key={volume.volumeId} value={volume.volumeId}>
                {volume.name}, {size(free(volume))} free
                {free(volume) < data.archiveBytes ? ', too small' : ''}
              </option>
            ))}
          </Select>
        </Field>
      </div>
      {data.scope.pack === 'folder' && (
        <label className="mt-3 flex items-start gap-2">
          <input type="checkbox" name="points" className="mt-1" />
          <span>
            Point the project at it
            <span className="block text-[13px] text-ink-2">
              Its documents get a new version that names these files; the version there is now stays
            </span>
          </span>
        </label>
      )}
      <p className="mt-3 text-[13px] text-ink-2">
        Copied and read back whole, but no archive: nothing here may be removed because of it.
      </p>
      <Earlier earlier={data.earlier} />
    </Card>
  );
}

function Earlier({ earlier }: { earlier: readonly HandedOver[] }) {
  if (earlier.length === 0) return null;
  return (
    <>
      <h3 className="mt-3 text-[13px] font-semibold">Handed over before</h3>
      <ul className="rows mt-1 text-[13px]">
        {earlier.map((one) => (
          <li key={one.id} className="py-1">
            <span className="flex justify-between gap-2">
              <span className="min-w-0 break-words">{one.toWhom}</span>
              <b className="whitespace-nowrap">{size(one.bytes)}</b>
            </span>
            <span className="block text-ink-2" title={exactTime(one.atMs)}>
              {day(one.atMs)}, <span className="path">{one.folder}</span> on {one.volume}
            </span>
          </li>
        ))}
      </ul>
    </>
  );
}
