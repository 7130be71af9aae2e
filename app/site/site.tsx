// Site, the opening lens: what needs a decision, what the site holds, where projects live.
import { siteForm } from '#contract/forms.ts';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/site';
import { count, counted, day, size } from '#core/wording/amounts.ts';
import { type Decision } from '#core/wording/decisions.ts';
import { FillChart } from '../charts/fill-chart';
import { SiteMatrix } from '../charts/site-matrix';
import { useLens } from '../shell/links';
import { Weight } from '../shell/plan-sheet';
import type { Answer } from '../lib/answer';
import { useFirstOnServer } from '../lib/hydrated';
import { openTray } from '../shell/open-tray';
import { Form } from '../ui/form';
import { Pop } from '../ui/pop';
import { Fold } from '../ui/fold';
import { FirstSteps, isBeginning } from './first-steps';
import { Button, buttonLook, Card, Empty, Field, inputLook, Said, Sentence } from '../ui/parts';
import { Scroll } from '../ui/scroll';

export { action, loader } from './site.server.ts';

export default function Site({ loaderData }: Route.ComponentProps) {
  return (
    <div className="grid gap-4">
      <div className="flex items-end justify-between slim:flex-wrap gap-4">
        <Sentence>{loaderData.sentence}</Sentence>
        <Link to="/nights" className={`${buttonLook()} shrink-0`}>
          Last night and tonight
        </Link>
      </div>
      {isBeginning(loaderData.steps) && <FirstSteps done={loaderData.steps} />}
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,7fr)_minmax(0,5fr)] gap-4">
        <Card
          title={
            loaderData.decisions.length > 0
              ? `Needs a decision: ${count(loaderData.decisions.length)}`
              : 'Needs a decision'
          }
        >
          {loaderData.decisions.length === 0 ? (
            <Empty>
              {loaderData.volumes.length === 0
                ? 'What fills up, strays, or is not safe will be told here, each with the step to take.'
                : 'Nothing waits for a decision.'}
            </Empty>
          ) : (
            <Decisions list={loaderData.decisions} />
          )}
          {loaderData.later.length > 0 && <Later list={loaderData.later} />}
        </Card>
        <Card title="Filling up" aside="per cent used">
          {loaderData.filling.length === 0 ? (
            <Empty>Every reading leaves a sample; after five days there is a line.</Empty>
          ) : (
            <FillChart rows={loaderData.filling} today={loaderData.today} />
          )}
          {loaderData.causes.length > 0 && (
            <p className="mt-2 border-t border-line-soft pt-2 text-[13px] text-ink-2">
              Grew most in a week:{' '}
              {loaderData.causes
                .map((cause) => `${cause.kind} of ${cause.project ?? 'no project'} +${size(cause.bytes)}`)
                .join(', ')}
              .
            </p>
          )}
        </Card>
      </div>
      <Card title="Where projects live" aside={<MatrixKey />}>
        {loaderData.projects.length === 0 ? (
          <Empty>No project is known yet. Projects are found by their documents when volumes are read.</Empty>
        ) : (
          <SiteMatrix volumes={loaderData.volumes} projects={loaderData.projects} />
        )}
      </Card>
    </div>
  );
}

function MatrixKey() {
  return (
    <span className="flex gap-4 text-[13px]">
      <span>
        <span aria-hidden className="mr-1 inline-block size-2.5 rounded-[2px] bg-[var(--kind-source)]" />
        at home
      </span>
      <span>
        <span aria-hidden className="mr-1 inline-block size-2.5 rounded-[2px] bg-caution" />
        strayed
      </span>
      <span>
        <span
          aria-hidden
          className="mr-1 inline-block size-2.5 rounded-[2px] border-[1.5px] border-dashed border-caution"
        />
        left behind by a delivered project
      </span>
    </span>
  );
}

const DRAWN_ON_SERVER = 20;

function Decisions({ list }: { list: Decision[] }) {
  const drawn = useFirstOnServer(list, DRAWN_ON_SERVER);
  return (
    <Scroll label="Decisions that wait" maxHeight="max(318px, calc(100vh - 560px))">
      <ul className="rows" aria-label="Decisions that wait">
        {drawn.map((decision) => (
          <li key={decision.key} className="flex items-center gap-3 py-2 tight:flex-wrap tight:gap-y-1">
            <Weight weight={decision.weight} />
            <div className="min-w-0 flex-1 tight:basis-[calc(100%-2rem)]">
              <div className="truncate font-medium tight:whitespace-normal" title={decision.what}>
                {decision.what}
              </div>
              <div className="truncate text-[13px] text-ink-2 tight:whitespace-normal" title={decision.detail}>
                {decision.detail}
              </div>
            </div>
            <PutOff decision={decision} />
            {decision.action && <Act action={decision.action} about={decision.what} />}
          </li>
        ))}
      </ul>
    </Scroll>
  );
}

/** With a day and a reason: what is put off without either is forgotten. */
function PutOff({ decision }: { decision: Decision }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Pop
      label="Put off this decision"
      opener={{
        className: 'shrink-0 rounded px-1 text-[13px] text-ink-2 hover:text-ink hover:underline',
        'aria-label': `Later: ${decision.what}`,
        children: 'Later',
      }}
    >
      <Form fetcher={fetcher} schema={siteForm} method="post" action="/?index" className="grid gap-2.5">
        <input type="hidden" name="intent" value="postpone" />
        <input type="hidden" name="key" value={decision.key} />
        <input type="hidden" name="what" value={decision.what} />
        <Field label="Tell me again on">
          <input name="until" type="date" className={inputLook} required />
        </Field>
        <Field label="Why it can wait">
          <input name="reason" className={inputLook} maxLength={300} required />
        </Field>
        <Said answer={fetcher.data} />
        <div>
          <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
            Put it off
          </Button>
        </div>
      </Form>
    </Pop>
  );
}

function Later({ list }: { list: Route.ComponentProps['loaderData']['later'] }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Fold
      className="mt-2 border-t border-line-soft pt-2 text-[13px]"
      line={<>{counted(list.length, 'decision')} put off</>}
    >
      <ul className="rows mt-1">
        {list.map(({ key, what, untilMs, reason, who }) => (
          <li key={key} className="flex items-center gap-3 py-1.5">
            <div className="min-w-0 flex-1">
              <div className="truncate" title={what}>
                {what}
              </div>
              <div className="text-ink-2">
                until {day(untilMs)}, {who}: {reason}
              </div>
            </div>
            <Form fetcher={fetcher} schema={siteForm} method="post" action="/?index">
              <input type="hidden" name="intent" value="bring back" />
              <input type="hidden" name="key" value={key} />
              <Button type="submit" aria-label={`Bring back: ${what}`}>
                Bring back
              </Button>
            </Form>
          </li>
        ))}
      </ul>
      <Said answer={fetcher.data} />
    </Fold>
  );
}

function pathOf(action: Exclude<NonNullable<Decision['action']>, { go: 'read' } | { go: 'work' }>): string {
  switch (action.go) {
    case 'reclaim':
      return `/reclaim/caches?v=${action.volumeId}`;
    case 'goal':
      return `/reclaim?free=${action.gigabytes}&on=${action.volumeId}&level=1`;
    case 'space':
      return `/space?v=${action.volumeId}${action.kind ? `&kind=${action.kind}` : ''}${action.project === 0 ? '&project=0' : ''}`;
    case 'aside':
      return '/reclaim/aside';
    case 'shelf':
      return `/shelf/${action.archiveId}`;
    case 'post':
      return '/settings?show=post';
    case 'backup':
      return '/settings?show=backup';
    case 'snapshots':
      return action.projectId === null ? '/settings?show=snapshots' : `/projects/${action.projectId}/back`;
    case 'carrier':
      return `/shelf/carrier/${action.carrierId}`;
    case 'archive':
      return `/archive/${action.projectId}`;
    case 'project':
      return `/projects/${action.projectId}`;
    case 'missing':
      return `/projects/${action.projectId}/missing`;
  }
}

function Act({ action, about }: { action: NonNullable<Decision['action']>; about: string }) {
  const lens = useLens();
  const fetcher = useFetcher();
  if (action.go === 'read')
    return (
      <fetcher.Form method="post" action="/work">
        <input type="hidden" name="volumes" value={action.volumeId} />
        <Button type="submit" name="intent" value="read" aria-label={`${action.words}: ${about}`}>
          {action.words}
        </Button>
      </fetcher.Form>
    );
  if (action.go === 'work')
    return (
      <Button onClick={() => openTray('work')} aria-label={`${action.words}: ${about}`}>
        {action.words}
      </Button>
    );
  const path = pathOf(action);
  // What is of one volume is looked at with that volume alone.
  const to = 'volumeId' in action ? path : lens(path);
  return (
    <Link to={to} className={buttonLook()} aria-label={`${action.words}: ${about}`}>
      {action.words}
    </Link>
  );
}
