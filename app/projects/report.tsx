// A media report of one project: what it is, where it lies, what its timelines use, what is missing. On paper as on the
// screen; private notes never are in it.
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import type { Route } from './+types/report';
import { KINDS } from '#core/model.ts';
import { shareText } from '#core/reach/scope.ts';
import { count, counted, day, exactTime, size } from '#core/wording/amounts.ts';
import { useFrame } from '../shell/use-frame';
import { useLens } from '../shell/links';
import { Button, buttonLook, KindDot } from '../ui/parts';
import { Scroll } from '../ui/scroll';

export { loader } from './report.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Report({ loaderData: data }: Route.ComponentProps) {
  const { clips } = data;
  const missing = clips.filter((clip) => clip.state === 'missing' || clip.state === 'outside');
  return (
    <article className="card mx-auto grid max-w-[900px] grid-cols-[minmax(0,1fr)] gap-5 !p-8 print:max-w-none print:border-0 print:!p-0">
      <Head data={data} />
      <Places data={data} />
      <Timelines data={data} />
      {missing.length > 0 && (
        <section>
          <h2 className="card-title mb-1 text-loss">{counted(missing.length, 'clip')} without media</h2>
          <p className="path">{missing.map((clip) => clip.name).join(', ')}</p>
        </section>
      )}
      <section>
        <h2 className="card-title mb-1">
          {counted(clips.length, 'clip')}, {count(data.media.total - data.media.missing)} of {count(data.media.total)}{' '}
          pieces of media found
        </h2>
        <ClipTable clips={clips} />
      </section>
    </article>
  );
}

/** On a narrow screen a table scrolls in its own frame; on paper it does not. */
function Wide({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Scroll label={label} isWide>
      {children}
    </Scroll>
  );
}

function Head({ data }: { data: Data }) {
  const lens = useLens();
  const { project } = data;
  const facts = [project.client, project.year, `${project.state} since ${day(project.stateSince.getTime())}`];
  return (
    <header className="flex items-start justify-between slim:flex-wrap gap-4">
      <div>
        <h1 className="sentence">{project.name}: its media</h1>
        <p className="text-ink-2">
          {facts.filter(Boolean).join(', ')}. As known on {exactTime(data.madeAt)}.
        </p>
        {project.publicComments && <p className="mt-2 max-w-[60ch] whitespace-pre-line">{project.publicComments}</p>}
      </div>
      <div className="flex shrink-0 slim:shrink slim:flex-wrap gap-2 print:hidden">
        <Link to={lens(`/projects/${project.id}`)} className={buttonLook('plain')}>
          Back
        </Link>
        <Button tone="first" type="button" onClick={() => window.print()}>
          Print
        </Button>
      </div>
    </header>
  );
}

function Places({ data }: { data: Data }) {
  const { volumes } = useFrame();
  const names = new Map(volumes.map((volume) => [volume.volumeId, volume.name]));
  return (
    <section>
      <h2 className="card-title mb-1">Where it lies</h2>
      <Wide label="Where it lies">
        <table className="table">
          <thead>
            <tr>
              <th scope="col">Kind</th>
              <th scope="col">Volumes</th>
              <th scope="col">Home</th>
              <th scope="col" className="number">
                Size
              </th>
            </tr>
          </thead>
          <tbody>
            {KINDS.filter((kind) => data.holdings.some((row) => row.kind === kind)).map((kind) => {
              const rows = data.holdings.filter((row) => row.kind === kind);
              const home = data.homes.find((one) => one.kind === kind);
              return (
                <tr key={kind}>
                  <td>
                    <KindDot kind={kind} /> {kind}
                  </td>
                  <td>{rows.map((row) => names.get(row.volumeId) ?? 'a retired volume').join(', ')}</td>
                  <td className="path">{home ? `${names.get(home.volumeId) ?? ''} / ${home.folder}` : ''}</td>
                  <td className="number">{size(rows.reduce((sum, row) => sum + row.bytes, 0))}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </Wide>
    </section>
  );
}

function Timelines({ data }: { data: Data }) {
  return (
    <section>
      <h2 className="card-title mb-1">Timelines</h2>
      <Wide label="Timelines">
        <table className="table">
          <thead>
            <tr>
              <th scope="col">Timeline</th>
              <th scope="col" className="number">
                Length
              </th>
              <th scope="col" className="number">
                Media reached
              </th>
            </tr>
          </thead>
          <tbody>
            {data.timelines.map((timeline) => (
              <tr key={timeline.timelineId}>
                <td>{timeline.name}</td>
                <td className="number path">{timeline.length}</td>
                <td className="number">{size(timeline.bytes)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <p className="mt-1 text-[13px] text-ink-2">
        Read from {data.documents.map((document) => document.name).join(', ') || 'no document'}.
      </p>
    </section>
  );
}

function ClipTable({ clips }: { clips: Data['clips'] }) {
  return (
    <Wide label="Clips">
      <table className="table">
        <thead>
          <tr>
            <th scope="col">Clip</th>
            <th scope="col">Place</th>
            <th scope="col" className="number">
              Duration
            </th>
            <th scope="col" className="number">
              Used
            </th>
            <th scope="col" className="number">
              Size
            </th>
          </tr>
        </thead>
        <tbody>
          {clips.map((clip) => (
            <tr key={clip.clipId}>
              <td className="path">{clip.name}</td>
              <td className="text-[13px]">
                {clip.where ?? clip.state}
                {clip.borrowedFrom && `, borrowed from ${clip.borrowedFrom}`}
              </td>
              <td className="number path">{clip.length ?? ''}</td>
              <td className="number">{shareText(clip.used)}</td>
              <td className="number">{clip.bytes > 0 ? size(clip.bytes) : ''}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}
