// What is known of a project beside its files: facts a person gives, the day each state began, its documents with their
// versions, what it borrows and lends, and making its homes or a template of them.
import { projectForm } from '#contract/forms.ts';
import { useState } from 'react';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/project';
import { count, counted, day, exactTime, size } from '#core/wording/amounts.ts';
import { PROJECT_STATES } from '#core/model.ts';
import type { Answer } from '../lib/answer';
import { Form } from '../ui/form';
import { Button, Card, Chip, Empty, Field, inputLook, Said } from '../ui/parts';
import { Sheet } from '../ui/sheet';
import { Select } from '../ui/select';
import { Scroll } from '../ui/scroll';

type Data = Route.ComponentProps['loaderData'];

export function About({ data }: { data: Data }) {
  const [open, setOpen] = useState(false);
  return (
    <div>
      <Button onClick={() => setOpen(true)}>About it</Button>
      <Sheet open={open} onOpen={setOpen} title={`About ${data.project.name}`}>
        <div className="mb-3 flex items-baseline justify-between gap-4">
          <h2 className="sentence truncate">About {data.project.name}</h2>
          <Button onClick={() => setOpen(false)}>Close</Button>
        </div>
        <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] items-start gap-4">
          <Facts data={data} />
          <div className="grid gap-4">
            <States data={data} />
            <Documents data={data} />
            <Shared title="Borrowed" rows={data.borrowed} who={(row) => row.owner ?? 'nobody'} />
            <Shared title="Lent" rows={data.lent} who={(row) => row.user} />
            <Homes />
          </div>
        </div>
      </Sheet>
    </div>
  );
}

function Facts({ data }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  const { project } = data;
  const area = (name: string, value: string, rows: number) => (
    <textarea name={name} defaultValue={value} rows={rows} className={`${inputLook} !h-auto py-1.5`} />
  );
  return (
    <Card title="Facts">
      <Form fetcher={fetcher} schema={projectForm} method="post" className="grid gap-3">
        <input type="hidden" name="intent" value="facts" />
        <Field label="Title">
          <input name="name" defaultValue={project.name} maxLength={250} className={inputLook} required />
        </Field>
        {data.titles.map((trouble) => (
          <p key={`${trouble.what} ${trouble.name}`} className="text-[13px] text-caution">
            Its {trouble.what} <span className="path">{trouble.name}</span> is named otherwise.
          </p>
        ))}
        <div className="grid grid-cols-[minmax(0,1fr)_90px] gap-3">
          <Field label="Client">
            <input name="client" defaultValue={project.client} maxLength={200} className={inputLook} />
          </Field>
          <Field label="Year">
            <input name="year" inputMode="numeric" defaultValue={project.year ?? ''} className={inputLook} />
          </Field>
        </div>
        <Field label="People" hint="a line each">
          {area('people', project.people, 3)}
        </Field>
        <Field label="Private notes" hint="For the house alone: they never leave it with an archive or a report.">
          {area('privateNotes', project.privateNotes, 3)}
        </Field>
        <Field label="Public comments" hint="May be shown to anybody who is shown the project.">
          {area('publicComments', project.publicComments, 2)}
        </Field>
        <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
          Save the facts
        </Button>
        <Said answer={fetcher.data} />
      </Form>
    </Card>
  );
}

function States({ data }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Card title="States">
      <ul className="rows">
        {PROJECT_STATES.map((state) => {
          const known = data.states.find((row) => row.state === state);
          return (
            <li key={state} className="flex justify-between py-1">
              <span className={state === data.project.state ? 'font-semibold' : undefined}>{state}</span>
              <span className="text-ink-2" title={known && exactTime(known.since.getTime())}>
                {known ? `since ${day(known.since.getTime())}` : ''}
              </span>
            </li>
          );
        })}
      </ul>
      <Form fetcher={fetcher} schema={projectForm} method="post" className="mt-2 flex items-end gap-2">
        <input type="hidden" name="intent" value="state" />
        <Field label="State">
          <Select name="state" defaultValue={data.project.state} className={inputLook}>
            {PROJECT_STATES.map((state) => (
              <option key={state}>{state}</option>
            ))}
          </Select>
        </Field>
        <Field label="Began on">
          <input type="date" name="since" className={inputLook} />
        </Field>
        <Button type="submit">Save</Button>
      </Form>
      <div className="mt-2">
        <Said answer={fetcher.data} />
      </div>
    </Card>
  );
}

const MOST_DETAILS = 3;

/** What is wrong with a document, or with details of it, and where. */
function Details({ document }: { document: Data['documents'][number] }) {
  if (document.goneAt || document.supersededBy) return null;
  const notes = document.notes ?? [];
  const lines =
    document.state === 'broken' ? [document.trouble ?? ''] : notes.map((note) => `${note.detail}, at ${note.where}`);
  const more = lines.length - MOST_DETAILS;
  return (
    <ul className="text-[13px] text-ink-2">
      {lines.slice(0, MOST_DETAILS).map((line) => (
        <li key={line} className="break-words">
          {line}
        </li>
      ))}
      {more > 0 && <li>and {counted(more, 'other')}</li>}
    </ul>
  );
}

function Documents({ data }: { data: Data }) {
  return (
    <Card title="Documents" aside={count(data.documents.length)}>
      {data.documents.length === 0 ? (
        <Empty>No document was found. Its files are known by their folder.</Empty>
      ) : (
        <Scroll label="Documents" maxHeight={176}>
          <ul className="rows" aria-label="Documents">
            {data.documents.map((document) => (
              <li key={document.documentId} className="py-1">
                <div className="flex justify-between gap-3">
                  <Link
                    to={`/space?file=${document.fileId}`}
                    className="path truncate hover:underline"
                    title={`${document.folder} / ${document.name}`}
                  >
                    {document.name}
                  </Link>
                  <span className="shrink-0 text-[13px] text-ink-2">
                    {document.goneAt ? (
                      'gone'
                    ) : document.state === 'broken' ? (
                      <Chip tone="loss">cannot be read</Chip>
                    ) : document.supersededBy ? (
                      'older version'
                    ) : document.notes && document.notes.length > 0 ? (
                      <Chip tone="caution">counts, but for {counted(document.notes.length, 'detail')}</Chip>
                    ) : (
                      'counts'
                    )}
                  </span>
                </div>
                <Details document={document} />
              </li>
            ))}
          </ul>
        </Scroll>
      )}
    </Card>
  );
}

interface SharedProps {
  title: string;
  rows: Data['borrowed'];
  who: (row: Data['borrowed'][number]) => string;
}

function Shared({ title, rows, who }: SharedProps) {
  if (rows.length === 0) return null;
  return (
    <Card
      title={title}
      aside={`${counted(rows.length, 'file')}, ${size(rows.reduce((sum, row) => sum + row.bytes, 0))}`}
    >
      <Scroll label={title} maxHeight={160}>
        <ul className="rows" aria-label={title}>
          {rows.map((row) => (
            <li key={`${row.fileId} ${who(row)}`} className="flex justify-between gap-3 py-1">
              <Link to={`/space?file=${row.fileId}`} className="path truncate hover:underline">
                {row.name}
              </Link>
              <span className="shrink-0 text-[13px] text-ink-2">
                {title === 'Borrowed' ? 'from' : 'to'} {who(row)}, {size(row.bytes)}
              </span>
            </li>
          ))}
        </ul>
      </Scroll>
    </Card>
  );
}

function Homes() {
  const make = useFetcher<Answer>();
  const save = useFetcher<Answer>();
  return (
    <Card title="Its homes">
      <Form fetcher={make} schema={projectForm} method="post">
        <Button type="submit" name="intent" value="make homes" disabled={make.state !== 'idle'}>
          Make their folders on disk
        </Button>
      </Form>
      <Form fetcher={save} schema={projectForm} method="post" className="mt-2 flex items-end gap-2">
        <input type="hidden" name="intent" value="template" />
        <Field label="As a template named">
          <input name="template" maxLength={120} className={inputLook} />
        </Field>
        <Button type="submit">Save it</Button>
      </Form>
      <div className="mt-2 grid gap-2">
        <Said answer={make.data} />
        <Said answer={save.data} />
      </div>
    </Card>
  );
}
