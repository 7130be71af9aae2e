// Every part that lenses are made of, in every state, on one page: looked at when one of them is changed. Served only with KERAMION_PARTS=1.
import { type ReactNode, useState } from 'react';
import { type Kind, KINDS } from '#core/model.ts';
import { size } from '#core/wording/amounts.ts';
import { WithErrors } from '../ui/form';
import { Checkbox } from '../ui/checkbox';
import { Fold } from '../ui/fold';
import { Ticks } from '../ui/menu';
import { OneOf } from '../ui/one-of';
import {
  Bar,
  Button,
  Card,
  Chip,
  Empty,
  Field,
  inputLook,
  kindColour,
  KindDot,
  LevelMark,
  Said,
  Sentence,
} from '../ui/parts';
import { Scroll } from '../ui/scroll';
import { Select } from '../ui/select';
import { Sheet } from '../ui/sheet';
import { Slider } from '../ui/slider';
import { Table } from '../ui/table';
import { tell } from '../ui/toasts';
import { Views } from '../ui/views';

export { loader } from './parts.server.ts';

const LONG = 'a name that somebody gave to a folder of one afternoon’s recordings and never thought of again';

export default function Parts() {
  return (
    <div className="grid gap-4">
      <Sentence above="For who builds it">Every part, in every state.</Sentence>
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-2 items-start gap-4">
        <Buttons />
        <Choices />
        <Fields />
        <Messages />
        <Marks />
        <Lists />
        <Frames />
      </div>
    </div>
  );
}

const Row = ({ of, children }: { of: string; children: ReactNode }) => (
  <div className="grid grid-cols-[110px_minmax(0,1fr)] items-center gap-3 py-1.5">
    <span className="text-[13px] text-ink-2">{of}</span>
    <div className="flex min-w-0 flex-wrap items-center gap-2">{children}</div>
  </div>
);

function Buttons() {
  return (
    <Card title="Buttons">
      {(['plain', 'first', 'loss'] as const).map((tone) => (
        <Row key={tone} of={tone}>
          <Button tone={tone}>Save</Button>
          <Button tone={tone} disabled>
            Save, disabled
          </Button>
          <Button tone={tone} className="outline-2 outline-offset-2 outline-accent">
            Save, with the focus
          </Button>
        </Row>
      ))}
      <Row of="chips">
        {(['plain', 'ok', 'caution', 'loss'] as const).map((tone) => (
          <Chip key={tone} tone={tone}>
            {tone}
          </Chip>
        ))}
      </Row>
    </Card>
  );
}

const OPTIONS = ['documentaries', 'features', LONG];

function Choices() {
  const [ticks, setTicks] = useState<Set<string>>(new Set(['state']));
  const [checked, setChecked] = useState(true);
  const [one, setOne] = useState('all');
  const [least, setLeast] = useState(4);
  const options = OPTIONS.map((one) => <option key={one}>{one}</option>);
  return (
    <Card title="Choices">
      <Row of="select">
        <Select aria-label="A select" className={`${inputLook} !w-44`}>
          {options}
        </Select>
        <Select aria-label="A select with a long choice" defaultValue={LONG} className={`${inputLook} !w-44`}>
          {options}
        </Select>
        <Select aria-label="A select, disabled" disabled className={`${inputLook} !w-44`}>
          {options}
        </Select>
      </Row>
      <Row of="one of">
        <OneOf
          label="How much"
          values={['all', 'some', LONG].map((key) => ({ key, words: key }))}
          chosen={one}
          onChoose={setOne}
        />
      </Row>
      <Row of="slider">
        <div className="w-64">
          <Slider words={`At least ${least} GB`} value={least} most={10} onChange={setLeast} />
        </div>
      </Row>
      <Row of="check box">
        <Checkbox label="Checked" checked={checked} onChange={setChecked} />
        <Checkbox label="Some" checked="some" onChange={() => undefined} />
        <Checkbox label="Not checked" checked={false} onChange={() => undefined} />
        <Checkbox label="Disabled" checked disabled onChange={() => undefined} />
      </Row>
      <Row of="ticks">
        <Ticks
          name="Columns"
          of={['state', 'files', 'size'].map((key) => ({ key, name: key }))}
          chosen={ticks}
          onChoose={setTicks}
        />
      </Row>
      <Row of="fold">
        <Fold line="of all 5 timelines">
          <p className="py-1">What belongs to it.</p>
        </Fold>
        <Fold line="open at first" open>
          <p className="py-1">What belongs to it.</p>
        </Fold>
      </Row>
    </Card>
  );
}

function Fields() {
  return (
    <Card title="Fields">
      <div className="grid gap-3">
        <Field label="Name on the carrier" hint="Nothing is ever written over.">
          <input className={inputLook} defaultValue="night-ferry_2026-05-04" />
        </Field>
        <Field label="A long one">
          <input className={`${inputLook} path`} defaultValue={`/media/${LONG}`} />
        </Field>
        <Field label="Disabled">
          <input className={`${inputLook} disabled:opacity-55`} disabled defaultValue="no longer" />
        </Field>
        <WithErrors value={{ missing: ['A name is missing.'] }}>
          <Field label="With an error">
            <input name="missing" className={`${inputLook} border-loss`} aria-invalid />
          </Field>
        </WithErrors>
      </div>
    </Card>
  );
}

function Messages() {
  const [open, setOpen] = useState(false);
  return (
    <Card title="Messages">
      <div className="grid gap-2">
        <Said answer={{ ok: true, said: 'Saved. It is offered for every project.' }} />
        <Said
          answer={{ ok: false, error: `There is no room left: 40 GB of ${LONG} did not fit. Nothing was changed.` }}
        />
        <Empty>Nothing here yet. Read the volumes first.</Empty>
        <Row of="over it all">
          <Button onClick={() => tell('Copied night-ferry.')}>A short message</Button>
          <Button onClick={() => setOpen(true)}>A sheet</Button>
        </Row>
      </div>
      <Sheet open={open} onOpen={setOpen} title="A sheet">
        <h2 className="sentence">A sheet over the lens.</h2>
        <Button onClick={() => setOpen(false)}>Close</Button>
      </Sheet>
    </Card>
  );
}

function Marks() {
  const parts = KINDS.slice(0, 5).map((kind, i) => ({
    ...{ key: kind, label: kind, bytes: (i + 1) * 10e9, colour: kindColour(kind) },
  }));
  return (
    <Card title="Marks and bars">
      <Row of="levels">
        {([0, 1, 2, 3] as const).map((level) => (
          <LevelMark key={level} level={level} />
        ))}
      </Row>
      <Row of="kinds">
        {KINDS.map((kind) => (
          <span key={kind} className="flex items-center gap-1.5 text-[13px]">
            <KindDot kind={kind} /> {kind}
          </span>
        ))}
      </Row>
      <Row of="a bar">
        <div className="w-full">
          <Bar parts={parts} whole={240e9} label="A volume" />
        </div>
      </Row>
    </Card>
  );
}

interface Line {
  name: string;
  kind: Kind;
  bytes: number;
}

const LINES: Line[] = [
  { name: 'A001C003_0311.mov', kind: 'source', bytes: 4.2e9 },
  { name: LONG, kind: 'render', bytes: 120e6 },
  { name: 'mix_v4.wav', kind: 'audio', bytes: 880e6 },
];

function Lists() {
  return (
    <Card title="A list">
      <Table<Line>
        label="A list"
        rows={LINES}
        rowKey={(line) => line.name}
        first={{ by: 'size', down: true }}
        marked={(line) => line.kind === 'audio'}
        actions={(line) => [
          { name: 'Open it', letter: 'o', run: () => tell(`Opened ${line.name}`) },
          { name: 'Let it go', isLoss: true, run: () => tell(`Let go of ${line.name}`) },
        ]}
        columns={[
          {
            key: 'name',
            title: 'Name',
            sort: (line) => line.name,
            cell: (line) => (
              <span className="path block max-w-72 truncate" title={line.name}>
                {line.name}
              </span>
            ),
          },
          { key: 'kind', title: 'Kind', cell: (line) => <KindDot kind={line.kind} /> },
          {
            key: 'size',
            title: 'Size',
            number: true,
            sort: (line) => line.bytes,
            cell: (line) => <b>{size(line.bytes)}</b>,
          },
        ]}
      />
    </Card>
  );
}

/** A frame that scrolls, views of which one is open, and the words of a mark when the pointer or the focus is on it. */
function Frames() {
  return (
    <Card title="Frames and views">
      <Views
        label="Views"
        shown="one"
        views={[
          { key: 'one', words: 'The first', to: '?view=one' },
          { key: 'two', words: LONG.slice(0, 40), to: '?view=two' },
        ]}
      >
        <Scroll label="More than there is room for" maxHeight={120}>
          {Array.from({ length: 12 }, (_, i) => (
            <p key={i} className="truncate" title={`Line ${i + 1}: ${LONG}`}>
              Line {i + 1}: {LONG}
            </p>
          ))}
        </Scroll>
      </Views>
    </Card>
  );
}
