// How much of each file goes into an archive: the whole, or the ranges that timelines use, with handles.
import { useNavigate } from 'react-router';
import { type Handles, handlesText, USUAL_HANDLES } from '#core/archive/lengths.ts';
import { count, counted } from '#core/wording/amounts.ts';
import { useTo } from '../shell/links';

export const small = 'rounded border border-line bg-transparent';

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
    void navigate(to({ handles: next && handlesText(next), gap: next && String(next.gapSeconds) }), {
      preventScrollReset: true,
      replace: true,
    });
  return (
    <div className="mt-1 grid gap-1 text-[13px]">
      <span className="flex flex-wrap items-center gap-x-1.5 gap-y-1">
        <select
          aria-label="How much of each file"
          value={handles ? 'used' : 'whole'}
          onChange={(event) => change(event.target.value === 'used' ? USUAL_HANDLES : null)}
          className={small}
        >
          <option value="whole">whole files</option>
          <option value="used">used ranges</option>
        </select>
        {handles && <Around handles={handles} change={change} />}
      </span>
      {handles && (
        <span className="flex items-center gap-1 whitespace-nowrap">
          one file across gaps under
          <Amount
            label="Largest gap, in seconds"
            value={handles.gapSeconds}
            onChange={(gapSeconds) => change({ ...handles, gapSeconds })}
          />
          s
        </span>
      )}
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

function Around({ handles, change }: { handles: Handles; change: (next: Handles) => void }) {
  return (
    <span className="flex items-center gap-1 whitespace-nowrap">
      and
      <Amount label="Handles" value={handles.value} onChange={(value) => change({ ...handles, value })} />
      <select
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
      </select>
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
