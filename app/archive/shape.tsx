// Shaping one project's archive: what leaves and what stays, which carrier it fits on, what it will take; then added to the plan.
import { shapeArchiveForm } from '#contract/forms.ts';
import { type ReactNode, useState } from 'react';
import clsx from 'clsx';
import { Link, useFetcher, useLocation, useNavigate, useNavigation } from 'react-router';
import type { Route } from './+types/shape';
import type { Handles } from '#core/archive/lengths.ts';
import { isEncoded } from '#core/archive/encoding.ts';
import { isNarrow } from '#core/archive/selection.ts';
import { nameOf } from '#core/paths.ts';
import { count, counted, exactTime, listed, size } from '#core/wording/amounts.ts';
import { archiveSentence, handOverSentence, LEFT_OUT_WORDS, stateSince } from '#core/wording/lenses.ts';
import { Waterfall } from '../charts/waterfall';
import type { Answer } from '../lib/answer';
import { useFrame } from '../shell/use-frame';
import { useAsked, useLens, useTo } from '../shell/links';
import { Form } from '../ui/form';
import { Button, Card, Chip, Empty, Field, inputLook, Said, Sentence } from '../ui/parts';
import { Table } from '../ui/table';
import { Select } from '../ui/select';
import { EncodeChoice } from './encode';
import { Base, Carriers, type Copies, useCopies } from './carriers';
import { Length, OwnLengthChoice, small } from './length';
import { Tick } from './tick';
import { Ends, Receiver } from './hand-over';
import { Choice, GoOn, Package, Rest, ShapeChoice, Shapes } from './shapes';

export { loader, action } from './shape.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Shape({ loaderData: data }: Route.ComponentProps) {
  const [ticked, setCarriers] = useState<number[] | null>(null);
  // What is proposed follows the shape until somebody ticks.
  const carrierIds = ticked ?? data.proposed;
  const copies = useCopies(data, carrierIds);
  const [toWhom, setToWhom] = useState('');
  const fetcher = useFetcher<Answer>();
  // What is added is what the page shows: not while the answer to a tick is still on its way.
  const isComing = useNavigation().state === 'loading';
  const intent = data.isHandOver ? 'hand over' : 'stage';
  return (
    <Form fetcher={fetcher} schema={shapeArchiveForm} method="post" className="grid gap-4">
      <input type="hidden" name="intent" value={intent} />
      {!data.isHandOver && <input type="hidden" name="carrierIds" value={carrierIds.join(',')} />}
      {!data.isHandOver && data.base && <input type="hidden" name="baseId" value={data.base.archiveId} />}
      <input type="hidden" name="scope" value={JSON.stringify(data.scope)} />
      <Top data={data} copies={copies} toWhom={toWhom} isBusy={isComing || fetcher.state !== 'idle'} />
      <Said answer={fetcher.data} />
      {data.archiveBytes > 0 && (
        <Parts data={data}>
          {data.isHandOver ? (
            <Receiver data={data} toWhom={toWhom} onName={setToWhom} />
          ) : (
            <Carriers data={data} chosen={carrierIds} copies={copies} onChoose={setCarriers} />
          )}
        </Parts>
      )}
    </Form>
  );
}

interface TopProps {
  data: Data;
  copies: Copies;
  toWhom: string;
  isBusy: boolean;
}

function Top({ data, copies, toWhom, isBusy }: TopProps) {
  const { nowMs } = useFrame();
  const on = [...copies.sets.flat(), ...copies.unused].map((one) => one.name);
  const ready = copies.sets.length;
  const { totalBytes, archiveBytes, project } = data;
  return (
    <div className="flex items-end justify-between slim:flex-wrap gap-4">
      <Sentence
        above={
          <span className="flex flex-wrap gap-x-4">
            <span title={exactTime(project.stateSince.getTime())}>
              {project.name}, {stateSince(project.state, project.stateSince.getTime(), nowMs)}
            </span>
            <Ends isHandOver={data.isHandOver} />
          </span>
        }
      >
        {data.isHandOver
          ? handOverSentence({ totalBytes, bytes: archiveBytes, toWhom: toWhom.trim() })
          : archiveSentence({ totalBytes, archiveBytes, carrier: on.length > 0 ? listed(on) : null })}
      </Sentence>
      <Button
        tone="first"
        type="submit"
        disabled={archiveBytes === 0 || isBusy || (!data.isHandOver && on.length === 0)}
      >
        {data.isHandOver
          ? 'Add the hand-over to the plan'
          : ready > 1
            ? `Add an archive with ${ready} copies to the plan`
            : 'Add the archive to the plan'}
      </Button>
    </div>
  );
}

function Inside({ data }: { data: Data }) {
  const lens = useLens();
  return (
    <Card title="What goes in" aside={<ShapeChoice shapes={data.shapes} scope={data.scope} />}>
      <ul className="rows">
        <MediaChoice data={data} />
        <li className="flex justify-between py-1.5">
          <span>
            {counted(data.documents, 'document')}
            <Versions data={data} />
            <span className="block text-[13px] text-ink-2">
              {data.documents === 0
                ? 'none of it can be read'
                : data.isHandOver
                  ? 'relinked'
                  : 'relinked, the original beside it'}
            </span>
            {data.documents > 0 && <Rest {...data.scope} />}
          </span>
          <b className="whitespace-nowrap">{size(data.documentBytes)}</b>
        </li>
        {data.parts.map((part) => (
          <PartChoice key={part.part} part={part} data={data} />
        ))}
        {!data.isHandOver && data.before.length > 0 && <Base data={data} />}
        <GoOn goOn={data.scope.goOn} />
        {data.missing > 0 && (
          <li className="py-1.5">
            <Link to={lens(`/projects/${data.project.id}?bin=all&show=missing`)}>
              <Chip tone="loss">
                {count(data.missing)} of {count(data.mediaTotal)} missing
              </Chip>
            </Link>
            <span className="ml-2 text-[13px] text-ink-2">cannot go in</span>
          </li>
        )}
        {data.outside > 0 && (
          <li className="py-1.5 text-[13px] text-loss">
            {counted(data.outside, 'reference')} of its document lead out of every volume. They are left as they are,
            and nothing they point at is read.
          </li>
        )}
      </ul>
    </Card>
  );
}

function MediaChoice({ data }: { data: Data }) {
  const narrow = isNarrow(data.scope);
  return (
    <li className="py-1.5">
      <span className="flex justify-between gap-2">
        {narrow ? 'Media that was chosen' : 'Media the timelines use'}
        <b className="whitespace-nowrap">
          {(data.inParts > 0 || data.encoded.used) && 'about '}
          {size(data.mediaBytes)}
        </b>
      </span>
      <Length {...data} handles={data.scope.handles} />
      <EncodeChoice part="used" name="Media" encode={data.scope.encode} sum={data.encoded.used} />
      <Choice
        of="timeline"
        names={data.timelines}
        chosen={data.scope.timelines}
        none={narrow ? 'of no timeline' : `of all ${counted(data.timelines.length, 'timeline')}`}
      />
      <Choice of="bin" names={data.bins} chosen={data.scope.bins} none="and of no bin as a whole" />
      {data.scope.files.length > 0 && <Chosen files={data.scope.files.length} />}
    </li>
  );
}

/** Clips that were chosen one by one, on the project's page. */
function Chosen({ files }: { files: number }) {
  const to = useTo();
  return (
    <p className="mt-1 flex justify-between gap-2 text-[13px]">
      {counted(files, 'file')} chosen one by one
      <Link to={to({ clips: null })} className="underline" preventScrollReset replace>
        Let them go
      </Link>
    </p>
  );
}

/** What only timelines use that were not chosen is not unused. */
const partWords = (part: Data['parts'][number]['part'], isNarrow: boolean): string =>
  part === 'unused' && isNarrow ? 'Not chosen, or not used' : LEFT_OUT_WORDS[part];

/** One part of the project that no timeline uses: a tick, its size, and what it means that it stays out. */
function PartChoice({ part, data }: { part: Data['parts'][number]; data: Data }) {
  const to = useTo();
  const navigate = useNavigate();
  // What was ticked a moment ago counts, also while its figures are on their way.
  const asked = useAsked().get('in');
  const parts: readonly string[] = asked === null ? data.scope.parts : asked.split(',').filter(Boolean);
  const isIn = parts.includes(part.part);
  const others = parts.filter((one) => one !== part.part);
  const next = isIn ? others : [...others, part.part];
  const name = partWords(part.part, isNarrow(data.scope));
  return (
    <Tick
      checked={isIn}
      onToggle={() =>
        void navigate(to({ in: next.join(',') }), { preventScrollReset: true, replace: true, flushSync: true })
      }
      name={name}
      amount={<b className={clsx(!isIn && 'font-normal text-ink-2')}>{size(part.bytes)}</b>}
      words={`${counted(part.files, 'file')}${isIn ? '' : `, ${data.isHandOver ? 'not for them' : part.words}`}`}
    >
      {isIn && isEncoded(part.part) && (
        <EncodeChoice part={part.part} name={name} encode={data.scope.encode} sum={data.encoded[part.part]} />
      )}
    </Tick>
  );
}

function Versions({ data }: { data: Data }) {
  const to = useTo();
  const navigate = useNavigate();
  return (
    <Select
      aria-label="Versions of each document"
      value={data.scope.versions}
      onChange={(event) =>
        void navigate(to({ versions: event.target.value }), { preventScrollReset: true, replace: true })
      }
      className={`${small} ml-1 text-[13px]`}
    >
      <option value="all">all versions</option>
      <option value="newest">the newest</option>
    </Select>
  );
}

type Written = Data['files'][number];

/** Where a file lies in it, and what became of its name. */
function Inner({ file, isNarrow }: { file: Written; isNarrow: boolean }) {
  return (
    <span className={clsx('path flex items-center gap-2', isNarrow ? 'max-w-[19rem]' : 'max-w-[27rem]')}>
      <span className="truncate" title={file.payloadPath}>
        {file.payloadPath}
      </span>
      <span className="font-sans">
        {file.renamed && <Chip tone="caution">renamed to avoid a clash</Chip>}
        {file.isHeld && <Chip>in the earlier archive</Chip>}
      </span>
      {file.whyWhole && (
        <span className="font-sans text-[13px] text-ink-2" title={`It stays whole: ${file.whyWhole}.`}>
          whole
        </span>
      )}
    </span>
  );
}

const lengthColumn = (handles: Handles) => ({
  key: 'length',
  title: 'Length',
  cell: (file: Written) =>
    file.fileId !== null && <OwnLengthChoice fileId={file.fileId} name={nameOf(file.path)} handles={handles} />,
});

function Contents({ data }: { data: Data }) {
  const { volumes } = useFrame();
  const names = new Map(volumes.map((volume) => [volume.volumeId, volume.name]));
  const { handles } = data.scope;
  return (
    <div className="card py-1">
      {data.files.length === 0 ? (
        <Empty>Nothing goes in.</Empty>
      ) : (
        <Table
          label="Files that go in"
          rows={data.files}
          rowKey={(file) => file.key}
          height="max(180px, calc(100vh - 470px))"
          columns={[
            {
              key: 'place',
              title: 'Inside',
              sort: (file) => file.payloadPath,
              cell: (file) => <Inner file={file} isNarrow={handles !== null} />,
            },
            ...(handles ? [lengthColumn(handles)] : []),
            {
              key: 'from',
              title: 'From',
              sort: (file) => names.get(file.volumeId) ?? '',
              cell: (file) => <span title={file.path}>{names.get(file.volumeId)}</span>,
            },
            {
              key: 'size',
              title: 'Size',
              number: true,
              sort: (file) => file.sizeBytes,
              cell: (file) => (
                <b title={file.isAbout ? 'About: known to the byte before it is written.' : undefined}>
                  {size(file.sizeBytes)}
                </b>
              ),
            },
          ]}
        />
      )}
      <AllNames data={data} />
    </div>
  );
}

/** The whole table of old and new names, also beyond what the page shows. */
function AllNames({ data: { project, filesInAll, filesShown } }: { data: Data }) {
  const { search } = useLocation();
  if (filesInAll === 0) return null;
  const isMore = filesInAll > filesShown;
  return (
    <p className="py-1.5 text-[13px] text-ink-2">
      {isMore && `What ${count(filesShown)} of ${counted(filesInAll, 'file')} become. `}
      <a href={`/archive/${project.id}/names${search}`} className="underline" download>
        {isMore ? 'All' : 'These'} old and new names as CSV
      </a>
    </p>
  );
}

function Parts({ data, children }: { data: Data; children: ReactNode }) {
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_300px] gap-4">
      <div className="grid content-start gap-4">
        <Card title="What leaves, what stays">
          <Waterfall
            total={data.totalBytes}
            archive={data.archiveBytes}
            more={data.borrowedBytes + Math.max(0, -data.encodedBytes)}
            into={data.isHandOver ? 'Hand-over' : 'Archive'}
            steps={[
              ...data.leftOut.map((part) => ({
                key: part.why,
                name: partWords(part.why, isNarrow(data.scope)),
                bytes: part.bytes,
              })),
              ...(data.base ? [{ key: 'earlier', name: 'In the earlier archive', bytes: data.base.bytes }] : []),
              ...(data.encodedBytes > 0
                ? [{ key: 'delivery', name: 'Smaller as encoded', bytes: data.encodedBytes }]
                : []),
              ...(data.trimmedBytes > 0
                ? [{ key: 'unused', name: 'Ranges no timeline uses', bytes: data.trimmedBytes }]
                : []),
            ]}
          />
        </Card>
        <Contents data={data} />
      </div>
      <div className="grid content-start gap-4">
        {children}
        <Inside data={data} />
        <Card title="Its folder">
          <Field
            label={data.isHandOver ? 'Name on the volume' : 'Name on the carrier'}
            hint="Nothing is ever written over."
          >
            <input name="folder" defaultValue={data.folder} maxLength={250} className={inputLook} required />
          </Field>
          <Package {...data.scope} />
        </Card>
        <Shapes shapes={data.shapes} scope={data.scope} />
      </div>
    </div>
  );
}
