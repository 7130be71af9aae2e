// Bringing an archive back to a volume, or one timeline, a bin or single files of it: asked for in a dialog, added to the plan.
import { archiveForm } from '#contract/forms.ts';
import { useEffect, useRef, useState } from 'react';
import { useFetcher } from 'react-router';
import { fetchWords } from '#core/archive/fetching.ts';
import { counted, duration, size } from '#core/wording/amounts.ts';
import type { PutBackSum } from '#server/steps/put-back.ts';
import type { Answer } from '../lib/answer';
import { openTray } from '../shell/open-tray';
import { useFrame } from '../shell/use-frame';
import { Closes, Dialog } from '../ui/dialog';
import { Form } from '../ui/form';
import { Button, Field, inputLook, Said } from '../ui/parts';
import { OneOf } from '../ui/one-of';
import { Select } from '../ui/select';
import { Scroll } from '../ui/scroll';

interface Portion {
  name: string;
  files: number;
  bytes: number;
  missing: number;
}

interface RestoreProps {
  archive: { archiveId: number; name: string; folder: string; bytes: number; files: number };
  copy: { copyId: number; waitSeconds: number; costPerGb: number };
  tone?: 'plain' | 'first';
  /** What of it can be asked for by name. */
  portions?: {
    timelines: readonly Portion[];
    bins: readonly Portion[];
    bytesPerSecond: number;
    /** Where stations have volumes. */
    mounts: readonly Mount[];
  };
  /** Files of it that were ticked. */
  ticked?: readonly { id: number; bytes: number }[];
}

interface Mount {
  volumeId: number;
  station: string;
  path: string;
}

const HOUR = 3600;

type Which = 'all' | 'timelines' | 'bins' | 'files';

export function Restore(props: RestoreProps) {
  const { archive, ticked = [], tone = 'plain' } = props;
  const [open, setOpen] = useState(false);
  const toPlan = useRef(false);
  return (
    <Dialog
      title={`Restore ${archive.name}`}
      open={open}
      onOpen={setOpen}
      className="w-[480px]"
      opener={
        <Button tone={tone} aria-label={`Restore ${ticked.length > 0 ? counted(ticked.length, 'file') : archive.name}`}>
          {ticked.length > 0 ? `Restore ${counted(ticked.length, 'file')}` : 'Restore'}
        </Button>
      }
      // Opened sooner, the plan would close as the focus goes back to where it was.
      onClosed={(event) => {
        if (!toPlan.current) return;
        event.preventDefault();
        toPlan.current = false;
        openTray('plan');
      }}
    >
      <Asking {...props} ticked={ticked} onReview={() => (toPlan.current = true)} />
    </Dialog>
  );
}

function Asking({ archive, copy, portions, ticked = [], onReview }: RestoreProps & { onReview: () => void }) {
  const fetcher = useFetcher<Answer>();
  const { which, choose, names, setNames, offered, sum, only, isNone } = useChoice({ archive, portions, ticked });
  const [isBack, setBack] = useState(false);
  const [around, setAround] = useState<Around>('');
  const isInRanges = which === 'timelines' && !isBack && !isNone;
  const isNamed = which === 'timelines' || which === 'bins';
  const onlyText = only ? JSON.stringify(only) : '';
  const weighed = useWeight(archive.archiveId, { only: onlyText, isAsked: isNamed && !isNone });
  const places = usePlaces(archive.archiveId, { only: onlyText, isAsked: isBack && !isNone });
  return (
    <Form
      fetcher={fetcher}
      schema={archiveForm}
      method="post"
      action={`/shelf/${archive.archiveId}`}
      className="grid gap-3"
    >
      <input type="hidden" name="intent" value={isBack ? 'put back' : 'restore'} />
      <input type="hidden" name="archiveId" value={archive.archiveId} />
      <input type="hidden" name="copyId" value={copy.copyId} />
      {only && <input type="hidden" name="only" value={onlyText} />}
      {portions && <WhichChoice {...{ which, portions, ticked: ticked.length }} onChoose={choose} />}
      {offered.length > 0 && <Portions offered={offered} names={names} onNames={setNames} />}
      {!(isBack && places) && (
        <Weight
          {...{ which, isNone, sum, copy }}
          weighed={weighed?.[isInRanges ? around : '']}
          bytesPerSecond={portions?.bytesPerSecond}
        />
      )}
      {isInRanges && <HowMuch weighed={weighed} around={around} onChoose={setAround} />}
      {portions && (
        <OneOf
          label="Where it goes"
          values={WHERE}
          chosen={isBack ? 'back' : 'new'}
          onChoose={(key) => setBack(key === 'back')}
        />
      )}
      {isBack ? (
        <InPlaces places={places} copy={copy} bytesPerSecond={portions?.bytesPerSecond} />
      ) : (
        <Target folder={archive.folder} mounts={portions?.mounts} />
      )}
      <Said answer={fetcher.data} />
      <Buttons
        isBack={isBack}
        isDone={fetcher.data?.ok === true}
        isOff={fetcher.state !== 'idle' || isNone || (isBack && places?.files === 0)}
        onReview={onReview}
      />
    </Form>
  );
}

/** How much of it is wanted. */
function useChoice({ archive, portions, ticked = [] }: Pick<RestoreProps, 'archive' | 'portions' | 'ticked'>) {
  const [which, setWhich] = useState<Which>(ticked.length > 0 ? 'files' : 'all');
  const [names, setNames] = useState<ReadonlySet<string>>(new Set());
  const offered = which === 'timelines' || which === 'bins' ? (portions?.[which] ?? []) : [];
  const chosen = offered.filter((one) => names.has(one.name));
  const sum = sumOf(which, { archive, chosen, ticked });
  const only = onlyOf(which, { chosen, ticked });
  const choose = (next: Which) => {
    setWhich(next);
    setNames(new Set());
  };
  return { which, choose, names, setNames, offered, sum, only, isNone: which !== 'all' && sum.files === 0 };
}

interface ButtonsProps {
  isBack: boolean;
  /** It is in the plan. */
  isDone: boolean;
  isOff: boolean;
  onReview: () => void;
}

function Buttons({ isBack, isDone, isOff, onReview }: ButtonsProps) {
  return (
    <div className="mt-1 flex justify-end gap-2">
      <Closes>
        <Button>Close</Button>
      </Closes>
      {isDone ? (
        <Closes>
          <Button tone="first" onClick={onReview}>
            Review plan
          </Button>
        </Closes>
      ) : (
        <Button tone="first" type="submit" disabled={isOff}>
          {isBack ? 'Add putting it back to the plan' : 'Add the restore to the plan'}
        </Button>
      )}
    </div>
  );
}

interface WeightProps {
  which: Which;
  isNone: boolean;
  sum: ReturnType<typeof sumOf>;
  /** To the file, once it is known. */
  weighed?: Weighed | null;
  copy: RestoreProps['copy'];
  bytesPerSecond?: number;
}

/** What it weighs and takes, before anything is added. */
function Weight({ which, isNone, sum, weighed, copy, bytesPerSecond }: WeightProps) {
  const isNamed = which === 'timelines' || which === 'bins';
  if (isNone)
    return <p className="text-[13px] text-ink-2">Choose at least one {which === 'bins' ? 'bin' : 'timeline'}.</p>;
  return (
    <p className="text-[13px] text-ink-2">
      {sum.isAtMost && !weighed && 'At most '}
      {weighed && weighed.readBytes !== weighed.bytes && 'About '}
      {size(weighed?.bytes ?? sum.bytes)}
      {isNamed && !weighed && ' and its documents'}
      {bytesPerSecond !== undefined &&
        `, about ${timeFor(weighed?.readBytes ?? sum.bytes, { copy, bytesPerSecond })}`}.{' '}
      {isNamed
        ? 'The documents hold nothing else, and what belongs to a file comes with it.'
        : 'Every file is compared with what was sealed.'}
    </p>
  );
}

interface Weighed {
  bytes: number;
  readBytes: number;
}
/** Whole files, or what is used of them, with so much around. */
const AROUND = ['', '1s', '0s'] as const;
type Around = (typeof AROUND)[number];
type EachWay = Record<Around, Weighed>;
const AROUND_WORDS: Record<Around, string> = {
  '': 'whole files',
  '1s': 'used ranges, 1 s around',
  '0s': 'used ranges alone',
};

/** What is chosen, weighed to the file, whole and as ranges; undefined until that is known. */
function useWeight(archiveId: number, { only, isAsked }: { only: string; isAsked: boolean }): EachWay | undefined {
  const { load, data, state } = useFetcher<EachWay>();
  const asks = isAsked && only.length <= LONGEST;
  useEffect(() => {
    if (asks) void load(`/shelf/${archiveId}/weight?only=${encodeURIComponent(only)}`);
  }, [archiveId, only, asks, load]);
  return asks && state === 'idle' ? data : undefined;
}

interface HowMuchProps {
  weighed: EachWay | undefined;
  around: Around;
  onChoose: (around: Around) => void;
}

/** Whole files, or what the timelines use of them. */
function HowMuch({ weighed, around, onChoose }: HowMuchProps) {
  return (
    <Field
      label="Of its media"
      hint={
        around === '' ? undefined : 'Every file is read whole and proved; cut without encoding anew, on the volume.'
      }
    >
      <Select
        name="handles"
        className={inputLook}
        value={around}
        onChange={(event) => onChoose(event.target.value as Around)}
      >
        {AROUND.map((one) => (
          <option key={one} value={one}>
            {AROUND_WORDS[one]}
            {weighed &&
              `, ${one !== '' && weighed[one].bytes === weighed[''].bytes ? 'all of them used' : size(weighed[one].bytes)}`}
          </option>
        ))}
      </Select>
    </Field>
  );
}

const WHERE = [
  { key: 'new', words: 'To a new folder' },
  { key: 'back', words: 'Where it was' },
] as const;

/** More than that does not go into an address. */
const LONGEST = 6000;

/** What would come back to which volume; undefined until that is known. */
function usePlaces(archiveId: number, { only, isAsked }: { only: string; isAsked: boolean }): PutBackSum | undefined {
  const { load, data, state } = useFetcher<PutBackSum>();
  const asks = isAsked && only.length <= LONGEST;
  useEffect(() => {
    if (asks) void load(`/shelf/${archiveId}/places?only=${encodeURIComponent(only)}`);
  }, [archiveId, only, asks, load]);
  return asks && state === 'idle' ? data : undefined;
}

interface InPlacesProps extends Pick<WeightProps, 'copy' | 'bytesPerSecond'> {
  places: PutBackSum | undefined;
}

function InPlaces({ places, copy, bytesPerSecond }: InPlacesProps) {
  return (
    <div className="grid gap-2 text-[13px] text-ink-2">
      {places && places.files > 0 && (
        <p>
          {size(places.bytes)} {places.files === 1 ? 'comes' : 'come'} back
          {bytesPerSecond !== undefined && `, about ${timeFor(places.bytes, { copy, bytesPerSecond })}`}. Every file is
          compared with what was sealed.
        </p>
      )}
      {places && places.volumes.length > 0 && (
        <ul className="rows rounded-lg border border-line px-2.5" aria-label="What comes back to which volume">
          {places.volumes.map((one) => (
            <li key={one.volumeId} className="flex justify-between gap-3 py-1">
              <span className="truncate text-ink">{one.volume}</span>
              <span className="whitespace-nowrap">
                {counted(one.files, 'file')}, <b className="text-ink">{size(one.bytes)}</b>
              </span>
            </li>
          ))}
        </ul>
      )}
      <p>
        {places && thereWords(places)}
        Each file goes to its old place under its old name, and documents stay as they were. What is there and the same
        is left; where another lies in its place, that stays, and the receipt names it.
      </p>
    </div>
  );
}

const timeFor = (
  bytes: number,
  { copy, bytesPerSecond }: { copy: RestoreProps['copy']; bytesPerSecond: number },
): string =>
  `${duration(Math.max(1, copy.waitSeconds + bytes / bytesPerSecond))}${fetchWords({
    thawSeconds: copy.waitSeconds >= HOUR ? copy.waitSeconds : 0,
    cost: (bytes / 1e9) * copy.costPerGb,
  })}`;

function thereWords({ files, there, without }: PutBackSum): string {
  const away = without.cut + without.noPlace;
  return [
    files === 0 ? 'Nothing of it is missing where it was. ' : '',
    there.files > 0 ? `${counted(there.files, 'file')} of it ${there.files === 1 ? 'is' : 'are'} there already. ` : '',
    away > 0
      ? `${counted(away, 'file')} cannot go back${without.cut > 0 ? ', being cut to what was used' : ''}: a new folder gets all of it. `
      : '',
  ].join('');
}

function Target({ folder, mounts = [] }: { folder: string; mounts?: readonly Mount[] }) {
  const { volumes } = useFrame();
  const reachable = volumes.filter((volume) => volume.state === 'reachable');
  const [volumeId, setVolumeId] = useState(String(reachable[0]?.volumeId ?? ''));
  const stations = mounts.filter((mount) => String(mount.volumeId) === volumeId);
  return (
    <>
      <Field label="To the volume">
        <Select
          name="volumeId"
          className={inputLook}
          value={volumeId}
          onChange={(event) => setVolumeId(event.target.value)}
        >
          {reachable.map((volume) => (
            <option key={volume.volumeId} value={String(volume.volumeId)}>
              {volume.name}, {size(Math.max(0, volume.capacityBytes - volume.usedBytes))} free
            </option>
          ))}
        </Select>
      </Field>
      <Field label="In a folder named" hint="A new one: nothing is ever written over.">
        <input
          name="folder"
          className={inputLook}
          defaultValue={folder.replace(/_\d{4}-\d\d-\d\d$/, ' restored')}
          required
          maxLength={250}
        />
      </Field>
      {stations.length > 0 && (
        <Field label="Paths in documents as on">
          <Select name="station" className={inputLook} key={volumeId}>
            <option value="">this server</option>
            {stations.map(({ station, path }) => (
              <option key={station} value={station}>
                {station}, {path}
              </option>
            ))}
          </Select>
        </Field>
      )}
    </>
  );
}

interface Chosen {
  chosen: readonly Portion[];
  ticked: readonly { id: number; bytes: number }[];
}

const total = (rows: readonly { bytes: number }[]) => rows.reduce((bytes, row) => bytes + row.bytes, 0);

/** Two timelines may use the same file, and bins hold it twice: then it is less. */
function sumOf(which: Which, { archive, chosen, ticked }: Chosen & Pick<RestoreProps, 'archive'>) {
  if (which === 'all') return { files: archive.files, bytes: archive.bytes, isAtMost: false };
  if (which === 'files') return { files: ticked.length, bytes: total(ticked), isAtMost: false };
  const files = chosen.reduce((n, one) => n + one.files, 0);
  return { files, bytes: total(chosen), isAtMost: chosen.length > 1 };
}

function onlyOf(which: Which, { chosen, ticked }: Chosen) {
  const none = { timelines: [] as string[], bins: [] as string[], files: [] as number[] };
  const names = chosen.map((one) => one.name);
  switch (which) {
    case 'all':
      return null;
    case 'files':
      return { ...none, files: ticked.map((file) => file.id) };
    case 'timelines':
      return { ...none, timelines: names };
    case 'bins':
      return { ...none, bins: names };
  }
}

interface WhichProps {
  which: Which;
  portions: NonNullable<RestoreProps['portions']>;
  ticked: number;
  onChoose: (which: Which) => void;
}

function WhichChoice({ which, portions, ticked, onChoose }: WhichProps) {
  const offered: { key: Which; words: string }[] = [
    { key: 'all', words: 'All of it' },
    ...(portions.timelines.length > 0 ? [{ key: 'timelines' as const, words: 'By timeline' }] : []),
    ...(portions.bins.length > 0 ? [{ key: 'bins' as const, words: 'By bin' }] : []),
    ...(ticked > 0 ? [{ key: 'files' as const, words: counted(ticked, 'file') }] : []),
  ];
  return <OneOf label="How much of it" values={offered} chosen={which} onChoose={onChoose} />;
}

interface PortionsProps {
  offered: readonly Portion[];
  names: ReadonlySet<string>;
  onNames: (names: ReadonlySet<string>) => void;
}

function Portions({ offered, names, onNames }: PortionsProps) {
  const toggle = (name: string) => {
    const next = new Set(names);
    if (!next.delete(name)) next.add(name);
    onNames(next);
  };
  return (
    <Scroll label="Offered" maxHeight={208} className="rounded-lg border border-line">
      <ul className="rows px-2.5" aria-label="Offered">
        {offered.map((one) => (
          <li key={one.name} className="py-1">
            <label className="grid cursor-pointer grid-cols-[auto_minmax(0,1fr)_auto] items-baseline gap-x-2">
              <input
                type="checkbox"
                checked={names.has(one.name)}
                onChange={() => toggle(one.name)}
                className="accent-accent"
              />
              <span className="truncate" title={one.name}>
                {one.name}
              </span>
              <b className="text-[13px]">{size(one.bytes)}</b>
              {one.missing > 0 && (
                <span className="col-span-2 col-start-2 text-[13px] text-caution">
                  {counted(one.missing, 'piece')} of its media {one.missing === 1 ? 'is' : 'are'} not in this archive
                </span>
              )}
            </label>
          </li>
        ))}
      </ul>
    </Scroll>
  );
}
