// Reads the project of an open .dawproject sound session (project.xml inside its zip) into the project model: audio clips
// become uses, tracks become bins. Source: the DAWproject exchange format, Project.xsd 1.0.
import { XMLParser, XMLValidator } from 'fast-xml-parser';
import {
  type Bin,
  type Clip,
  type DocumentModel,
  type DocumentNote,
  type DocumentReading,
  type DocumentTrouble,
  fit,
  type MediaRef,
  MOST_NOTES,
  type Timeline,
  type Use,
} from '../model.ts';
import type { FrameRange, Rate } from '../../time/rates.ts';

type Unit = 'beats' | 'seconds';
/** One element, with its children in the order they are written. */
interface Element {
  name: string;
  attributes: Record<string, string>;
  children: Element[];
}
/** A piece of a content timeline, in that timeline's own unit. */
interface Window {
  start: number;
  end: number;
  unit: Unit;
}

const DEEPEST = 60;
/** Aliases of aliases multiply: so many are followed in a session. */
const MOST_REFERENCES = 20_000;
/** A session has no frame rate: its length is told at this one. */
const TOLD_AT: Rate = { num: 25, den: 1 };

class Trouble extends Error {
  constructor(readonly trouble: DocumentTrouble) {
    super(trouble.detail);
  }
}

/**
 * @param inBundle whether a path lies inside the session's own zip
 * @param facts its metadata.xml, '' where there is none
 */
export function readDawproject(xml: string, inBundle: (path: string) => boolean, facts = ''): DocumentReading {
  const valid = XMLValidator.validate(xml);
  if (valid !== true)
    return {
      ok: false,
      trouble: {
        code: 'not_dawproject',
        where: `line ${valid.err.line}, column ${valid.err.col}`,
        detail: valid.err.msg.replace(/\.$/, ''),
      },
    };
  if (/<!(DOCTYPE|ENTITY)/i.test(xml))
    return {
      ok: false,
      trouble: {
        code: 'not_dawproject',
        where: 'line 1, column 1',
        detail: 'it declares entities, which is not taken',
      },
    };
  try {
    const top = elements(parsed(xml), 0).find((element) => element.name === 'Project');
    if (!top)
      return { ok: false, trouble: { code: 'not_dawproject', where: '/', detail: 'its top element is no Project' } };
    return { ok: true, document: { ...new Session(top, inBundle).read(), name: titleIn(facts) } };
  } catch (error) {
    if (error instanceof Trouble) return { ok: false, trouble: error.trouble };
    throw error;
  }
}

/** What the parser finds that the validator let pass is trouble of the document too. */
function parsed(xml: string): unknown[] {
  const parser = new XMLParser({ preserveOrder: true, ignoreAttributes: false, attributeNamePrefix: '' });
  try {
    return parser.parse(xml) as unknown[];
  } catch (error) {
    const detail = (error as Error).message.replace(/\.$/, '').toLowerCase();
    throw new Trouble({ code: 'not_dawproject', where: '/', detail });
  }
}

function elements(nodes: readonly unknown[], depth: number): Element[] {
  if (depth > DEEPEST)
    throw new Trouble({ code: 'too_deep', where: '/', detail: `elements nested deeper than ${DEEPEST}` });
  return nodes.flatMap((node) => {
    const entry = Object.entries(node as Record<string, unknown>).find(([key]) => key !== ':@');
    if (!entry || !Array.isArray(entry[1])) return [];
    const attributes = ((node as Record<string, unknown>)[':@'] ?? {}) as Record<string, string>;
    return [{ name: entry[0], attributes, children: elements(entry[1], depth + 1) }];
  });
}

/** Title of the song, where its facts are XML that says one. */
function titleIn(facts: string): string {
  const text = /<Title>([^<]{1,500})<\/Title>/.exec(facts)?.[1] ?? '';
  const entities: Record<string, string> = { amp: '&', lt: '<', gt: '>', quot: '"', apos: "'" };
  return text.replace(/&(amp|lt|gt|quot|apos);/g, (_all, name: string) => entities[name]!).trim();
}

const child = (element: Element, name: string): Element | undefined =>
  element.children.find((inner) => inner.name === name);

class Session {
  private readonly bins: Bin[] = [];
  private readonly binOfTrack = new Map<string, number>();
  private readonly media: MediaRef[] = [];
  private readonly mediaByPath = new Map<string, MediaRef>();
  /** Media and bin of every clip, so that none is there twice. */
  private readonly clipped = new Set<string>();
  private readonly clips: Clip[] = [];
  private readonly uses: Use[] = [];
  private readonly notes: DocumentNote[] = [];
  private readonly perBeat: number;
  /** The tempo changes on the way, or cannot be read: beats cannot be told in seconds, and what hangs on that counts whole. */
  private readonly isTempoUnsure: boolean;
  private length = 0;
  /** What other elements refer to. */
  private readonly byId = new Map<string, Element>();
  /** Elements that name files, in their order, wherever they are. */
  private readonly naming: Element[] = [];
  /** What is being walked by reference, so that nothing is walked inside itself. */
  private readonly followed = new Set<Element>();
  private walked = 0;

  constructor(
    private readonly top: Element,
    private readonly inBundle: (path: string) => boolean,
  ) {
    this.index(top);
    const tempo = child(child(top, 'Transport') ?? top, 'Tempo');
    const bpm = tempo ? this.number(tempo, 'value', 120) : 120;
    if (bpm <= 0) this.note('Transport/Tempo', 'a tempo of nothing');
    this.perBeat = 60 / (bpm > 0 ? bpm : 120);
    const arrangement = child(top, 'Arrangement');
    this.isTempoUnsure =
      this.notes.length > 0 ||
      (arrangement !== undefined && (child(arrangement, 'TempoAutomation')?.children.length ?? 0) > 2);
  }

  read(): DocumentModel {
    this.tracks(child(this.top, 'Structure')?.children ?? []);
    const all = { unit: 'beats' as const, track: null, enabled: true, window: null };
    const arrangement = child(this.top, 'Arrangement');
    if (arrangement) this.lanes(arrangement, all);
    const timelines = [this.timeline(arrangement?.attributes.name ?? 'arrangement')];
    // Clips that are started by hand are played as well as those in their place.
    for (const scene of child(this.top, 'Scenes')?.children ?? []) {
      this.lanes(scene, all);
      if (this.uses.length > 0) timelines.push(this.timeline(scene.attributes.name ?? 'scene'));
    }
    for (const element of this.naming) if (!this.mediaByPath.has(pathIn(element))) this.mediaOf(element, null);
    if (this.walked > MOST_REFERENCES) timelines[0]!.uses.push(...this.media.map(wholeOf));
    return {
      name: '',
      bins: this.bins,
      media: this.media,
      clips: this.clips,
      notes: this.notes.slice(0, MOST_NOTES),
      timelines,
    };
  }

  /** What was walked since the last. */
  private timeline(name: string): Timeline {
    const durationFrames = Math.ceil(this.length * TOLD_AT.num);
    this.length = 0;
    return { bin: null, name, durationFrames, rate: TOLD_AT, uses: this.uses.splice(0) };
  }

  private index(element: Element): void {
    const { id } = element.attributes;
    if (id && !this.byId.has(id)) this.byId.set(id, element);
    const isSound = element.name === 'Audio' || element.name === 'Video';
    if (isSound || isFileOutside(element)) this.naming.push(element);
    for (const each of element.children) this.index(each);
  }

  private tracks(all: readonly Element[]): void {
    for (const track of all.filter((element) => element.name === 'Track')) {
      const key = this.bins.length;
      this.bins.push({ key, parent: null, name: track.attributes.name ?? 'track' });
      if (track.attributes.id) this.binOfTrack.set(track.attributes.id, key);
      this.tracks(track.children);
    }
  }

  private lanes(element: Element, around: Around): void {
    const inner = {
      ...around,
      unit: unitOf(element.attributes.timeUnit) ?? around.unit,
      track: element.attributes.track ?? around.track,
    };
    for (const each of element.children) {
      if (each.name === 'Clip') this.clip(each, inner);
      else this.content(each, inner);
    }
  }

  private content(each: Element, around: Around): void {
    if (each.name === 'Lanes' || each.name === 'Clips' || each.name === 'ClipSlot') this.lanes(each, around);
    else if (each.name === 'Audio' || each.name === 'Video') this.audio(each, around);
    else if (each.name === 'Warps') this.warps(each, around);
  }

  private clip(element: Element, around: Around): void {
    const contentUnit = unitOf(element.attributes.contentTimeUnit) ?? around.unit;
    const before = this.odd;
    const heard = this.heard(element, around, contentUnit);
    if (this.odd === before && heard === null) return;
    // Of a place that cannot be read, all may be heard.
    const window = this.odd === before ? heard : { start: -Infinity, end: Infinity, unit: contentUnit };
    const inner = {
      ...around,
      unit: contentUnit,
      enabled: around.enabled && element.attributes.enable !== 'false',
      window,
    };
    for (const each of element.children) this.content(each, inner);
    this.referred(element, inner);
  }

  /** A clip that is another's alias plays that one's content, a part of its own. */
  private referred(element: Element, around: Around): void {
    const { reference } = element.attributes;
    if (!reference) return;
    const content = this.byId.get(reference);
    if (!content) return this.note(`Clip, reference`, `nothing is called "${fit(reference, 40)}"`);
    if (this.followed.has(content)) return this.note(`Clip, reference`, `"${fit(reference, 40)}" leads into itself`);
    if (this.walked > MOST_REFERENCES) return;
    if (++this.walked > MOST_REFERENCES)
      return this.note(`Clip, reference`, `more than ${MOST_REFERENCES} aliases, so all media count as used whole`);
    this.followed.add(content);
    this.content(content, around);
    if (content.name === 'Clip') for (const each of content.children) this.content(each, around);
    this.followed.delete(content);
  }

  /** What of a clip's content is heard; null where nothing is. */
  private heard(element: Element, around: Around, contentUnit: Unit): Window | null {
    const time = this.number(element, 'time', 0);
    const unit = around.unit;
    const playStart = this.number(element, 'playStart', 0);
    const stop = this.number(element, 'playStop', NaN);
    const told = this.number(element, 'duration', NaN);
    const length = Number.isFinite(told)
      ? told
      : Number.isFinite(stop)
        ? this.convert(stop - playStart, contentUnit, unit)
        : Infinity;
    const through = this.windowIn(around.window, unit);
    const seen = through
      ? { start: Math.max(time, through.start), end: Math.min(time + length, through.end) }
      : { start: time, end: time + length };
    if (seen.end <= seen.start) return null;
    if (!around.window && Number.isFinite(seen.end))
      this.length = Math.max(this.length, this.convert(seen.end, unit, 'seconds'));
    const window = this.contentWindow(element, { playStart, contentUnit }, [
      this.convert(seen.start - time, unit, contentUnit),
      this.convert(seen.end - time, unit, contentUnit),
    ]);
    return this.isTempoUnsure && unit !== contentUnit ? { start: -Infinity, end: Infinity, unit: contentUnit } : window;
  }

  /** What of the content is heard; a loop is heard from its start to its end. */
  private contentWindow(
    element: Element,
    { playStart, contentUnit }: { playStart: number; contentUnit: Unit },
    [from, to]: [number, number],
  ): Window {
    const loopEnd = this.number(element, 'loopEnd', NaN);
    const loopStart = this.number(element, 'loopStart', 0);
    if (Number.isFinite(loopEnd) && playStart + to > loopEnd)
      return { start: Math.min(playStart + from, loopStart), end: loopEnd, unit: contentUnit };
    return { start: playStart + from, end: playStart + to, unit: contentUnit };
  }

  /** Warps say which content time is heard when; between two of them time passes evenly. */
  private warps(element: Element, around: Around): void {
    const media = element.children.find((each) => each.name === 'Audio' || each.name === 'Video');
    // Of anything else that is warped all may be heard.
    for (const each of element.children) if (each !== media) this.content(each, { ...around, window: null });
    if (!media) return;
    const before = this.odd;
    const points = element.children
      .filter((each) => each.name === 'Warp')
      .map((warp) => [this.number(warp, 'time', 0), this.number(warp, 'contentTime', 0)] as const)
      .sort((a, b) => a[0] - b[0]);
    const contentUnit = unitOf(element.attributes.contentTimeUnit) ?? 'seconds';
    const through = this.windowIn(around.window, unitOf(element.attributes.timeUnit) ?? around.unit);
    const { start, end } = through ?? { start: -Infinity, end: Infinity };
    const isUnsure = this.odd !== before || !Number.isFinite(start) || !Number.isFinite(end);
    if (isUnsure || points.length < 2 || points.some((point, i) => i > 0 && point[0] === points[i - 1]![0]))
      return this.audio(media, { ...around, window: null });
    const at = (time: number) => {
      let i = points.findIndex((point) => point[0] >= time);
      if (i < 0) i = points.length - 1;
      const [a, b] = [points[Math.max(0, i - 1)]!, points[Math.max(1, i)]!];
      return a[1] + ((time - a[0]) * (b[1] - a[1])) / (b[0] - a[0]);
    };
    const met = [at(start), at(end), ...points.filter((p) => p[0] > start && p[0] < end).map((p) => p[1])];
    this.audio(media, {
      ...around,
      window: { start: Math.min(...met), end: Math.max(...met), unit: contentUnit },
    });
  }

  private audio(element: Element, { window, track, enabled }: Around): void {
    const before = this.odd;
    const item = this.mediaOf(element, track);
    if (!item) return;
    const { rate } = item;
    const range = this.range(this.odd !== before ? null : window, rate, item.available?.range.duration ?? null);
    if (range) this.uses.push({ media: item.key, range, rate, enabled, sound: element.name === 'Audio' });
  }

  /** The media that an element names, and the clip by which its track has it; null where it names none. */
  private mediaOf(element: Element, track: string | null): (MediaRef & { rate: Rate }) | null {
    const path = pathIn(element);
    if (path === '') return null;
    const told = this.number(element, 'sampleRate', 48_000);
    const isRate = told >= 1 && told < 1e7;
    if (!isRate) this.note(`Audio ${path}`, `a sampling rate of ${told}`);
    const rate = { num: isRate ? Math.round(told) : 48_000, den: 1 };
    const seconds = this.number(element, 'duration', NaN);
    let item = this.mediaByPath.get(path);
    if (!item) {
      item = {
        key: this.media.length,
        name: path.split('/').at(-1)!,
        target: path,
        stills: null,
        available: Number.isFinite(seconds)
          ? { range: { start: 0, duration: Math.round(seconds * rate.num) }, rate }
          : null,
        reel: null,
        ...(fileIn(element)?.attributes.external !== 'true' && this.inBundle(path) ? { bundled: true } : {}),
      };
      this.media.push(item);
      this.mediaByPath.set(path, item);
    }
    const bin = track === null ? null : (this.binOfTrack.get(track) ?? null);
    const key = `${item.key} ${bin}`;
    if (!this.clipped.has(key)) this.clips.push({ bin, name: item.name, media: item.key });
    this.clipped.add(key);
    return { ...item, rate };
  }

  /** Samples that are heard; the whole where the tempo changes or nobody knows; null where nothing is. */
  private range(window: Window | null, rate: Rate, length: number | null): FrameRange | null {
    const whole = { start: 0, duration: length ?? 0 };
    if (!window || !Number.isFinite(window.end) || (this.isTempoUnsure && window.unit === 'beats')) return whole;
    const seconds = (value: number) => this.convert(value, window.unit, 'seconds');
    const start = Math.max(0, Math.floor(seconds(window.start) * rate.num + 1e-6));
    const end = Math.ceil(seconds(window.end) * rate.num - 1e-6);
    const last = length === null ? end : Math.min(end, length);
    return last > start ? { start, duration: last - start } : null;
  }

  /** Null is all of it, as where a tempo that nobody knows lies between the two units. */
  private windowIn(window: Window | null, unit: Unit): Window | null {
    if (!window || window.unit === unit) return window;
    if (this.isTempoUnsure) return null;
    const [start, end] = [this.convert(window.start, window.unit, unit), this.convert(window.end, window.unit, unit)];
    return { start, end, unit };
  }

  private convert(value: number, from: Unit, to: Unit): number {
    if (from === to) return value;
    return from === 'beats' ? value * this.perBeat : value / this.perBeat;
  }

  /** How many details could not be read: by it a caller sees whether one of its own was among them. */
  private odd = 0;

  private note(where: string, detail: string): void {
    this.odd++;
    if (this.notes.length < MOST_NOTES) this.notes.push({ where, detail });
  }

  /** A number that cannot be read costs that detail, with a note where. */
  private number(element: Element, name: string, fallback: number): number {
    const text = element.attributes[name];
    if (text === undefined) return fallback;
    const value = Number(text);
    if (Number.isFinite(value) && Math.abs(value) <= 1e8) return value;
    const id = element.attributes.id ? ` "${element.attributes.id}"` : '';
    this.note(`${element.name}${id}, ${name}`, `"${text.slice(0, 40)}" is no number`);
    return fallback;
  }
}

interface Around {
  unit: Unit;
  track: string | null;
  enabled: boolean;
  /** What of the timeline that is walked is heard; null for all of it. */
  window: Window | null;
}

/** A file beside the session that a device keeps its settings in. */
const isFileOutside = ({ name, attributes }: Element) => name === 'State' && attributes.external === 'true';

const fileIn = (element: Element) => (element.name === 'State' ? element : child(element, 'File'));
const pathIn = (element: Element) => fileIn(element)?.attributes.path ?? '';

const wholeOf = ({ key, available }: MediaRef): Use => {
  const { range, rate } = available ?? { range: { start: 0, duration: 0 }, rate: { num: 48_000, den: 1 } };
  return { media: key, range, rate, enabled: true, sound: true };
};

const unitOf = (text: string | undefined): Unit | null => (text === 'beats' || text === 'seconds' ? text : null);
