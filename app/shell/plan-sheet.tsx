// The plan, whole: how replaceable what goes is, its steps, what stands against it, the effect on each volume, and the
// one button that runs it.
import { useEffect } from 'react';
import { Link, useFetcher } from 'react-router';
import { type Level, LEVEL_WORDS } from '#core/model.ts';
import { count, counted, inWords, size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { BeforeAfter, Button, Card, Field, inputLook, LevelMark, Said } from '../ui/parts';
import { Sheet } from '../ui/sheet';
import type { loader } from './plan-data';

const LEVEL_COLOURS: Record<Level, string> = {
  0: 'var(--free)',
  1: 'var(--kind-other)',
  2: 'var(--kind-cache)',
  3: 'var(--ink)',
};

export function PlanSheet({
  open,
  onOpen,
  onRun,
}: {
  open: boolean;
  onOpen: (open: boolean) => void;
  onRun: () => void;
}) {
  const review = useFetcher<typeof loader>();
  const action = useFetcher<Answer>();
  const { load } = review;
  const answered = action.data;
  useEffect(() => {
    if (open) void load('/plan');
  }, [open, load, answered]);
  const ran = answered?.ok === true && answered.said.startsWith('Begun');
  useEffect(() => {
    if (ran) onRun();
    // Only the answer matters, not who is told.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [answered]);
  const plan = review.data;
  return (
    <Sheet open={open} onOpen={onOpen} title="The plan">
      {!plan ? (
        <p className="text-ink-2">Looking at everything once more …</p>
      ) : (
        <>
          <div className="mb-3 flex items-end justify-between slim:flex-wrap gap-4">
            <h2 className="sentence">{plan.sentence}</h2>
            <action.Form method="post" action="/plan">
              <Button type="submit" name="intent" value="empty" disabled={plan.steps.length === 0}>
                Empty the plan
              </Button>
            </action.Form>
          </div>
          <Levels levels={plan.levels} />
          <div className="mt-4 grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_286px] gap-4">
            <div className="grid min-w-0 grid-cols-[minmax(0,1fr)] content-start gap-4">
              <Steps plan={plan} submit={action} onLeave={() => onOpen(false)} />
              <Findings plan={plan} submit={action} onLeave={() => onOpen(false)} />
            </div>
            <div className="grid min-w-0 grid-cols-[minmax(0,1fr)] content-start gap-4">
              <RunPlan plan={plan} action={action} />
              {plan.effects.length > 0 && <VolumesAfter volumes={plan.effects} />}
            </div>
          </div>
        </>
      )}
    </Sheet>
  );
}

function Levels({ levels }: { levels: Record<Level, number> }) {
  const all = ([0, 1, 2, 3] as const).filter((level) => levels[level] > 0);
  const sum = all.reduce<number>((n, level) => n + levels[level], 0);
  if (sum === 0) return null;
  return (
    <div>
      <div aria-hidden className="flex h-7 gap-0.5 overflow-hidden rounded">
        {all.map((level) => (
          <div key={level} style={{ width: `${(levels[level] / sum) * 100}%`, background: LEVEL_COLOURS[level] }} />
        ))}
      </div>
      <ul className="mt-1.5 flex flex-wrap gap-x-6">
        {all.map((level) => (
          <li key={level}>
            <LevelMark level={level} /> {LEVEL_WORDS[level]} <b>{size(levels[level])}</b>
          </li>
        ))}
      </ul>
    </div>
  );
}

type Plan = NonNullable<ReturnType<typeof useFetcher<typeof loader>>['data']>;

interface PartProps {
  plan: Plan;
  submit: ReturnType<typeof useFetcher<Answer>>;
  /** Somebody follows a link out of the sheet. */
  onLeave: () => void;
}

function Steps({ plan, submit, onLeave }: PartProps) {
  return (
    <div className="card py-1">
      <table className="table table-fixed">
        <thead>
          <tr>
            <th>Step</th>
            <th className="w-40">Where</th>
            <th className="number w-16">Files</th>
            <th className="number w-[76px]">Size</th>
            <th className="w-24">
              <span className="sr-only">Take out</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {plan.steps.map((step) => (
            <tr key={step.stepId}>
              <td title={step.title}>
                <span className="line-clamp-2 font-medium whitespace-normal">
                  {step.level !== null && <LevelMark level={step.level} />} {step.title}
                </span>
                <span className="block truncate text-[13px] text-ink-2">{step.undoing}</span>
              </td>
              <td className="truncate text-ink-2" title={step.where}>
                {step.where}
              </td>
              <td className="number">
                <Link
                  to={`/plan/step/${step.stepId}`}
                  onClick={onLeave}
                  className="text-accent hover:underline"
                  aria-label={`Show the ${counted(step.files, 'file')} of: ${step.title}`}
                >
                  {count(step.files)}
                </Link>
              </td>
              <td className="number font-semibold">{size(step.bytes)}</td>
              <td className="number">
                <submit.Form method="post" action="/plan">
                  <input type="hidden" name="stepId" value={step.stepId} />
                  <Button type="submit" name="intent" value="unstage" aria-label={`Take out: ${step.title}`}>
                    Take out
                  </Button>
                </submit.Form>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Findings({ plan, submit, onLeave }: PartProps) {
  if (plan.findings.length === 0) return <p className="text-ink-2">No problems found at the last reading.</p>;
  return (
    <Card title={`${counted(plan.findings.length, 'thing').replace(/^1 /, 'One ')} to know`}>
      <ul className="rows">
        {plan.findings.map((finding, i) => (
          <li key={i} className="flex gap-3 py-2">
            <Weight weight={finding.weight} />
            <div className="min-w-0 flex-1">
              <div className="font-medium">{finding.what}</div>
              <div className="text-[13px] text-ink-2">{finding.detail}</div>
              {(finding.settle || finding.about) && (
                <div className="mt-1 flex flex-wrap items-center gap-3 text-[13px]">
                  {finding.about && (
                    <Link
                      to={`/plan/step/${finding.stepId}?about=${encodeURIComponent(finding.about)}`}
                      onClick={onLeave}
                      className="text-accent hover:underline"
                    >
                      Show them
                    </Link>
                  )}
                  {finding.about && (
                    <submit.Form method="post" action="/plan">
                      <input type="hidden" name="stepId" value={finding.stepId} />
                      <input type="hidden" name="about" value={finding.about} />
                      <button
                        type="submit"
                        name="intent"
                        value="leave out"
                        className="text-accent hover:underline"
                        aria-label={`Leave them out: ${finding.what}`}
                      >
                        Leave them out
                      </button>
                    </submit.Form>
                  )}
                  {finding.settle && (
                    <Link to={finding.settle.to} onClick={onLeave} className="text-accent hover:underline">
                      {finding.settle.words}
                    </Link>
                  )}
                </div>
              )}
            </div>
          </li>
        ))}
      </ul>
    </Card>
  );
}

export function Weight({ weight }: { weight: 'stop' | 'hold' | 'note' | 'loss' | 'caution' | 'plain' }) {
  const colour =
    weight === 'stop' || weight === 'loss'
      ? 'var(--loss)'
      : weight === 'hold' || weight === 'caution'
        ? 'var(--caution)'
        : null;
  return (
    <svg width="12" height="12" viewBox="0 0 12 12" aria-hidden className="mt-1 shrink-0">
      <path d="M6 0.800 L11.200 6 L6 11.200 L0.800 6 Z" fill={colour ?? 'none'} stroke={colour ?? 'var(--ink-3)'} />
    </svg>
  );
}

function RunPlan({ plan, action }: { plan: Plan; action: ReturnType<typeof useFetcher<Answer>> }) {
  const only = plan.levels[3];
  return (
    <div className="card">
      <action.Form method="post" action="/plan">
        <input type="hidden" name="planId" value={plan.planId ?? ''} />
        <input type="hidden" name="version" value={plan.version} />
        {only > 0 && (
          <div className="mb-3">
            <Field
              label={`The only copy of ${size(only)} goes`}
              hint={`Type that size, ${size(only)}, to run the plan.`}
            >
              <input name="typed" className={inputLook} autoComplete="off" required maxLength={40} />
            </Field>
          </div>
        )}
        <Button
          tone="first"
          type="submit"
          name="intent"
          value="run"
          className="w-full"
          disabled={plan.steps.length === 0 || plan.stopped || action.state !== 'idle'}
        >
          Run {inWords(plan.steps.length)} {plan.steps.length === 1 ? 'step' : 'steps'}
        </Button>
      </action.Form>
      <p className="mt-2 text-[13px] text-ink-2">
        {plan.stopped
          ? 'There is a problem with this plan: settle it, or take that step out.'
          : 'Everything is looked at once more before it goes.'}
      </p>
      <Said answer={action.data} />
    </div>
  );
}

function VolumesAfter({ volumes }: { volumes: Plan['effects'] }) {
  return (
    <Card title="After this">
      <div className="grid gap-3">
        {volumes.map((effect) => (
          <BeforeAfter
            key={effect.volumeId}
            name={effect.name}
            before={effect.beforeBytes}
            after={effect.afterBytes}
            capacity={effect.capacityBytes}
          />
        ))}
      </div>
    </Card>
  );
}
