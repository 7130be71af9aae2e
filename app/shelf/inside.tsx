// What lies in archives by a name that was asked for: in which, how large, on which carriers, and how long until it is here.
import { Form, Link } from 'react-router';
import type { Route } from './+types/shelf';
import { count, size } from '#core/wording/amounts.ts';
import { hereIn } from '#core/wording/archives.ts';
import { useLens } from '../shell/links';
import { Choice } from '../ui/choice';
import { Chip, Empty } from '../ui/parts';
import { Scroll } from '../ui/scroll';

type Data = Route.ComponentProps['loaderData'];
type Found = NonNullable<Data['inside']>;

/** What was chosen elsewhere on the page, and stays. */
export const Kept = ({ values }: { values: Record<string, string> }) =>
  Object.entries(values).map(([name, value]) =>
    value === '' ? null : <input key={name} type="hidden" name={name} value={value} />,
  );

export function Inside({ inside, data }: { inside: Found; data: Data }) {
  return (
    <div className="card">
      <div className="mb-1 flex flex-wrap items-center justify-between gap-2">
        <h2 className="card-title">Inside archives</h2>
        <ByKind inside={inside} data={data} />
      </div>
      {inside.rows.length === 0 ? (
        <Empty>Nothing that lies in these archives has that in its name.</Empty>
      ) : (
        <Scroll label="Found inside archives" isWide>
          <table className="table">
            <thead>
              <tr>
                <th>Name</th>
                <th>Archive</th>
                <th className="number">Size</th>
                <th>Lies on</th>
              </tr>
            </thead>
            <tbody>
              {inside.rows.map((row) => (
                <Row key={row.archiveFileId} row={row} />
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      {inside.isMore && (
        <p className="mt-1 text-[13px] text-ink-2">
          There is more by that name than the {count(inside.rows.length)} that are shown: add a longer part of it, or
          narrow it.
        </p>
      )}
    </div>
  );
}

function ByKind({ inside, data: { asked, project, place, isWorried } }: { inside: Found; data: Data }) {
  return (
    <Form key={JSON.stringify([asked, inside.kind])} method="get" preventScrollReset>
      <Kept values={{ q: asked.words, client: asked.client, year: asked.year, short: asked.isShort ? '1' : '' }} />
      <Kept
        values={{ project: project === null ? '' : String(project), place: place ?? '', worry: isWorried ? '1' : '' }}
      />
      <Choice
        name="kind"
        label="Kind"
        none="every kind"
        values={inside.kinds}
        chosen={inside.kind}
        className="h-7 !w-36"
      />
    </Form>
  );
}

function Row({ row }: { row: Found['rows'][number] }) {
  const lens = useLens();
  return (
    <tr>
      <td>
        <Link
          to={lens(`/shelf/${row.archiveId}?q=${encodeURIComponent(row.name)}`)}
          className="path block max-w-80 truncate hover:underline"
          title={row.at}
        >
          {row.name}
        </Link>
      </td>
      <td>
        {row.archive}
        <span className="path block text-[13px] text-ink-2">{row.folder}</span>
      </td>
      <td className="number">{size(row.bytes)}</td>
      <td>
        {row.copies.length === 0 && <Chip tone="loss">no good copy</Chip>}
        {row.copies.map((copy) => (
          <span key={copy.carrier} className="block">
            <span className="path">{copy.carrier}</span>, {copy.place}
            <span className="text-ink-2">, {hereIn(copy)}</span>
          </span>
        ))}
      </td>
    </tr>
  );
}
