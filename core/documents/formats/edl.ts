// Reads a CMX 3600 edit list into the project model: one timeline, media by reel, or by clip name and source file where
// comments give them. Source: the CMX 3600 format as described in public by SMPTE 258M and the notes editors write as
// comments ('* FROM CLIP NAME:', '* SOURCE FILE:').
//
// An edit list does not say its rate. It is taken from a '* FRAME RATE:' comment, from drop-frame counting, else it is
// the lowest standard rate that has every frame number in it.
import type { Clip, DocumentModel, DocumentReading, DocumentTrouble, MediaRef, Use } from '../model.ts';
import { type FrameRange, type Rate, rateFromNumber } from '../../time/rates.ts';
import { labelOf } from '../../time/timecode.ts';

/** Reels that stand for no media. */
const NOTHING = new Set(['BL', 'BLACK', 'BARS']);
/** Reels that stand for whatever the clip's name says. */
const NAMED_ELSEWHERE = new Set(['AX', 'AUX', 'GEN', 'UNKNOWN']);
const MOST_LINES = 2_000_000;

interface Event {
  line: number;
  number: string;
  reel: string;
  picture: boolean;
  sound: boolean;
  /** C cut, D dissolve, W wipe, K key. */
  how: 'C' | 'D' | 'W' | 'K';
  /** Length of the transition in frames. */
  over: number;
  from: number;
  to: number;
  begins: number;
  ends: number;
  /** Frames a second that the M2 line asks for; null where it is played as recorded. */
  speed: number | null;
  name: string | null;
  source: string | null;
}

class Trouble extends Error {
  constructor(readonly trouble: DocumentTrouble) {
    super(trouble.detail);
  }
}
const wrong = (line: number, detail: string, column = 1) =>
  new Trouble({ code: 'bad_value', where: `line ${line}, column ${column}`, detail });

/** Reads the text of an edit list. Never throws for what the text says. */
export function readEdl(text: string, asked?: Rate): DocumentReading {
  const lines = text.split(/\r\n|\r|\n/);
  const isEvent = (line: string) => /^\s*\d{1,8}\s+\S+\s+\S+\s+[CDWK]/.test(line);
  const first = lines.findIndex((line) => line.trim() !== '');
  if (!lines.some(isEvent))
    return {
      ok: false,
      trouble: {
        code: 'not_edl',
        where: `line ${Math.max(1, first + 1)}, column 1`,
        detail: 'there is no event in it',
      },
    };
  try {
    if (lines.length > MOST_LINES)
      throw new Trouble({
        code: 'too_large',
        where: `line ${MOST_LINES}`,
        detail: 'more lines than any edit list has',
      });
    const rate = asked ?? rateOf(lines);
    const { title, events } = read(lines, rate);
    return { ok: true, document: model(title, events, rate) };
  } catch (error) {
    if (error instanceof Trouble) return { ok: false, trouble: error.trouble };
    throw error;
  }
}

function rateOf(lines: readonly string[]): Rate {
  const noted = lines.map((line) => /^\*\s*FRAME RATE:\s*([\d.]+)/i.exec(line)?.[1]).find(Boolean);
  const told = noted ? rateFromNumber(Number(noted)) : null;
  if (told) return told;
  let highest = 0;
  let drops = false;
  for (const line of lines) {
    if (/^FCM:\s*DROP/i.test(line)) drops = true;
    if (!/^\s*\d/.test(line)) continue;
    for (const [, mark, frames] of line.matchAll(/\d{2}:\d{2}:\d{2}([:;.])(\d{2})/g)) {
      highest = Math.max(highest, Number(frames));
      if (mark !== ':') drops = true;
    }
  }
  if (drops) return highest >= 30 ? { num: 60000, den: 1001 } : { num: 30000, den: 1001 };
  const num = [24, 25, 30, 50, 60].find((base) => highest < base) ?? 60;
  return { num, den: 1 };
}

function read(lines: readonly string[], rate: Rate): { title: string; events: Event[] } {
  let title = '';
  let drop = false;
  const events: Event[] = [];
  // Comments and M2 lines speak of the events of the number they follow.
  const ofNumber = () => {
    const last = events.at(-1);
    return last ? events.filter((event, i) => i >= events.length - 4 && event.number === last.number) : [];
  };
  for (const [i, line] of lines.entries()) {
    const at = i + 1;
    const comment = /^\s*\*\s*([A-Z ]+?):\s*(.*?)\s*$/i.exec(line);
    if (/^TITLE:/i.test(line)) title = line.slice(6).trim();
    else if (/^FCM:/i.test(line)) drop = /^FCM:\s*DROP/i.test(line);
    else if (comment) note(ofNumber(), comment[1]!.toUpperCase(), comment[2]!);
    else if (/^\s*M2\s/i.test(line)) speed(ofNumber(), line, at);
    else if (/^\s*\d{1,8}\s+\S/.test(line)) events.push(event(line, at, { rate, drop }));
  }
  return { title, events };
}

function event(line: string, at: number, { rate, drop }: { rate: Rate; drop: boolean }): Event {
  const words = line.trim().split(/\s+/);
  const [number, reel, channels, kind] = words as [string, string, string, string];
  const times = words.slice(-4);
  if (words.length < 8) throw wrong(at, 'an event has its number, reel, channels, kind and four timecodes');
  const how = kind[0]!.toUpperCase();
  if (!['C', 'D', 'W', 'K'].includes(how)) throw wrong(at, `"${kind}" is no cut, dissolve, wipe or key`);
  const labels = times.map((text) => {
    const label = labelOf(text, rate, drop);
    if (!label) throw wrong(at, `"${text}" is no timecode at this rate`, line.indexOf(text) + 1);
    return label.frame;
  });
  const [from, to, begins, ends] = labels as [number, number, number, number];
  const between = words.slice(4, -4).find((word) => /^\d+$/.test(word));
  const upper = channels.toUpperCase();
  const picture = upper.includes('V') || upper === 'B';
  return {
    line: at,
    number,
    reel,
    picture,
    sound: upper === 'B' || upper.replace('V', '').includes('A'),
    how: how as Event['how'],
    over: how === 'C' ? 0 : Number(between ?? 0),
    from,
    to,
    begins,
    ends,
    speed: null,
    name: null,
    source: null,
  };
}

function note(events: readonly Event[], what: string, text: string): void {
  const [first, last] = [events[0], events.at(-1)];
  if (!first || !last || text === '') return;
  if (what === 'FROM CLIP NAME') first.name = text;
  else if (what === 'TO CLIP NAME' || what === 'KEY CLIP NAME') last.name = text;
  else if (what === 'SOURCE FILE' || what === 'FROM FILE') (events.length > 1 ? first : last).source = text;
  else if (what === 'TO FILE') last.source = text;
}

function speed(events: readonly Event[], line: string, at: number): void {
  const [, reel, told] = line.trim().split(/\s+/);
  const value = Number(told);
  if (told === undefined || !Number.isFinite(value)) throw wrong(at, 'an M2 line says no speed');
  const last = [...events].reverse().find((event) => event.reel === reel) ?? events.at(-1);
  if (last) last.speed = value;
}

function model(title: string, events: readonly Event[], rate: Rate): DocumentModel {
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
      const targets = [source ?? event.name ?? event.reel];
      known = { key: media.length, name, targets, available: null, reel: isNamed ? null : event.reel };
      media.push(known);
      byIdentity.set(identity, known);
    }
    return known;
  };
  const uses: Use[] = [];
  const clips = new Map<number, Clip>();
  for (const [i, event] of events.entries()) {
    const item = mediaOf(event);
    if (!item) continue;
    clips.set(item.key, { bin: null, name: item.name, media: item.key });
    for (const range of usedBy(event, events[i + 1], rate))
      for (const sound of [false, true])
        if (sound ? event.sound : event.picture) uses.push({ media: item.key, range, rate, enabled: true, sound });
  }
  const begin = events.reduce((least, event) => Math.min(least, event.begins), Infinity);
  const end = events.reduce((most, event) => Math.max(most, event.ends), 0);
  const durationFrames = Math.max(0, end - begin);
  return {
    name: title,
    bins: [],
    media,
    clips: [...clips.values()],
    timelines: [{ bin: null, name: title || 'edit list', durationFrames, rate, uses }],
  };
}

/**
 * Frames of the source that an event shows. What goes into a dissolve, wipe or key goes on under it for its length. An
 * M2 line says how fast the source passes; backwards it is told from its last frame by some and from its first by
 * others, so both are covered; at 0 it is one frame.
 */
function usedBy(event: Event, next: Event | undefined, rate: Rate): FrameRange[] {
  const shown = Math.max(0, event.ends - event.begins);
  const told: FrameRange = { start: event.from, duration: Math.max(0, event.to - event.from) };
  if (event.speed === 0) return [{ start: event.from, duration: 1 }];
  if (event.speed !== null) {
    const passes = Math.ceil((shown * Math.abs(event.speed) * rate.den) / rate.num);
    if (event.speed > 0) return [{ start: event.from, duration: Math.max(passes, 1) }];
    const forth = { start: event.from, duration: Math.max(passes, told.duration) };
    const back = { start: Math.max(0, event.from - passes), duration: passes + 1 };
    return [forth, back];
  }
  const isUnder = next !== undefined && next.number === event.number && next.how !== 'C' && event.ends <= next.begins;
  if (isUnder) return [{ ...told, duration: told.duration + next.over }].filter((range) => range.duration > 0);
  return told.duration > 0 ? [told] : [];
}

/** Where the source of each event lies, written anew: only '* SOURCE FILE:' lines change, or are added where there are none. */
export function relinkEdl(text: string, to: (written: string) => string | null): { text: string; replaced: number } {
  let replaced = 0;
  const [, ending = '\n'] = /(\r\n|\r|\n)/.exec(text) ?? [];
  const lines = text.split(/\r\n|\r|\n/);
  const out: string[] = [];
  // Lines of one event, to see whether it names its source.
  let event: string[] = [];
  const flush = () => {
    const files = event.filter((line) => FILE.test(line));
    for (const line of event) {
      const parts = FILE.exec(line) ?? (files.length === 0 ? NAME.exec(line) : null);
      const next = parts ? to(parts[2]!) : null;
      if (next === null || next === parts![2]) out.push(line);
      else if (FILE.test(line)) {
        replaced++;
        out.push(`${parts![1]}${next}`);
      } else {
        replaced++;
        out.push(line, `* ${/TO CLIP/i.test(line) ? 'TO' : 'SOURCE'} FILE: ${next}`);
      }
    }
    event = [];
  };
  let number = '';
  for (const line of lines) {
    const own = /^\s*(\d{1,8})\s+\S+\s+\S+\s+[CDWK]/.exec(line)?.[1];
    if (own !== undefined && own !== number) {
      flush();
      number = own;
    }
    event.push(line);
  }
  flush();
  return { text: out.join(ending), replaced };
}

const FILE = /^(\s*\*\s*(?:SOURCE|FROM|TO) FILE:\s*)(.*?)\s*$/i;
const NAME = /^(\s*\*\s*(?:FROM|TO|KEY) CLIP NAME:\s*)(.*?)\s*$/i;
