// What the catalogue was asked of a project while an archive of it is shaped: after a tick only what was not asked before is asked.
// Kept for as long as nothing changed; whoever stages or runs asks anew.
import { sql } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { pulseOf } from '../site/pulse.ts';

/** Answers by what was asked. Nobody changes what is given. */
export class Facts {
  private readonly answers = new Map<string, Promise<unknown>>();
  private readonly tables = new Map<string, Map<number, unknown>>();

  of<T>(what: string, ask: () => Promise<T>): Promise<T> {
    const known = this.answers.get(what) as Promise<T> | undefined;
    if (known) return known;
    const asked = ask();
    this.answers.set(what, asked);
    asked.catch(() => this.answers.delete(what));
    return asked;
  }

  /** Answers by number, in the order of the numbers; those that there are none for are left out, and not asked for again. */
  async byId<T>(
    what: string,
    ids: Iterable<number>,
    ask: (ids: number[]) => Promise<ReadonlyMap<number, T>>,
  ): Promise<Map<number, T>> {
    const table = (this.tables.get(what) ?? new Map<number, T | undefined>()) as Map<number, T | undefined>;
    this.tables.set(what, table);
    const wanted = [...ids];
    const missing = wanted.filter((id) => !table.has(id));
    if (missing.length > 0) {
      const found = await ask(missing);
      for (const id of missing) table.set(id, found.get(id));
    }
    const told = new Map<number, T>();
    for (const id of wanted) {
      const one = table.get(id);
      if (one !== undefined) told.set(id, one);
    }
    return told;
  }
}

const staging = new WeakMap<Db, Map<ProjectId, Facts>>();

/** What is staged in a transaction, said of it and begun is told by the same answers: what was looked through before it began. */
export function stageBy(tx: Transaction, projectId: ProjectId, facts: Facts): void {
  staging.set(tx, (staging.get(tx) ?? new Map<ProjectId, Facts>()).set(projectId, facts));
}

/** The answers that a transaction goes by; none yet for everybody else. */
export const stagedBy = (db: Db, projectId: ProjectId): Facts => staging.get(db)?.get(projectId) ?? new Facts();

/** While work goes on that may change what there is, facts are as old as a page may be, and no older. */
const HOLDS_BESIDE_WORK_MS = 2_000;
const HOLDS_MS = 60_000;
const MOST_PROJECTS = 4;

interface KeptFacts {
  facts: Facts;
  mark: string;
  askedAt: number;
}

/** Facts of the projects that are being shaped. Of one process, for all who look at one. */
export class FactsOfProjects {
  private readonly kept = new Map<ProjectId, KeptFacts>();
  private tidying: NodeJS.Timeout | undefined;

  constructor(private readonly now: () => number = Date.now) {}

  /** Those that were kept, where nothing changed since they were asked for; else none yet. */
  async of(db: Db, projectId: ProjectId): Promise<Facts> {
    const { mark, isWorking } = await markOf(db);
    this.tidy();
    const known = this.kept.get(projectId);
    const isOld = !known || known.mark !== mark || (isWorking && this.now() - known.askedAt >= HOLDS_BESIDE_WORK_MS);
    if (!isOld) return known.facts;
    const facts = new Facts();
    this.kept.delete(projectId);
    if (this.kept.size >= MOST_PROJECTS) this.kept.delete(this.kept.keys().next().value!);
    this.kept.set(projectId, { facts, mark, askedAt: this.now() });
    // Where nobody asks any more, nothing of it stays in memory.
    clearTimeout(this.tidying);
    this.tidying = setTimeout(() => this.tidy(), HOLDS_MS + 1000).unref();
    return facts;
  }

  private tidy(): void {
    for (const [id, { askedAt }] of this.kept) if (this.now() - askedAt >= HOLDS_MS) this.kept.delete(id);
  }
}

/** Another text once anybody did something, or work was asked for, began, or ended. */
async function markOf(db: Db): Promise<{ mark: string; isWorking: boolean }> {
  const [pulse, [open]] = await Promise.all([
    pulseOf(db),
    db.execute(sql`
      SELECT id, state, attempts FROM jobs WHERE state IN ('queued', 'running')
      UNION ALL SELECT COALESCE(MAX(id), 0), 'newest', 0 FROM jobs
      ORDER BY id, state`) as unknown as Promise<[{ id: number; state: string; attempts: number }[]]>,
  ]);
  const work = open.map(({ id, state, attempts }) => [id, state, attempts]);
  return { mark: JSON.stringify([pulse.mark, work]), isWorking: open.some(({ state }) => state === 'running') };
}
