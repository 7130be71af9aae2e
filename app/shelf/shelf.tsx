// Shelf: carriers as jars, archives with their copies; from here a project comes back. Each archive has a page of its own.
import clsx from 'clsx';
import { Form, Link, useFetcher } from 'react-router';
import type { Route } from './+types/shelf';
import { soonest } from '#core/archive/copies.ts';
import { ago, count, counted, day, exactTime, size } from '#core/wording/amounts.ts';
import { Jar, LAYER_COLOURS } from '../charts/jar';
import type { Answer } from '../lib/answer';
import { useLens, useTo } from '../shell/links';
import { Choice } from '../ui/choice';
import { buttonLook, Chip, Empty, inputLook, Said, Sentence } from '../ui/parts';
import { Inside, Kept } from './inside';
import { Restore } from './restore';
import { Scroll } from '../ui/scroll';

export { loader, action } from './shelf.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Archive = Data['archives'][number];

export default function Shelf({ loaderData: data }: Route.ComponentProps) {
  const fetcher = useFetcher<Answer>();
  const lens = useLens();
  return (
    <div className="grid gap-4">
      <div className="flex items-end justify-between slim:flex-wrap gap-4">
        <Sentence>{data.sentence}</Sentence>
        {data.carriers.length > 0 && (
          <div className="flex items-center gap-2">
            {data.projects.length > 1 && (
              <Form key={data.project ?? 0} method="get" preventScrollReset>
                <Choice
                  name="project"
                  label="Carriers and archives of a project"
                  none="every project"
                  values={data.projects}
                  chosen={data.project === null ? '' : String(data.project)}
                />
              </Form>
            )}
            <Link
              to={lens(
                `/shelf/labels${data.isNarrowed ? `?c=${data.carriers.map((one) => one.carrierId).join(',')}` : ''}`,
              )}
              className={buttonLook('plain')}
            >
              Print labels
            </Link>
          </div>
        )}
      </div>
      <Said answer={fetcher.data} />
      <Narrow data={data} />
      <ul aria-label="Carriers" className="grid grid-cols-[repeat(auto-fill,minmax(230px,1fr))] gap-3">
        {data.carriers.map((carrier) => (
          <CarrierJar key={carrier.carrierId} carrier={carrier} nowMs={data.nowMs} />
        ))}
      </ul>
      <div className="card">
        <div className="mb-1 flex flex-wrap items-center justify-between gap-2">
          <h2 className="card-title">Archives</h2>
          {data.total > 0 && <Find data={data} />}
        </div>
        {data.total === 0 ? (
          <Empty>Nothing is archived yet. Shape an archive in the Archive lens.</Empty>
        ) : data.archives.length === 0 ? (
          <Empty>No archive fits that.</Empty>
        ) : (
          <Archives data={data} submit={fetcher} />
        )}
      </div>
      {data.inside && <Inside inside={data.inside} data={data} />}
    </div>
  );
}

type Carrier = Data['carriers'][number];

/** How sure what is on it is, and how old it is itself. */
function sureWords({ provenMs, sinceMs }: Carrier, nowMs: number): string[] {
  const years = sinceMs === null ? null : Math.floor((nowMs - sinceMs) / YEAR_MS);
  return [
    ...(provenMs === undefined ? [] : [provenMs === null ? 'not read back' : `read back ${ago(provenMs, nowMs)}`]),
    ...(years === null ? [] : [years < 1 ? 'less than a year old' : `${counted(years, 'year')} old`]),
  ];
}

const YEAR_MS = 365.25 * 86_400_000;

function CarrierJar({ carrier, nowMs }: { carrier: Carrier; nowMs: number }) {
  const lens = useLens();
  const sure = sureWords(carrier, nowMs).join(', ');
  const damaged = carrier.layers.filter((layer) => layer.state === 'damaged').length;
  return (
    <li className="card flex flex-wrap content-start gap-x-4 gap-y-2">
      <Jar name={carrier.name} layers={carrier.layers} capacity={carrier.capacityBytes} />
      <div className="min-w-0 flex-1">
        <Link
          to={lens(`/shelf/carrier/${carrier.carrierId}`)}
          className="path block truncate font-semibold hover:underline"
        >
          {carrier.name}
        </Link>
        <div className="truncate text-[13px] text-ink-2" title={carrier.place}>
          {carrier.lentTo
            ? `lent to ${carrier.lentTo}`
            : [carrier.type, carrier.whereNow, carrier.place].filter(Boolean).join(', ')}
        </div>
        <ul className="mt-1 text-[13px]">
          {carrier.layers.slice(0, 3).map((layer, i) => (
            <li key={layer.archiveId} className="flex items-center gap-1.5 truncate">
              <span
                aria-hidden
                className="size-2 shrink-0 rounded-[2px]"
                style={{ background: LAYER_COLOURS[i % LAYER_COLOURS.length] }}
              />
              <span className="truncate">{layer.name}</span> <span className="text-ink-2">{size(layer.bytes)}</span>
            </li>
          ))}
          {carrier.layers.length > 3 && <li className="text-ink-2">and {carrier.layers.length - 3} more</li>}
        </ul>
        <div className="mt-1 flex flex-wrap gap-1">
          {damaged > 0 && <Chip tone="loss">{damaged === 1 ? 'damaged' : `${count(damaged)} damaged`}</Chip>}
          <Chip tone={carrier.state === 'reachable' ? (carrier.layers.length > 0 ? 'ok' : 'plain') : 'caution'}>
            {carrier.state !== 'reachable'
              ? 'not in reach'
              : `${carrier.layers.length === 0 ? 'empty, ' : ''}${size(carrier.freeBytes)} free`}
          </Chip>
        </div>
      </div>
      {sure !== '' && (
        <div className="w-full truncate text-xs text-ink-2" title={sure}>
          {sure}
        </div>
      )}
    </li>
  );
}

/** Years later somebody remembers a client, a year, or a name in the notes. */
function Find({ data: { asked, clients, years, project, place, isWorried } }: { data: Data }) {
  const key = JSON.stringify(asked);
  return (
    <Form key={key} method="get" role="search" aria-label="Archives" className="flex flex-wrap items-center gap-2">
      <Kept
        values={{ project: project === null ? '' : String(project), place: place ?? '', worry: isWorried ? '1' : '' }}
      />
      <input
        name="q"
        type="search"
        aria-label="Find an archive"
        placeholder="Name, people, notes, files"
        defaultValue={asked.words}
        className={`${inputLook} h-7 !w-52 text-[13px]`}
      />
      <Choice
        name="client"
        label="Client"
        none="every client"
        values={clients}
        chosen={asked.client}
        className="h-7 !w-36"
      />
      <Choice
        name="year"
        label="Year"
        none="every year"
        values={years.map(String)}
        chosen={asked.year}
        className="h-7 !w-36"
      />
      <label className="flex items-center gap-1.5 text-[13px]">
        <input
          type="checkbox"
          name="short"
          value="1"
          defaultChecked={asked.isShort}
          onChange={(event) => event.currentTarget.form?.requestSubmit()}
          className="accent-accent"
        />
        short or damaged
      </label>
    </Form>
  );
}

/** Carriers by place, or those that worry: hundreds of jars are not looked through one by one. */
function Narrow({ data: { places, place, worried, isWorried } }: { data: Data }) {
  const to = useTo();
  if (places.length < 2 && worried === 0) return null;
  const chip = (on: boolean) =>
    clsx(
      'rounded-md px-2 py-0.5 text-[13px]',
      on ? 'bg-accent-wash font-semibold text-accent-deep' : 'text-ink-2 hover:text-ink',
    );
  return (
    <div role="group" aria-label="Carriers shown" className="-mb-1 flex flex-wrap items-center gap-1">
      <Link to={to({ place: null, worry: null })} className={chip(place === null && !isWorried)} preventScrollReset>
        every place
      </Link>
      {places.map((one) => (
        <Link
          key={one.place}
          to={to({ place: one.place, worry: null })}
          className={chip(place === one.place)}
          aria-current={place === one.place ? 'true' : undefined}
          preventScrollReset
        >
          {one.place} · {count(one.carriers)}
        </Link>
      ))}
      {worried > 0 && (
        <Link
          to={to({ worry: '1', place: null })}
          className={chip(isWorried)}
          aria-current={isWorried ? 'true' : undefined}
          preventScrollReset
        >
          damaged, full or lent · {count(worried)}
        </Link>
      )}
    </div>
  );
}

function Archives({ data, submit }: { data: Data; submit: ReturnType<typeof useFetcher<Answer>> }) {
  return (
    <Scroll label="Archives and their copies" isWide>
      <table className="table">
        <thead>
          <tr>
            <th>Archive</th>
            <th>Sealed</th>
            <th className="number">Size</th>
            <th className="number">Files</th>
            <th>Copies on</th>
            <th>State</th>
            <th className="number">Originals online</th>
            <th>
              <span className="sr-only">What can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {data.archives.map((archive) => (
            <ArchiveRow key={archive.archiveId} archive={archive} nowMs={data.nowMs} submit={submit} />
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

interface CopiesProps {
  archive: Archive;
  good: number;
  readBack: number | null;
  nowMs: number;
}

function ReadBack({ archive, submit }: { archive: Archive; submit: ReturnType<typeof useFetcher<Answer>> }) {
  return (
    <submit.Form method="post" className="block">
      <input type="hidden" name="archiveId" value={archive.archiveId} />
      <button
        type="submit"
        name="intent"
        value="read back"
        aria-label={`Read back now: ${archive.name}`}
        className="text-[13px] whitespace-nowrap text-accent underline"
      >
        Read back now
      </button>
    </submit.Form>
  );
}

/** How sure an archive is: its good copies, when they were read back, and what is short of what the house wants. */
function Copies({ archive, good, readBack, nowMs }: CopiesProps) {
  const damaged = archive.copies.filter((copy) => copy.state === 'damaged').length;
  return (
    <>
      {archive.state === 'writing' ? (
        <Chip>writing</Chip>
      ) : good === 0 ? (
        <Chip tone="loss">no good copy</Chip>
      ) : (
        <Chip tone="ok" title={readBack === null ? undefined : exactTime(readBack)}>
          {counted(good, 'copy', 'copies')}, read back {readBack === null ? '' : ago(readBack, nowMs)}
        </Chip>
      )}
      {damaged > 0 && (
        <>
          {' '}
          <Chip tone="loss" title="Its page repairs it">
            {counted(damaged, 'copy', 'copies')} damaged
          </Chip>
        </>
      )}
      {archive.gaps > 0 && (
        <>
          {' '}
          <Chip
            tone="caution"
            title="They could not be read, or did not match their checksums. Its page and its receipt name them."
          >
            {counted(archive.gaps, 'file')} could not go in
          </Chip>
        </>
      )}
      {archive.short !== null && good > 0 && (
        <>
          {' '}
          <Chip tone="caution" title="The house wants more: Settings, Removing and archives">
            {archive.short}
          </Chip>
        </>
      )}
    </>
  );
}

function ArchiveRow({
  archive,
  nowMs,
  submit,
}: {
  archive: Archive;
  nowMs: number;
  submit: ReturnType<typeof useFetcher<Answer>>;
}) {
  const lens = useLens();
  const good = archive.copies.filter((copy) => copy.state === 'good');
  const times = good.map((copy) => copy.readBackMs);
  // Of several copies the one that was not looked at for longest.
  const readBack = times.length > 0 && times.every((ms) => ms !== null) ? Math.min(...times.map(Number)) : null;
  return (
    <tr className="h-11">
      <td className="max-w-56 truncate" title={archive.lies}>
        <Link to={lens(`/shelf/${archive.archiveId}`)} className="block truncate hover:underline">
          <span className="font-medium">{archive.name}</span>
          <span className="path block truncate text-ink-2">{archive.lies}</span>
          {archive.buildsOn !== null && (
            <span className="block truncate text-[13px] text-ink-2" title={archive.buildsOn}>
              builds on <span className="path">{archive.buildsOn}</span>
            </span>
          )}
        </Link>
      </td>
      <td title={archive.sealedMs === null ? undefined : exactTime(archive.sealedMs)}>
        {archive.sealedMs === null ? '' : day(archive.sealedMs)}
      </td>
      <td className="number font-semibold">{size(archive.bytes)}</td>
      <td className="number">{count(archive.files)}</td>
      <td className="path max-w-36 leading-5 whitespace-normal">
        {archive.copies.map((copy) => copy.carriers.map((one) => one.name).join(' + ')).join(', ')}
      </td>
      <td className="max-w-48 py-1.5 leading-6 whitespace-normal">
        <Copies archive={archive} good={good.length} readBack={readBack} nowMs={nowMs} />
        {archive.state === 'sealed' && <ReadBack archive={archive} submit={submit} />}
      </td>
      <td className="number">
        {archive.originalsBytes > 0 ? (
          <Link
            to={lens(`/shelf/${archive.archiveId}`)}
            className="text-accent hover:underline"
            aria-label={`${size(archive.originalsBytes)}: release the originals of ${archive.name}`}
          >
            {size(archive.originalsBytes)}
          </Link>
        ) : (
          'gone'
        )}
      </td>
      <td className="number">
        {archive.state === 'sealed' && good.length > 0 && <Restore archive={archive} copy={soonest(archive.copies)!} />}
      </td>
    </tr>
  );
}
