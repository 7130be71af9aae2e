// How much of each file goes into an archive: the whole, or the ranges that timelines use, with handles.
import { useNavigate } from 'react-router';
import { type Handles, handlesText, ownLengthsText, USUAL_HANDLES } from '#core/archive/lengths.ts';
import { count, counted } from '#core/wording/amounts.ts';
import { useTo } from '../shell/links';
import { Checkbox } from '../ui/checkbox';
import { Select } from '../ui/select';

export const small = 'min-h-6 rounded border border-line bg-transparent px-1.5';

interface LengthProps {
  handles: Handles | null;
  mediaFiles: number;
  /** Files that go in as ranges. */
  inParts: number;
  /** Stills of sequences that stay out. */
  trimmedStills: number;
  /** Why others stay whole. */
  whole: readonly { why: string; files: number }[];
}

export function Length({ handles, mediaFiles, inParts, trimmedStills, whole }: LengthProps) {
  const to = useTo();
  const navigate = useNavigate();
  const change = (next: Handles | null) =>
    void navigate(
      to({
        handles: next && handlesText(next),
        gap: next && String(next.gapSeconds),
        data: next?.withoutData ? 'drop' : null,
        ...(next ? {} : { own: null }),
      }),
      { preventScrollReset: true, replace: true },
    );
  return (
    <div className="mt-1 grid gap-1 text-[13px]">
      <span className="flex flex-wrap items-center gap-x-1.5 gap-y-1">
        <Select
          aria-label="How much of each file"
          value={handles ? 'used' : 'whole'}
          onChange={(event) => change(event.target.value === 'used' ? USUAL_HANDLES : null)}
          className={small}
        >
          <option value="whole">whole files</option>
          <option value="used">used ranges</option>
        </Select>
        {handles && <Around handles={handles} change={change} />}
      </span>
      {handles && <Parts handles={handles} change={change} />}
      <span className="text-ink-2">
        {handles
          ? `${counted(inParts, 'file')} cut without encoding anew, ${count(mediaFiles - inParts)} whole`
          : counted(mediaFiles, 'file')}
        {trimmedStills > 0 && (
          <span className="block">{counted(trimmedStills, 'still')} of sequences that no timeline shows stay out</span>
        )}
        {whole.map(({ why, files }) => (
          <span key={why} className="block">
            {count(files)} whole: {why}
          </span>
        ))}
      </span>
    </div>
  );
}

interface Changing {
  handles: Handles;
  change: (next: Handles) => void;
}

/** What becomes one part, and which of its tracks. */
function Parts({ handles, change }: Changing) {
  return (
    <>
      <span className="flex items-center gap-1 whitespace-nowrap">
        one file across gaps under
        <Amount
          label="Largest gap, in seconds"
          value={handles.gapSeconds}
          onChange={(gapSeconds) => change({ ...handles, gapSeconds })}
        />
        s
      </span>
      <span className="flex items-center gap-1.5">
        <Checkbox
          checked={!handles.withoutData}
          onChange={(on) => change({ ...handles, withoutData: !on })}
          label="with tracks of data"
        />
        <span aria-hidden>with tracks of data</span>
      </span>
    </>
  );
}

function Around({ handles, change }: Changing) {
  return (
    <span className="flex items-center gap-1 whitespace-nowrap">
      and
      <Amount label="Handles" value={handles.value} onChange={(value) => change({ ...handles, value })} />
      <Select
        aria-label="Handles in"
        value={handles.unit}
        onChange={(event) => {
          const unit = event.target.value === 'frames' ? 'frames' : 'seconds';
          change({ ...handles, unit, value: unit === 'frames' ? Math.round(handles.value) : handles.value });
        }}
        className={small}
      >
        <option value="seconds">s</option>
        <option value="frames">frames</option>
      </Select>
      around
    </span>
  );
}

function Amount({ label, value, onChange }: { label: string; value: number; onChange: (value: number) => void }) {
  return (
    <input
      type="number"
      aria-label={label}
      min={0}
      step="any"
      key={value}
      defaultValue={value}
      onBlur={(event) => {
        const next = Number(event.target.value);
        if (event.target.value !== '' && next >= 0 && next !== value) onChange(next);
      }}
      onKeyDown={(event) => {
        if (event.key !== 'Enter') return;
        event.preventDefault();
        event.currentTarget.blur();
      }}
      className={`${small} w-11 px-1`}
    />
  );
}

interface OwnProps {
  fileId: number;
  name: string;
  handles: Handles;
}

const OWN = { seconds: [0, 1, 2, 5, 10], frames: [0, 12, 25, 50, 100] } as const;

/** What is kept of one file, where it is not what is kept of the others. */
export function OwnLengthChoice({ fileId, name, handles }: OwnProps) {
  const to = useTo();
  const navigate = useNavigate();
  const others = (handles.own ?? []).filter((one) => one.fileId !== fileId);
  const own = handles.own?.find((one) => one.fileId === fileId);
  const text = (around: { value: number; unit: Handles['unit'] }) => handlesText({ ...around, gapSeconds: 0 });
  const chosen = own ? (own.around ? text(own.around) : 'whole') : '';
  const offered = OWN[handles.unit].map((value) => text({ value, unit: handles.unit }));
  const choose = (next: string) => {
    const all = [ownLengthsText(others), next === '' ? '' : `${fileId}:${next}`].filter(Boolean).join(',');
    void navigate(to({ own: all || null }), { preventScrollReset: true, replace: true });
  };
  return (
    <Select
      aria-label={`How much of ${name}`}
      value={chosen}
      onChange={(event) => choose(event.target.value)}
      className={`${small} text-[13px]`}
    >
      <option value="">as the others</option>
      <option value="whole">whole</option>
      {[...new Set([...offered, ...(chosen && chosen !== 'whole' ? [chosen] : [])])].map((length) => (
        <option key={length} value={length}>
          {aroundWords(length)}
        </option>
      ))}
    </Select>
  );
}

const aroundWords = (length: string) =>
  length.startsWith('0')
    ? 'no handles'
    : length.endsWith('f')
      ? `${length.slice(0, -1)} frames around`
      : `${length.slice(0, -1)} s around`;
