// The rules by which files get their kinds: the first that fits wins. What a change of them would do is shown before it is saved, and what
// is wrong with one stands under its field.
import { type Dispatch, type FormEvent, type SetStateAction, useId, useRef, useState } from 'react';
import type { useFetcher } from 'react-router';
import { kindRules } from '#contract/forms.ts';
import type { KindRule } from '#core/kinds/kinds.ts';
import { DUTIES, type Duty, type Kind, KINDS } from '#core/model.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { Button, Card, inputLook, KindDot, Said } from '../ui/parts';
import { Scroll } from '../ui/scroll';
import { Select } from '../ui/select';
import type { action, Preview } from './settings.server.ts';

interface RulesProps {
  data: { rules: readonly KindRule[] };
  fetcher: ReturnType<typeof useFetcher<typeof action>>;
}

interface Draft {
  key: number;
  kind: Kind;
  folderWords: string;
  duty: Duty | '';
  endings: string;
  names: string;
  /** Duties beyond the first: kept as they are. */
  moreDuties: readonly Duty[];
}

let nextKey = 1;
const draftOf = (rule: KindRule): Draft => ({
  key: nextKey++,
  kind: rule.kind,
  folderWords: rule.folderWords?.join(', ') ?? '',
  duty: rule.duties?.[0] ?? '',
  endings: rule.endings?.join(', ') ?? '',
  names: rule.names?.join(', ') ?? '',
  moreDuties: rule.duties?.slice(1) ?? [],
});
const wordsOf = (text: string) => text.split(/[,\s]+/).filter(Boolean);
const ruleOf = (draft: Draft) => ({
  kind: draft.kind,
  folderWords: wordsOf(draft.folderWords),
  duties: draft.duty === '' ? [] : [draft.duty, ...draft.moreDuties],
  endings: wordsOf(draft.endings),
  names: draft.names
    .split(',')
    .map((name) => name.trim())
    .filter(Boolean),
});

/** What is wrong with which rule, by the same schema that the server reads them with; what is wrong with a rule as a whole stands under its folder words. */
type Wrong = ReadonlyMap<string, string>;
type RuleField = 'folderWords' | 'endings' | 'names';

function wrongIn(drafts: readonly Draft[]): Wrong {
  const parsed = kindRules.safeParse(drafts.map(ruleOf));
  const wrong = new Map<string, string>();
  for (const { path, message } of parsed.success ? [] : parsed.error.issues) {
    const [at, field] = path;
    const key = at === undefined ? 'all' : `${drafts[Number(at)]!.key} ${String(field ?? 'folderWords')}`;
    if (!wrong.has(key)) wrong.set(key, message);
  }
  return wrong;
}

export function Rules({ data, fetcher }: RulesProps) {
  const [drafts, setDrafts] = useState(() => data.rules.map(draftOf));
  const text = JSON.stringify(drafts.map(ruleOf));
  const [looked, setLooked] = useState(fetcher.data?.preview ? '' : text);
  const preview = looked === text ? (fetcher.data?.preview ?? null) : null;
  const [isTried, setIsTried] = useState(false);
  const wrong = isTried ? wrongIn(drafts) : NOTHING_WRONG;
  const form = useRef<HTMLDivElement>(null);
  const submit = (event: FormEvent) => {
    setLooked(text);
    if (wrongIn(drafts).size === 0) return;
    event.preventDefault();
    setIsTried(true);
    // Where the first is, once it is drawn as such.
    requestAnimationFrame(() => form.current?.querySelector<HTMLElement>('[aria-invalid=true]')?.focus());
  };
  return (
    <Card title="Kinds of files" aside="the first rule that fits wins">
      <div ref={form}>
        <RuleTable {...{ drafts, setDrafts, wrong }} />
      </div>
      {wrong.get('all') && <p className="mt-2 text-loss">{wrong.get('all')}</p>}
      <div className="mt-3 flex items-start justify-between slim:flex-wrap gap-4">
        <Button onClick={() => setDrafts((all) => [draftOf({ kind: 'other' }), ...all])}>Add a rule on top</Button>
        <fetcher.Form method="post" className="flex gap-2" onSubmit={submit}>
          <input type="hidden" name="rules" value={text} />
          <input type="hidden" name="previewed" value={preview?.mark ?? ''} />
          <Button type="submit" name="intent" value="preview" disabled={fetcher.state !== 'idle'}>
            Show what changes
          </Button>
          <Button tone="first" type="submit" name="intent" value="save" disabled={!preview || fetcher.state !== 'idle'}>
            Save the rules
          </Button>
        </fetcher.Form>
      </div>
      {looked === text && wrong.size === 0 && (
        <div className="mt-3 grid gap-2">
          {preview && <Changes preview={preview} />}
          <Said answer={fetcher.data?.answer} />
        </div>
      )}
    </Card>
  );
}

interface RuleTableProps {
  drafts: Draft[];
  setDrafts: Dispatch<SetStateAction<Draft[]>>;
  wrong: Wrong;
}

function RuleTable({ drafts, setDrafts, wrong }: RuleTableProps) {
  const change = (key: number, to: Partial<Draft>) =>
    setDrafts((all) => all.map((draft) => (draft.key === key ? { ...draft, ...to } : draft)));
  const move = (at: number, by: number) =>
    setDrafts((all) => {
      const next = [...all];
      const [draft] = next.splice(at, 1);
      next.splice(at + by, 0, draft!);
      return next;
    });
  return (
    <Scroll label="Rules" maxHeight="calc(100vh - 300px)" isWide>
      <table className="table table-fixed">
        <RuleHead />
        <tbody>
          {drafts.map((draft, i) => (
            <RuleRow
              key={draft.key}
              draft={draft}
              at={i}
              wrong={wrong}
              last={i === drafts.length - 1}
              onChange={(to) => change(draft.key, to)}
              onMove={(by) => move(i, by)}
              onRemove={() => setDrafts((all) => all.filter((one) => one.key !== draft.key))}
            />
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

const NOTHING_WRONG: Wrong = new Map();

interface WordsProps {
  what: string;
  at: number;
  value: string;
  /** What is wrong with it, said under it. */
  wrong: string | undefined;
  onChange: (value: string) => void;
}

function Words({ what, at, value, wrong, onChange }: WordsProps) {
  const said = useId();
  return (
    <>
      <input
        aria-label={`${what} of rule ${at + 1}`}
        aria-invalid={wrong !== undefined || undefined}
        aria-describedby={wrong === undefined ? undefined : said}
        className={inputLook}
        value={value}
        title={value}
        placeholder="any"
        onChange={(event) => onChange(event.target.value)}
      />
      {wrong !== undefined && (
        <span id={said} className="mt-1 block text-[13px] whitespace-normal text-loss">
          {wrong}
        </span>
      )}
    </>
  );
}

function Small({ words, sign, off, onClick }: { words: string; sign: string; off: boolean; onClick: () => void }) {
  return (
    <button
      type="button"
      aria-label={words}
      title={words}
      disabled={off}
      onClick={onClick}
      className="size-6 rounded text-ink-2 enabled:hover:bg-line-soft disabled:opacity-35"
    >
      {sign}
    </button>
  );
}

function Changes({ preview }: { preview: Preview }) {
  if (preview.changes.length === 0) return null;
  return (
    <ul className="rows" aria-label="What would change">
      {preview.changes.map((change) => (
        <li key={`${change.from} ${change.to}`} className="py-1">
          <b>{counted(change.files, 'file')}</b> {change.files === 1 ? 'becomes' : 'become'} <b>{change.to}</b>,{' '}
          {size(change.bytes)}, {change.files === 1 ? 'was' : 'were'} {change.from}
          <span className="path block truncate text-ink-2" title={change.example}>
            {change.example}
          </span>
        </li>
      ))}
    </ul>
  );
}

interface RuleProps {
  draft: Draft;
  at: number;
  wrong: Wrong;
  last: boolean;
  onChange: (to: Partial<Draft>) => void;
  onMove: (by: number) => void;
  onRemove: () => void;
}

function RuleRow({ draft, at: i, wrong, last, onChange, onMove, onRemove }: RuleProps) {
  const wrongWith = (field: RuleField) => wrong.get(`${draft.key} ${field}`);
  return (
    <tr>
      <td>
        <span className="flex items-center gap-1.5">
          <KindDot kind={draft.kind} />
          <Select
            aria-label={`Kind of rule ${i + 1}`}
            className={inputLook}
            value={draft.kind}
            onChange={(event) => onChange({ kind: event.target.value as Kind })}
          >
            {KINDS.map((kind) => (
              <option key={kind}>{kind}</option>
            ))}
          </Select>
        </span>
      </td>
      <td>
        <Words
          what="Folder words"
          at={i}
          value={draft.folderWords}
          wrong={wrongWith('folderWords')}
          onChange={(folderWords) => onChange({ folderWords })}
        />
      </td>
      <td>
        <DutyChoice draft={draft} at={i} onChange={onChange} />
      </td>
      <td>
        <Words
          what="Endings"
          at={i}
          value={draft.endings}
          wrong={wrongWith('endings')}
          onChange={(endings) => onChange({ endings })}
        />
      </td>
      <td>
        <Words
          what="Names"
          at={i}
          value={draft.names}
          wrong={wrongWith('names')}
          onChange={(names) => onChange({ names })}
        />
      </td>
      <td className="whitespace-nowrap">
        <Small words={`Move rule ${i + 1} up`} sign="↑" off={i === 0} onClick={() => onMove(-1)} />
        <Small words={`Move rule ${i + 1} down`} sign="↓" off={last} onClick={() => onMove(1)} />
        <Small words={`Take rule ${i + 1} out`} sign="×" off={false} onClick={onRemove} />
      </td>
    </tr>
  );
}

function RuleHead() {
  return (
    <thead>
      <tr>
        <th className="w-36">Kind</th>
        <th>Folder named</th>
        <th className="w-28">Duty of volume</th>
        <th>Endings</th>
        <th className="w-40">Names like</th>
        <th className="w-20">
          <span className="sr-only">Order</span>
        </th>
      </tr>
    </thead>
  );
}

function DutyChoice({ draft, at: i, onChange }: Pick<RuleProps, 'draft' | 'at' | 'onChange'>) {
  return (
    <Select
      aria-label={`Duty of rule ${i + 1}`}
      className={inputLook}
      value={draft.duty}
      onChange={(event) => onChange({ duty: event.target.value as Duty | '', moreDuties: [] })}
    >
      <option value="">any</option>
      {DUTIES.map((duty) => (
        <option key={duty}>{duty}</option>
      ))}
    </Select>
  );
}
