// What was delivered, to be looked at while its carriers are on the shelf.
import { useFetcher } from 'react-router';
import { size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { Button, Card, Said } from '../ui/parts';
import type { Route } from './+types/archive';

type Data = Route.ComponentProps['loaderData'];
type Row = Data['viewing'][number];

export function Viewing({ data: { viewing, archive } }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  if (viewing.length === 0) return null;
  const wanted = viewing.filter((row) => row.bytes === 0 && row.canBeMade);
  return (
    <Card title="Viewing copies">
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(240px,1fr))] gap-4">
        {viewing.map((row) => (
          <li key={row.fileId} className="min-w-0">
            {row.bytes > 0 && (
              // eslint-disable-next-line jsx-a11y/media-has-caption -- nobody wrote captions of what was delivered
              <video
                controls
                preload="metadata"
                playsInline
                src={`/viewing/${row.fileId}`}
                aria-label={`Viewing copy of ${row.name}`}
                className="aspect-video w-full rounded-lg bg-ground object-contain"
              />
            )}
            <div className="path truncate" title={row.name}>
              {row.name}
            </div>
            <div className="text-[13px] text-ink-2">{viewingWords(row)}</div>
          </li>
        ))}
      </ul>
      <Said answer={fetcher.data} />
      {wanted.length > 0 && archive.state === 'sealed' && (
        <fetcher.Form method="post" className="mt-2">
          <Button type="submit" name="intent" value="viewing" disabled={fetcher.state !== 'idle'}>
            {wanted.every((row) => row.trouble !== null) ? 'Try again' : 'Make the viewing copies'}
          </Button>
        </fetcher.Form>
      )}
    </Card>
  );
}

function viewingWords({ bytes, trouble, canBeMade }: Row): string {
  if (bytes > 0) return `${size(bytes)}, small, in the catalogue`;
  if (trouble !== null) return `None could be made: ${trouble}.`;
  return canBeMade ? 'None is made yet.' : 'There is none of it as it was archived, and its original is not here.';
}
