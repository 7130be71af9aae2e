// Reads a CMX 3600 edit list into the project model: one timeline, media by reel, or by clip name and source file where
// comments give them. Source: the CMX 3600 format as described in public by SMPTE 258M and the notes editors write as
// comments ('* FROM CLIP NAME:', '* SOURCE FILE:').
//
// An edit list does not say its rate. It is taken from a '* FRAME RATE:' comment, from drop-frame counting, else it is
// the lowest standard rate that has every frame number in it; it cannot tell 24 from 23.976. Where a list leaves open how
// much of its source is shown, the larger reach counts.
import {
  type Clip,
  type DocumentModel,
  type DocumentNote,
  type DocumentReading,
  type DocumentTrouble,
  type MediaRef,
  MOST_NOTES,
  type Use,
} from '../model.ts';
import { WHOLE } from '../../reach/reach.ts';
import { type FrameRange, type Rate, rateFromNumber } from '../../time/rates.ts';
import { framesOfDay, labelOf, labelsPerSecond } from '../../time/timecode.ts';

/** Reels that stand for no media. */
const NOTHING = new Set(['BL', 'BLACK', 'BARS']);
/** Reels that stand for whatever the clip's name says. */
const NAMED_ELSEWHERE = new Set(['AX', 'AUX', 'GEN', 'UNKNOWN']);
const MOST_LINES = 2_000_000;
/** What is longer is a note of somebody's, not a line of the format. */
const LONGEST_LINE = 4_000;

type How = 'C' | 'D' | 'W' | 'K';

/** An event line as it is written. */
interface Written {
  line: number;
  number: string;
  reel: string;
  channels: string;
  kind: string;
  over: number;
  /** The line as it stands. */
  text: string;
  /** Source in and out, record in and out; null where the line cannot be read. */
  times: [string, string, string, string] | null;
  /** What is wrong with it, and at which of its letters. */
  odd: { detail: string; column: number } | null;
}

interface Event {
  number: string;
  reel: string;
  picture: boolean;
  sound: boolean;
  /** C cut, D dissolve, W wipe, K key. */
  how: How;
  /** Length of the transition in frames. */
  over: number;
  from: number;
  to: number;
  begins: number;
  ends: number;
  /** Source in as written: an M2 line names its event by it. */
  label: string;
  /** Frames a second that an M2 line asks for; null where it is played as recorded. */
  speed: number | null;
  /** Its times cannot be read: whatever there is of its source counts. */
  isWhole: boolean;
  name: string | null;
  source: string | null;
}

type Line =
  | { is: 'event'; at: number; written: Written }
  | { is: 'comment'; key: string; value: string }
  | { is: 'speed'; at: number; reel: string; speed: number; label: string | null }
  | { is: 'counting'; drop: boolean }
  | { is: 'title'; text: string };

class Trouble extends Error {
  constructor(readonly trouble: DocumentTrouble) {
    super(trouble.detail);
  }
}
const placeIn = (line: number, column = 1) => `line ${line}, column ${column}`;

/** Reads the text of an edit list. Never throws for what the text says. */
export function readEdl(text: string, asked?: Rate): DocumentReading {
  try {
    const lines = linesIn(text);
    if (!lines.some((line) => line.is === 'event')) return { ok: false, trouble: notOne(text) };
    const list = eventsIn(lines, asked ?? rateOf(lines));
    // Where no event can be read it is no list, or one of another rate.
    const [first] = list.notes;
    if (first && list.events.every((event) => event.isWhole))
      return { ok: false, trouble: { code: 'bad_value', ...first } };
    return { ok: true, document: model(list) };
  } catch (error) {
    if (error instanceof Trouble) return { ok: false, trouble: error.trouble };
    throw error;
  }
}

function notOne(text: string): DocumentTrouble {
  const first = text.search(/\S/);
  const line = first < 0 ? 1 : (text.slice(0, first).match(/\r\n|\r|\n/g)?.length ?? 0) + 1;
  return { code: 'not_edl', where: `line ${line}, column 1`, detail: 'there is no event in it' };
}

/** Each line with its own end, one at a time: a list may be line ends and nothing else. */
function* rawLines(text: string): Generator<{ line: string; end: string }> {
  const ends = /\r\n|\r|\n/g;
  let at = 0;
  for (let end = ends.exec(text); end; end = ends.exec(text)) {
    yield { line: text.slice(at, end.index), end: end[0] };
    at = end.index + end[0].length;
  }
  yield { line: text.slice(at), end: '' };
}

/** The lines that say something. */
function linesIn(text: string): Line[] {
  const found: Line[] = [];
  let at = 0;
  for (const { line } of rawLines(text)) {
    if (++at > MOST_LINES)
      throw new Trouble({
        code: 'too_large',
        where: `line ${MOST_LINES}`,
        detail: 'more lines than any edit list has',
      });
    const read = line.length <= LONGEST_LINE ? lineOf(line, at) : null;
    if (read) found.push(read);
  }
  return found;
}

function lineOf(line: string, at: number): Line | null {
  const text = line.trim();
  if (text === '') return null;
  const comment = commentOf(text);
  if (comment) return { is: 'comment', ...comment };
  if (/^TITLE:/i.test(text)) return { is: 'title', text: text.slice(6).trim() };
  if (/^FCM:/i.test(text)) return { is: 'counting', drop: /^FCM:\s*DROP/i.test(text) };
  if (/^M2\s/i.test(text)) return speedOf(text, at);
  const written = writtenOf(text, line, at);
  return written && { is: 'event', at, written };
}

/** A note of the form '* KEY: value'; those that name clips and files count without the star as well. */
function commentOf(text: string): { key: string; value: string } | null {
  const colon = text.indexOf(':');
  if (colon < 0) return null;
  const key = text
    .slice(text.startsWith('*') ? 1 : 0, colon)
    .trim()
    .toUpperCase();
  if (!text.startsWith('*') && !FILES.has(key) && !NAMES.has(key)) return null;
  return /^[A-Z][A-Z ]*$/.test(key) ? { key, value: text.slice(colon + 1).trim() } : null;
}

const TIMECODE = /^\d{1,2}:\d{2}:\d{2}[:;.,]\d{2,3}$/;

/** M2, reel (which may have spaces), frames a second (NaN where they cannot be read), and where in its source it begins. */
function speedOf(text: string, at: number): Line {
  const words = text.split(/\s+/).slice(1);
  const label = TIMECODE.test(words.at(-1) ?? '') ? words.pop()! : null;
  const told = words.pop();
  const speed = told !== undefined && /^[+-]?\d{1,5}(\.\d+)?$/.test(told) ? Number(told) : NaN;
  return { is: 'speed', at, reel: words.join(' '), speed, label };
}

/** An event: its number, reel (which may have spaces), channels, kind, four timecodes, and whatever else is written after. */
function writtenOf(text: string, line: string, at: number): Written | null {
  const words = text.split(/\s+/);
  const first = words.findIndex((word) => word.includes(':'));
  // Numbered by digits; by letters too where all four timecodes are there.
  const isTimed = first > 0 && words.slice(first, first + 4).filter((word) => TIMECODE.test(word)).length === 4;
  if (!(isTimed ? /^[\dA-Za-z]{1,8}$/ : /^\d{1,8}$/).test(words[0]!)) return null;
  if (words.length < 5 && first < 0) return null;
  const times = first < 0 ? [] : words.slice(first, first + 4);
  let kind = first - 1;
  const over = /^\d{1,6}$/.test(words[kind] ?? '') ? Number(words[kind--]) : 0;
  // A key is told with what it lies over: 'K B', 'K O'.
  if (/^[BO]$/i.test(words[kind] ?? '') && /^K$/i.test(words[kind - 1] ?? '')) kind--;
  const odd = (detail: string, reel: string): Written => {
    const column = line.search(/\S/) + 1;
    const rest = { kind: 'C', over: 0, text: line, times: null, odd: { detail, column } };
    return { line: at, number: words[0]!, reel, channels: 'B', ...rest };
  };
  if (times.length < 4 || !times.every((word) => word.includes(':')) || kind < 3) {
    if (first < 0 && !/^[CDWK]/i.test(words[3] ?? '')) return null;
    return odd('an event has its number, reel, channels, kind and four timecodes', words[1]!);
  }
  const reel = words.slice(1, kind - 1).join(' ');
  if (!/^[CDWK]/i.test(words[kind]!)) return odd(`"${words[kind]}" is no cut, dissolve, wipe or key`, reel);
  return {
    line: at,
    number: words[0]!,
    reel,
    channels: words[kind - 1]!.toUpperCase(),
    kind: words[kind]!,
    over,
    text: line,
    times: times as Written['times'],
    odd: null,
  };
}

const eventsOf = (lines: readonly Line[]) => lines.flatMap((line) => (line.is === 'event' ? [line.written] : []));

function rateOf(lines: readonly Line[]): Rate {
  const noted = lines.find((line) => line.is === 'comment' && line.key === 'FRAME RATE');
  const told = noted?.is === 'comment' ? rateFromNumber(Number(/^[\d.]+/.exec(noted.value)?.[0])) : null;
  if (told) return told;
  let drops = lines.some((line) => line.is === 'counting' && line.drop);
  let highest = 0;
  for (const { times } of eventsOf(lines))
    for (const time of times ?? []) {
      const [, mark, frames] = /([:;.,])(\d{2,3})$/.exec(time) ?? [];
      highest = Math.max(highest, Number(frames ?? 0));
      drops ||= mark !== undefined && mark !== ':';
    }
  if (drops) return highest >= 30 ? { num: 60000, den: 1001 } : { num: 30000, den: 1001 };
  return { num: [24, 25, 30, 50, 60].find((base) => highest < base) ?? 60, den: 1 };
}

interface List {
  title: string;
  events: Event[];
  rate: Rate;
  notes: DocumentNote[];
}

function eventsIn(lines: readonly Line[], rate: Rate): List {
  const events: Event[] = [];
  const speeds: { speed: Line & { is: 'speed' }; after: number }[] = [];
  const isMarked = eventsOf(lines).some(({ times }) => times?.some((time) => /[;.,]\d+$/.test(time)));
  let title = '';
  let drop = false;
  // Notes speak of the lines that they follow, back to the notes before.
  let group: Event[] = [];
  let comments: { key: string; value: string }[] = [];
  const last: LastOnTrack = {};
  const odd: DocumentNote[] = [];
  const note = (where: string, detail: string) => void (odd.length < MOST_NOTES && odd.push({ where, detail }));
  const settle = () => {
    applyNotes(group, comments, last);
    for (const event of group) for (const track of TRACKS) if (event[track]) last[track] = event;
    group = [];
    comments = [];
  };
  for (const line of lines) {
    if (line.is === 'title') title ||= line.text;
    else if (line.is === 'counting') drop = line.drop;
    else if (line.is === 'comment') comments.push(line);
    else if (line.is === 'speed') {
      speeds.push({ speed: line, after: events.length });
      if (Number.isNaN(line.speed)) note(placeIn(line.at), 'an M2 line says no speed: all of its source counts');
    } else {
      if (comments.length > 0 || group[0]?.number !== line.written.number) settle();
      // Where any timecode is marked, each says for itself how it is counted.
      const event = eventOf(line.written, { rate, drop: drop && !isMarked, note });
      events.push(event);
      group.push(event);
    }
  }
  settle();
  for (const { speed, after } of speeds) applySpeed(events, speed, after);
  return { title, events, rate, notes: odd };
}

interface Counting {
  rate: Rate;
  drop: boolean;
  note(where: string, detail: string): void;
}

/** What cannot be read of it costs its times: then whatever there is of its source counts. */
function eventOf(written: Written, counting: Counting): Event {
  const { line, number, reel, channels, kind, over, times, odd } = written;
  if (odd) counting.note(placeIn(line, odd.column), odd.detail);
  const frames = times && framesOf(written, times, counting);
  const how = kind[0]!.toUpperCase() as How;
  const picture = channels.includes('V') || channels === 'B';
  const sound = channels === 'B' || channels.replaceAll('V', '').includes('A');
  return {
    number,
    reel,
    picture: picture || !sound,
    sound,
    how,
    over: how === 'C' ? 0 : over,
    ...(frames ?? { from: 0, to: 0, begins: 0, ends: 0 }),
    label: times?.[0] ?? '',
    speed: null,
    isWhole: frames === null,
    name: null,
    source: null,
  };
}

function framesOf(
  { line, text: whole }: Written,
  times: NonNullable<Written['times']>,
  { rate, drop, note }: Counting,
): Pick<Event, 'from' | 'to' | 'begins' | 'ends'> | null {
  const labels: number[] = [];
  for (const text of times) {
    const label = /^24:00:00[:;.,]00$/.test(text)
      ? framesOfDay(rate, drop || /[;.,]/.test(text))
      : labelOf(text, rate, drop)?.frame;
    if (label === undefined) {
      note(placeIn(line, whole.indexOf(text) + 1), `"${text}" is no timecode at this rate`);
      return null;
    }
    labels.push(label);
  }
  const [from, to, begins, ends] = labels as [number, number, number, number];
  // What ends before it begins goes on past midnight.
  const past = (begin: number, end: number, text: string) =>
    end < begin ? end + framesOfDay(rate, drop || /[;.,]\d+$/.test(text)) : end;
  return { from, to: past(from, to, times[1]), begins, ends: past(begins, ends, times[3]) };
}

const TRACKS = ['picture', 'sound'] as const;
/** The last event of each track. */
type LastOnTrack = Partial<Record<(typeof TRACKS)[number], Event>>;

/** Notes serve the lines before them: those of what goes out, and of what comes in by a transition. */
function applyNotes(
  group: readonly Event[],
  notes: readonly { key: string; value: string }[],
  last: LastOnTrack,
): void {
  if (group.length === 0) return;
  const comesIn = group.filter((event) => event.how !== 'C');
  const cuts = group.filter((event) => event.how === 'C');
  // Of a transition told in one line, the event before on its track goes out.
  const goesOut =
    cuts.length > 0
      ? cuts
      : comesIn.flatMap((event) => TRACKS.flatMap((track) => (event[track] ? (last[track] ?? []) : [])));
  const into = comesIn.length > 0 ? comesIn : cuts;
  const hasTo = notes.some((note) => note.key === 'TO CLIP NAME' || note.key === 'TO FILE');
  const single = cuts.length === 0 && !hasTo;
  let named: readonly Event[] = single ? into : goesOut;
  const put = (events: readonly Event[], key: 'name' | 'source', value: string) => {
    for (const event of events) event[key] ??= value;
    named = events;
  };
  for (const { key, value } of notes) {
    if (value === '') continue;
    // One line that names a single clip names its own, unless that is what goes out.
    if (key === 'FROM CLIP NAME')
      put(single && !goesOut.some((event) => event.name === value) ? into : goesOut, 'name', value);
    else if (key === 'TO CLIP NAME' || key === 'KEY CLIP NAME') put(into, 'name', value);
    else if (key === 'FROM FILE') put(single ? into : goesOut, 'source', value);
    else if (key === 'TO FILE') put(into, 'source', value);
    else if (key === 'SOURCE FILE') put(named.every((event) => event.source !== null) ? into : named, 'source', value);
  }
}

/** An M2 line stands after the event it speaks of, or before it: reel and place in the source tell which. */
function applySpeed(events: readonly Event[], { reel, speed, label }: Line & { is: 'speed' }, after: number): void {
  const number = events[after - 1]?.number;
  const next = events[after]?.number;
  const near = [
    ...events
      .slice(Math.max(0, after - 8), after)
      .filter((event) => event.number === number)
      .reverse(),
    ...events.slice(after, after + 8).filter((event) => event.number === next),
  ];
  const plain = (text: string) => text.replace(/[;.,]/g, ':').replace(/^(\d:)/, '0$1');
  const isAt = (event: Event) => label !== null && plain(event.label) === plain(label);
  const isReel = (event: Event) => event.reel === reel;
  const all = [near.filter((event) => isReel(event) && isAt(event)), near.filter(isReel), near.filter(isAt)];
  const found = all.find((some) => some.length > 0) ?? near.slice(0, 1);
  // Lines of one event with the same source are picture and sound of one thing.
  const [first] = found;
  for (const event of found)
    if (event.number === first!.number && event.reel === first!.reel && event.from === first!.from)
      event.speed ??= speed;
}

function model({ title, events, rate, notes }: List): DocumentModel {
  const media: MediaRef[] = [];
  const byIdentity = new Map<string, MediaRef>();
  const named = (event: Event) => `${event.reel}\n${event.name}`;
  // A clip whose file is told once is that file wherever it is named again.
  const files = new Map<string, Set<string>>();
  for (const event of events)
    if (event.source && event.name)
      files.set(named(event), (files.get(named(event)) ?? new Set<string>()).add(event.source));
  const mediaOf = (event: Event): MediaRef | null => {
    const reel = event.reel.toUpperCase();
    if (NOTHING.has(reel)) return null;
    const isNamed = NAMED_ELSEWHERE.has(reel);
    if (isNamed && !event.name && !event.source) return null;
    const told = files.get(named(event));
    const source = event.source ?? (told?.size === 1 ? [...told][0]! : null);
    const identity = source ?? (isNamed ? event.name! : `${event.reel}\n${event.name ?? ''}`);
    let known = byIdentity.get(identity);
    if (!known) {
      const name = event.name ?? (source ? source.split(/[\\/]/).at(-1)! : event.reel);
      // Without a path the name is all there is to look for; it is resolved beside the document, or by evidence.
      const target = source ?? event.name ?? event.reel;
      known = { key: media.length, name, target, stills: null, available: null, reel: isNamed ? null : event.reel };
      media.push(known);
      byIdentity.set(identity, known);
    }
    return known;
  };
  const uses: Use[] = [];
  const clips = new Map<number, Clip>();
  const under = underTransitions(events);
  for (const event of events) {
    const item = mediaOf(event);
    if (!item) continue;
    clips.set(item.key, { bin: null, name: item.name, media: item.key });
    for (const track of TRACKS)
      if (event[track])
        for (const range of usedBy(event, under.get(event)?.[track] ?? 0, rate))
          uses.push({ media: item.key, range, rate, enabled: true, sound: track === 'sound' });
  }
  const placed = events.filter((event) => !event.isWhole);
  const begin = placed.reduce((least, event) => Math.min(least, event.begins), Infinity);
  const end = placed.reduce((most, event) => Math.max(most, event.ends), 0);
  return {
    // Its title is its timeline's: a project is called after its document or its folder.
    name: '',
    bins: [],
    media,
    clips: [...clips.values()],
    timelines: [{ bin: null, name: title || 'edit list', durationFrames: Math.max(0, end - begin), rate, uses }],
    notes,
  };
}

interface Under {
  picture: number;
  sound: number;
}

/** For how long each event goes on under a dissolve, wipe or key into the next of its track. */
function underTransitions(events: readonly Event[]): Map<Event, Under> {
  const under = new Map<Event, Under>();
  const last: LastOnTrack = {};
  for (const [i, event] of events.entries()) {
    for (const track of TRACKS) {
      if (!event[track]) continue;
      if (event.how !== 'C' && event.over > 0) {
        // Told in two lines, the first is what goes out; told in one, it is the track's previous event.
        const near = events.slice(Math.max(0, i - 8), i).reverse();
        const first = near.find((one) => one.number === event.number && one.how === 'C' && one[track]);
        const out = first ?? last[track];
        if (out) {
          const known = under.get(out) ?? { picture: 0, sound: 0 };
          under.set(out, { ...known, [track]: Math.max(known[track], event.over) });
        }
      }
    }
    for (const track of TRACKS) if (event[track] && event.begins < event.ends) last[track] = event;
  }
  return under;
}

/**
 * Frames of the source that an event shows, `under` what comes after included. An M2 line says how fast the source
 * passes: where that and the lengths in source and record do not agree, the larger reach counts. Backwards it is told
 * from its last frame by some and from its first by others, so both are covered; at 0 it is one frame.
 */
function usedBy(event: Event, under: number, rate: Rate): FrameRange[] {
  if (event.isWhole || Number.isNaN(event.speed)) return [WHOLE];
  const shown = Math.max(0, event.ends - event.begins) + under;
  const told = Math.max(0, event.to - event.from);
  if (event.speed === 0) return [{ start: event.from, duration: 1 }];
  if (event.speed === null) {
    const duration = Math.max(told + under, shown);
    return duration > 0 ? [{ start: event.from, duration }] : [];
  }
  // A list that cannot tell 24 from 23.976 may mean either; the exact speed is told to the tenth by some.
  const passes = Math.ceil(
    (shown * Math.abs(event.speed)) / Math.min(rate.num / rate.den, labelsPerSecond(rate)) - 1e-9,
  );
  const more = Math.ceil((under * Math.abs(event.speed)) / (rate.num / rate.den) - 1e-9);
  const forth = { start: event.from, duration: Math.max(passes, told + more, 1) };
  if (event.speed > 0) return [forth];
  const start = Math.max(0, event.from - passes);
  return [forth, { start, duration: event.from - start + 1 }];
}

/**
 * Where the source of each event lies, written anew: only '* SOURCE FILE:' lines change, or are added where there are none.
 * Every line keeps its own end.
 */
export function relinkEdl(text: string, to: (written: string) => string | null): { text: string; replaced: number } {
  let replaced = 0;
  const out: string[] = [];
  const [, usual = '\n'] = /(\r\n|\r|\n)/.exec(text) ?? [];
  let group: { line: string; end: string; written: Written | null; comment: ReturnType<typeof commentOf> }[] = [];
  const write = (line: string, end: string) => out.push(line + end);
  const add = (after: { end: string }, key: string, next: string) => {
    replaced++;
    // The last line of a text may have no end: the added one gets the list's, and takes its place.
    if (after.end === '') out.push(usual);
    write(`* ${key} FILE: ${next}`, after.end);
  };
  const flush = () => {
    const hasFiles = group.some(({ comment }) => comment && FILES.has(comment.key));
    const hasNames = group.some(({ comment }) => comment && NAMES.has(comment.key));
    for (const [i, one] of group.entries()) {
      const { line, end, comment, written } = one;
      const isFile = comment !== null && FILES.has(comment.key);
      const next = isFile ? to(comment.value) : null;
      if (isFile && next !== null && next !== comment.value) {
        replaced++;
        write(line.slice(0, line.lastIndexOf(comment.value)) + next, end);
        continue;
      }
      write(line, end);
      if (hasFiles) continue;
      if (comment && NAMES.has(comment.key)) {
        const named = to(comment.value);
        if (named !== null) add(one, comment.key === 'TO CLIP NAME' ? 'TO' : 'SOURCE', named);
      } else if (!hasNames && written && !group[i + 1]?.written) {
        const reel = to(written.reel);
        if (reel !== null) add(one, 'SOURCE', reel);
      }
    }
    group = [];
  };
  let at = 0;
  for (const { line, end } of rawLines(text)) {
    at++;
    const read = line.length <= LONGEST_LINE ? lineOf(line, at) : null;
    const written = read?.is === 'event' ? read.written : null;
    if (written && group.some((one) => one.comment || (one.written && one.written.number !== written.number))) flush();
    group.push({ line, end, written, comment: read?.is === 'comment' ? read : null });
  }
  flush();
  return { text: out.join(''), replaced };
}

const FILES = new Set(['SOURCE FILE', 'FROM FILE', 'TO FILE']);
const NAMES = new Set(['FROM CLIP NAME', 'TO CLIP NAME', 'KEY CLIP NAME']);
