// What a house that begins does first, one after the other; each can be left out. Gone once all of it is done.
import { Link } from 'react-router';
import { z } from 'zod';
import { useKept } from '../lib/kept';
import { Button, buttonLook, Card, Chip } from '../ui/parts';

const STEPS = ['volume', 'reading', 'project', 'home'] as const;
type Step = (typeof STEPS)[number];
type Done = Record<Step, boolean> & { projectId: number | null };

const skippedSchema = z.array(z.enum(STEPS));
const NONE: Step[] = [];

const WORDS: Record<Step, { title: string; says: string }> = {
  volume: {
    title: 'Register a volume',
    says: 'A disk, a share or a folder that this server reaches. It is given an identity, and nothing else on it is touched.',
  },
  reading: {
    title: 'Have it read',
    says: 'It is read as soon as it is registered: every file with its size and kind, documents with what they use. The tray shows how far it is.',
  },
  project: {
    title: 'Look at its projects',
    says: 'They are found by their documents. One that has none yet is registered by hand.',
  },
  home: {
    title: 'Say where a project’s files belong',
    says: 'A home for its media, caches and renders: from then on what has strayed is told, and brought home in one step.',
  },
};

function leadOf(step: Step, { projectId, project }: Done): { to: string; words: string } | null {
  switch (step) {
    case 'volume':
      return { to: '/storage?edit=volume', words: 'Register a volume' };
    case 'reading':
      return { to: '/storage', words: 'Open Storage' };
    case 'project':
      return { to: '/projects', words: 'Open Projects' };
    case 'home':
      return project ? { to: `/projects/${projectId}`, words: 'Open a project' } : null;
  }
}

/** Whether anything of it is left to do. */
export const isBeginning = (done: Done): boolean => STEPS.some((step) => !done[step]);

export function FirstSteps({ done }: { done: Done }) {
  const [skipped, skip] = useKept<Step[]>('first steps left out', skippedSchema, NONE);
  const open = STEPS.filter((step) => !done[step] && !skipped.includes(step));
  if (open.length === 0) return null;
  return (
    <Card title="First steps" aside={`${STEPS.filter((step) => done[step]).length} of ${STEPS.length} done`}>
      <ol className="rows">
        {STEPS.map((step, i) => {
          const isNext = step === open[0];
          const lead = leadOf(step, done);
          return (
            <li key={step} className="flex flex-wrap items-center gap-x-4 gap-y-2 py-2.5">
              <span className="min-w-0 grow basis-72">
                <b className="block">
                  {i + 1}. {WORDS[step].title}
                </b>
                <span className="text-[13px] text-ink-2">{WORDS[step].says}</span>
              </span>
              {done[step] ? (
                <Chip tone="ok">done</Chip>
              ) : skipped.includes(step) ? (
                <Chip>left out</Chip>
              ) : (
                <span className="flex gap-2">
                  {lead && (
                    <Link to={lead.to} className={buttonLook(isNext ? 'first' : 'plain')}>
                      {lead.words}
                    </Link>
                  )}
                  <Button aria-label={`Skip: ${WORDS[step].title}`} onClick={() => skip([...skipped, step])}>
                    Skip
                  </Button>
                </span>
              )}
            </li>
          );
        })}
      </ol>
    </Card>
  );
}
