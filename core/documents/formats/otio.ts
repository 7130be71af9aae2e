// Reads an OpenTimelineIO document (.otio, JSON) into the project model: collections become bins, timelines their uses.
// What is not understood is passed over with its time kept; a detail that is wrong costs that detail, and is noted with its
// place. An over-estimate is taken where a document leaves something open: what it names or may show is never left out.
// Called by the worker.
// Source: OpenTimelineIO file format specification and serialized schema list.
import {
  type ClipNode,
  durationOf,
  framesOf,
  type GroupNode,
  type Node,
  reachOf,
  type Span,
  WHOLE,
} from '../../reach/reach.ts';
import {
  ceil,
  compare,
  type Fraction,
  fraction,
  fractionOf,
  minus,
  ONE,
  over,
  plus,
  times,
  ZERO,
} from '../../time/fraction.ts';
import { coverInRate, type FrameRange, type Rate, rateFromNumber } from '../../time/rates.ts';
import {
  type Bin,
  type Clip,
  type DocumentModel,
  type DocumentNote,
  type DocumentReading,
  type DocumentTrouble,
  type MediaRef,
  type PictureSize,
  MOST_NOTES,
  type Timeline,
} from '../model.ts';
import { maySayNeeds, needsOf } from '../needs.ts';
import { type Stills, stillTarget } from '../stills.ts';
import { parseLoosely, placeOf } from './json.ts';

type Json = Record<string, unknown>;
interface TimeRange {
  span: Span;
  rate: Rate;
}
interface Time {
  value: number;
  rate: Rate;
}

/** The rate of the first clip of a group, by which its length is told where the timeline itself says none. */
function firstRate(group: GroupNode): Rate | null {
  for (const child of group.children) {
    if (child.is === 'clip' && (child.source ?? child.available)) return child.rate;
    const inside = child.is === 'track' || child.is === 'stack' ? firstRate(child) : null;
    if (inside) return inside;
  }
  return null;
}

const DEEPEST = 100;
/** Objects of one document that are looked at; references to the same object can make few bytes into very many. */
const MOST_OBJECTS = 20_000_000;
/** A week of stills at 120 a second. */
const MOST_STILLS = 100_000_000;
/** Nothing lasts or begins later than thirty years, in seconds. */
const LONGEST = 1e9;

/** Names that schemas had in older versions of the standard. */
const OLDER: Record<string, string> = {
  Sequence: 'Track',
  Filler: 'Gap',
  SerializeableCollection: 'SerializableCollection',
};

export class Trouble extends Error {
  constructor(readonly trouble: DocumentTrouble) {
    super(trouble.detail);
  }
}

/** A timeline that has no name is called this. */
export const UNTITLED = 'untitled timeline';

/** Reads the text of a document. Never throws for what the text says: bad text is a trouble with its place. */
export function readOtio(text: string): DocumentReading {
  const parsed = parseLoosely(text);
  if ('trouble' in parsed) return { ok: false, trouble: parsed.trouble };
  const { value: root, notes } = parsed;
  const named = timesNamed(text);
  const first = reading(root, { tracing: false, named });
  // Once more, for places: keeping the path to every place while all is well costs a large document half its time.
  const told = first.ok && first.document.notes.length === 0 ? first : reading(root, { tracing: true, named });
  if (!told.ok) return { ok: false, trouble: { ...told.trouble, where: withLine(text, told.trouble.where) } };
  const all = [...notes, ...told.document.notes.map((note) => ({ ...note, where: shorten(note.where) }))];
  const needs = maySayNeeds(text) ? needsOf(root) : { fonts: [], plugins: [] };
  return {
    ok: true,
    document: {
      ...told.document,
      notes: all.slice(0, MOST_NOTES),
      ...(needs.fonts.length + needs.plugins.length > 0 ? { needs } : {}),
    },
  };
}

/** How often a text names a place of media. */
function timesNamed(text: string): number {
  let found = 0;
  for (let at = text.indexOf('"target_url'); at >= 0; at = text.indexOf('"target_url', at + 1)) found++;
  return found;
}

interface How {
  /** Paths to places are kept, for the words of a trouble. */
  tracing: boolean;
  /** How often the text names a place: where clips name as many, nothing else is looked through. */
  named?: number;
}

function reading(root: unknown, how: How): DocumentReading {
  try {
    return { ok: true, document: new Reader(root, how).read() };
  } catch (error) {
    if (!(error instanceof Trouble)) throw error;
    return { ok: false, trouble: error.trouble };
  }
}

function withLine(text: string, where: string): string {
  const at = placeOf(text, where);
  return at === null ? shorten(where) : `${shorten(where)}, line ${at.line}, column ${at.column}`;
}

export const isObject = (value: unknown): value is Json =>
  typeof value === 'object' && value !== null && !Array.isArray(value);
/** The name of a schema without its version: later versions are read as far as they are understood. */
function schemaOf(value: Json): string {
  const schema = value.OTIO_SCHEMA;
  if (typeof schema !== 'string') return '';
  const dot = schema.indexOf('.');
  const name = dot < 0 ? schema : schema.slice(0, dot);
  return OLDER[name] ?? name;
}

/** A media reference as it stands: what it names, if anything, and what it says there is of it. */
interface Reference {
  media: MediaRef | null;
  available: TimeRange | null;
  /** Its number, by the object that says it: several clips can refer to one. */
  number?: number;
}

/** A timeline that is one clip alone is a stack of it. */
function groupOf(node: Node): GroupNode | null {
  if (node.is === 'stack' || node.is === 'track') return node;
  if (node.is !== 'clip') return null;
  return {
    is: 'stack',
    children: [node],
    source: null,
    sound: null,
    enabled: true,
    speed: ONE,
    hasUnknownTimeEffect: false,
  };
}

/** What is no Effect of the standard may be one of time, and one that is may be so by its name alone. */
const maySetTime = (schema: string, effect: Json): boolean =>
  schema !== 'Effect' ||
  'time_scalar' in effect ||
  /speed|retim|remap|time.?warp|freeze|ramp|revers/i.test(`${String(effect.effect_name)} ${String(effect.name)}`);

const namesPlace = (object: Json): boolean =>
  (typeof object.target_url === 'string' && object.target_url !== '') || typeof object.target_url_base === 'string';

const NO_REFERENCES: readonly Reference[] = [];

/** One reading: collects bins, media, clips and timelines while it walks the tree. */
export class Reader {
  private readonly bins: Bin[] = [];
  private readonly clips: Clip[] = [];
  private readonly media: MediaRef[] = [];
  private readonly byUrl = new Map<string, MediaRef>();
  private readonly byStills = new Map<string, MediaRef>();
  /** Missing media by name: of each what there is of it, as it was written. */
  private readonly byName = new Map<
    string,
    { found: TimeRange | null; media: MediaRef; more: Map<string, MediaRef> }
  >();
  /** What was last said to be there of each, which is nearly always the same. */
  private readonly lastFound = new Map<MediaRef, TimeRange>();
  private readonly timelines: Timeline[] = [];
  private readonly notes: DocumentNote[] = [];
  /** Media that a clip names first of all: it is shown as a clip, in a bin or not. */
  private readonly first = new Set<MediaRef>();
  private byId: Map<string, Json> | null = null;
  /** References to media by the objects that they are. */
  readonly numbers = new Map<Json, number>();
  /** Timelines by the objects that they are. */
  private readonly timelineOf = new Map<unknown, Timeline>();
  private objects = 0;
  private namedByClips = 0;
  private readonly tracing: boolean;
  private readonly named: number;

  constructor(
    private readonly root: unknown,
    { tracing, named = Infinity }: How = { tracing: false },
  ) {
    this.tracing = tracing;
    this.named = named;
  }

  /** The path of a place inside another, as JSON paths are written. */
  private at(where: string, step: string | number): string {
    if (!this.tracing) return '';
    return typeof step === 'number' ? `${where}[${step}]` : `${where}.${step}`;
  }

  private note(where: string, detail: string): void {
    if (this.notes.length < MOST_NOTES) this.notes.push({ where, detail });
  }

  read(): DocumentModel {
    const root = this.root;
    if (!isObject(root) || typeof root.OTIO_SCHEMA !== 'string')
      throw new Trouble({ code: 'not_otio', where: '$', detail: 'the document has no OTIO_SCHEMA at its top' });
    this.member(root, null, '$', 0);
    if (this.namedByClips !== this.named) this.nameRest();
    if (this.timelines.length === 0 && this.clips.length === 0)
      throw new Trouble({ code: 'not_otio', where: '$', detail: 'the document has no timeline and no clip' });
    this.showAll(root);
    // A collection is the document; a timeline or a clip is only what is in it.
    const name = schemaOf(root) === 'SerializableCollection' ? this.name(root) : '';
    const { bins, media, clips, timelines, notes } = this;
    return { name, bins, media, clips, timelines, notes };
  }

  /**
   * What is named where no clip names it: by parts of unknown schemas, by effects, by markers. What lies in a timeline is used by it,
   * whole, as nobody knows what of it is shown. What programs note for themselves names nothing.
   */
  private nameRest(): void {
    const open: { value: unknown; timeline: Timeline | null }[] = [{ value: this.root, timeline: null }];
    for (let one = open.pop(); one !== undefined; one = open.pop()) {
      const { value } = one;
      const timeline = this.timelineOf.get(value) ?? one.timeline;
      if (isObject(value) && namesPlace(value) && !this.numbers.has(value)) {
        const { media, available, number } = this.primary(this.reference(value, {}, ''));
        const rate = available?.rate ?? { num: 24, den: 1 };
        if (media && timeline)
          timeline.uses.push({ media: media.key, range: WHOLE, rate, enabled: true, sound: false, reference: number });
      }
      const inside = Object.entries(value as object).filter(([key]) => key !== 'metadata');
      for (const [, inner] of inside.reverse())
        if (typeof inner === 'object' && inner !== null) open.push({ value: inner, timeline });
    }
  }

  /** Media that timelines alone name is shown as well: in a bin called after the timeline where that is the document. */
  private showAll(root: Json): void {
    const shown = new Set(this.clips.map((clip) => clip.media));
    const rest = this.media.filter((item) => this.first.has(item) && !shown.has(item.key));
    if (rest.length === 0) return;
    const bin =
      this.bins.length === 0 && schemaOf(root) === 'Timeline'
        ? this.addBin(this.name(root) || 'untitled timeline', null)
        : null;
    for (const item of rest) this.clips.push({ bin, name: item.name, media: item.key });
  }

  /** A member of a collection: a bin, a timeline, a clip, or a composition without a timeline around it. */
  private member(value: unknown, bin: number | null, where: string, depth: number): void {
    const object = this.object(value, where, depth);
    if (!object) return;
    switch (schemaOf(object)) {
      case 'SerializableCollection': {
        // The outermost collection is the document itself, not a bin in it.
        const key = depth === 0 ? null : this.addBin(this.name(object) || 'untitled bin', bin);
        for (const [i, child] of this.list(object.children, this.at(where, 'children')).entries())
          this.member(child, key, this.at(this.at(where, 'children'), i), depth + 1);
        return;
      }
      case 'Timeline':
      case 'Stack':
      case 'Track': {
        const timeline = this.timeline(object, bin, where, depth);
        this.timelines.push(timeline);
        this.timelineOf.set(object, timeline);
        return;
      }
      case 'Clip': {
        const { active } = this.references(object, where);
        this.clips.push({ bin, name: this.name(object), media: active.media?.key ?? null });
        return;
      }
      case 'Gap':
      case 'Transition':
        return;
      default:
        // What it is nobody knows here; what lies in it is named all the same.
        for (const { inside, at } of this.inside(object, where)) this.member(inside, bin, at, depth + 1);
    }
  }

  /** Everything with a schema that an object of an unknown one holds, but for what is only noted in it. */
  private inside(object: Json, where: string): { inside: Json; at: string }[] {
    const found: { inside: Json; at: string }[] = [];
    const take = (value: unknown, at: string) => {
      const one = this.resolved(value);
      if (isObject(one) && typeof one.OTIO_SCHEMA === 'string') found.push({ inside: one, at });
    };
    for (const [key, value] of Object.entries(object)) {
      if (key === 'metadata' || key === 'effects' || key === 'markers') continue;
      const at = this.at(where, key);
      if (Array.isArray(value)) for (const [i, each] of value.entries()) take(each, this.at(at, i));
      else take(value, at);
    }
    return found;
  }

  private addBin(name: string, parent: number | null): number {
    const key = this.bins.length;
    this.bins.push({ key, parent, name });
    return key;
  }

  private timeline(object: Json, bin: number | null, where: string, depth: number): Timeline {
    const isTimeline = schemaOf(object) === 'Timeline';
    const inside = isTimeline ? this.object(object.tracks, this.at(where, 'tracks'), depth + 1) : object;
    const top = inside && this.node(inside, isTimeline ? this.at(where, 'tracks') : where, depth + 2);
    const stack = top && groupOf(top);
    const begins = isObject(object.global_start_time)
      ? this.rationalTime(object.global_start_time, this.at(where, 'global_start_time'))
      : null;
    const rate = begins?.rate ?? (stack && firstRate(stack)) ?? { num: 24, den: 1 };
    return {
      bin,
      name: this.name(object) || UNTITLED,
      durationFrames: stack ? ceil(times(durationOf(stack), fraction(rate.num, rate.den))) : 0,
      rate,
      uses: stack ? reachOf(stack) : [],
    };
  }

  /** One item of a timeline, with everything in it; null for what takes no time and names nothing. */
  private node(object: Json, where: string, depth: number): Node | null {
    switch (schemaOf(object)) {
      case 'Clip':
        return this.clipNode(object, where);
      case 'Stack':
      case 'Track':
        return this.group(object, where, depth);
      case 'Timeline': {
        const tracks = this.object(object.tracks, this.at(where, 'tracks'), depth);
        return tracks && this.node(tracks, this.at(where, 'tracks'), depth + 1);
      }
      case 'Gap': {
        const source = this.timeRange(object.source_range, this.at(where, 'source_range'));
        return { is: 'gap', duration: source ? minus(source.span.end, source.span.start) : ZERO };
      }
      case 'Transition': {
        const offset = (key: string) => {
          const time = isObject(object[key]) ? this.rationalTime(object[key], this.at(where, key)) : null;
          return time ? this.seconds(time) : ZERO;
        };
        return { is: 'transition', before: offset('in_offset'), after: offset('out_offset') };
      }
      default:
        return this.unknown(object, where, depth);
    }
  }

  /** An item of an unknown schema keeps its time, and what lies in it counts as used whole. */
  private unknown(object: Json, where: string, depth: number): Node | null {
    if (isObject(object.media_reference) || isObject(object.media_references))
      return { ...this.clipNode(object, where), hasUnknownTimeEffect: true };
    const source = this.timeRange(object.source_range, this.at(where, 'source_range'))?.span ?? null;
    const children: Node[] = [];
    for (const { inside, at } of this.inside(object, where)) {
      if (['TimeRange', 'RationalTime', 'TimeTransform', 'Box2d', 'V2d', 'Color'].includes(schemaOf(inside))) continue;
      const node = this.node(this.object(inside, at, depth + 1)!, at, depth + 1);
      if (node) children.push(node);
    }
    if (children.length === 0) return source ? { is: 'gap', duration: minus(source.end, source.start) } : null;
    return {
      is: 'stack',
      children,
      source,
      sound: null,
      enabled: object.enabled !== false,
      speed: ONE,
      hasUnknownTimeEffect: true,
    };
  }

  private group(object: Json, where: string, depth: number): GroupNode {
    const track = schemaOf(object) === 'Track';
    const inside = this.at(where, 'children');
    const children: Node[] = [];
    for (const [i, child] of this.list(object.children, inside).entries()) {
      const at = this.at(inside, i);
      const own = this.object(child, at, depth + 1);
      const node = own && this.node(own, at, depth + 1);
      if (node) children.push(node);
    }
    return {
      is: track ? 'track' : 'stack',
      children,
      source: this.timeRange(object.source_range, this.at(where, 'source_range'))?.span ?? null,
      sound: track && typeof object.kind === 'string' ? object.kind === 'Audio' : null,
      ...this.common(object, where),
    };
  }

  private clipNode(object: Json, where: string): ClipNode {
    const { active, others } = this.references(object, where);
    const source = this.timeRange(object.source_range, this.at(where, 'source_range'));
    const { media, available } = active;
    const node: ClipNode = {
      is: 'clip',
      media: media?.key ?? null,
      source: source?.span ?? null,
      available: available?.span ?? null,
      rate: available?.rate ?? media?.available?.rate ?? source?.rate ?? { num: 24, den: 1 },
      name: this.name(object) || media?.name || '',
      reference: active.number,
      ...this.common(object, where),
    };
    if (others.length > 0)
      node.others = others.map((other) => ({
        media: other.media!.key,
        available: other.available?.span ?? null,
        rate: other.available?.rate ?? node.rate,
        reference: other.number,
      }));
    return node;
  }

  /** Whether it is on, and how its time passes: several effects of time multiply. */
  private common(object: Json, where: string): { enabled: boolean; speed: Fraction; hasUnknownTimeEffect: boolean } {
    let speed = ONE;
    let hasUnknownTimeEffect = false;
    for (const [i, value] of (Array.isArray(object.effects) ? object.effects : []).entries()) {
      const effect = this.resolved(value);
      if (!isObject(effect) || effect.enabled === false) continue;
      const schema = schemaOf(effect);
      if (schema === 'FreezeFrame') speed = ZERO;
      else if (schema === 'LinearTimeWarp') {
        const scalar = effect.time_scalar ?? 1;
        if (typeof scalar === 'number' && Number.isFinite(scalar) && Math.abs(scalar) <= 1e6)
          speed = times(speed, fractionOf(scalar));
        else {
          this.note(
            this.at(this.at(this.at(where, 'effects'), i), 'time_scalar'),
            'no factor of speed: all of it counts as used',
          );
          hasUnknownTimeEffect = true;
        }
      } else if (maySetTime(schema, effect)) hasUnknownTimeEffect = true;
    }
    return { enabled: object.enabled !== false, speed, hasUnknownTimeEffect };
  }

  /** A clip's references: Clip.1 has one, Clip.2 several with a key for the active one. Others that name files count too. */
  private references(clip: Json, where: string): { active: Reference; others: readonly Reference[] } {
    const several = this.resolved(clip.media_references);
    if (!isObject(several)) {
      const active = this.primary(this.reference(clip.media_reference, clip, this.at(where, 'media_reference')));
      return { active, others: NO_REFERENCES };
    }
    const key = typeof clip.active_media_reference_key === 'string' ? clip.active_media_reference_key : 'DEFAULT_MEDIA';
    const inside = this.at(where, 'media_references');
    const active = this.primary(this.reference(several[key], clip, this.at(inside, key)));
    let others: Reference[] | null = null;
    for (const name in several) {
      if (name === key || name === 'OTIO_SCHEMA' || !this.namesFiles(several[name])) continue;
      const other = this.reference(several[name], clip, this.at(inside, name));
      if (other.media !== null && other.media !== active.media) (others ??= []).push(other);
    }
    return { active, others: others ?? NO_REFERENCES };
  }

  private primary(reference: Reference): Reference {
    if (reference.media) this.first.add(reference.media);
    return reference;
  }

  private namesFiles(value: unknown): boolean {
    const reference = this.resolved(value);
    return isObject(reference) && namesPlace(reference);
  }

  private reference(value: unknown, clip: Json, at: string): Reference {
    let reference = this.resolved(value);
    if (reference !== undefined && reference !== null && !isObject(reference)) {
      this.note(at, 'no reference to media; a text is taken for the place of a file');
      if (typeof reference === 'string')
        reference = { OTIO_SCHEMA: 'ExternalReference.1', name: '', target_url: reference };
    }
    if (!isObject(reference)) return { media: null, available: null };
    const available = this.timeRange(reference.available_range, this.at(at, 'available_range'));
    let number = this.numbers.get(reference);
    if (number === undefined) {
      this.numbers.set(reference, (number = this.numbers.size));
      this.namedByClips += ('target_url' in reference ? 1 : 0) + ('target_url_base' in reference ? 1 : 0);
    }
    return { media: this.mediaOf(reference, clip, { available, at }), available, number };
  }

  private mediaOf(
    reference: Json,
    clip: Json,
    { available, at }: { available: TimeRange | null; at: string },
  ): MediaRef | null {
    const { target_url: url } = reference;
    const schema = schemaOf(reference);
    // Whatever its schema is called: a place that it names is named.
    if (typeof url === 'string' && url !== '') {
      let media = this.byUrl.get(url);
      if (!media) this.byUrl.set(url, (media = this.newMedia(reference, clip, { target: url, stills: null })));
      return this.withRange(media, available);
    }
    if (schema === 'ImageSequenceReference' || typeof reference.target_url_base === 'string') {
      const stills = this.stills(reference, available, at);
      const key = JSON.stringify(stills);
      let media = this.byStills.get(key);
      if (!media)
        this.byStills.set(key, (media = this.newMedia(reference, clip, { target: stillTarget(stills, 0), stills })));
      return this.withRange(media, available);
    }
    if (schema === 'ExternalReference') this.note(this.at(at, 'target_url'), 'no place of media');
    else if (schema !== 'MissingReference') return null;
    return this.missing(reference, clip, available);
  }

  /** Two that share a name and differ in what there is of them are two. */
  private missing(reference: Json, clip: Json, found: TimeRange | null): MediaRef {
    const name = this.name(reference) || this.name(clip);
    const known = this.byName.get(name);
    if (known && isSameRange(known.found, found)) return known.media;
    const key = known ? rangeKey(found) : '';
    const other = known?.more.get(key);
    if (other) return other;
    const media = this.withRange(this.newMedia(reference, clip, { target: null, stills: null }), found);
    if (known) known.more.set(key, media);
    else this.byName.set(name, { found, media, more: new Map() });
    return media;
  }

  private newMedia(reference: Json, clip: Json, { target, stills }: Pick<MediaRef, 'target' | 'stills'>): MediaRef {
    const media: MediaRef = {
      key: this.media.length,
      name: this.name(reference) || this.name(clip) || (target ?? '').split('/').at(-1)!,
      target,
      stills,
      available: null,
      reel: reelOf(clip) ?? reelOf(reference),
    };
    const picture = pictureOf(reference.available_image_bounds);
    if (picture) media.picture = picture;
    this.media.push(media);
    return media;
  }

  /** One file under several ranges has all of them. */
  private withRange(media: MediaRef, found: TimeRange | null): MediaRef {
    if (!found || isSameRange(this.lastFound.get(media) ?? null, found)) return media;
    this.lastFound.set(media, found);
    const available = { range: framesIn(found), rate: found.rate };
    media.available = media.available ? joined(media.available, available) : available;
    return media;
  }

  private stills(reference: Json, available: TimeRange | null, where: string): Stills {
    const number = (key: string, fallback: number, least: number, most: number) => {
      const value = reference[key] ?? fallback;
      if (typeof value === 'number' && value >= least && value <= most) return value;
      this.note(this.at(where, key), `a number was expected; taken for ${fallback}`);
      return fallback;
    };
    const step = Math.max(1, Math.trunc(number('frame_step', 1, -1e9, 1e9)));
    const rate = rateFromNumber(number('rate', 24, 1e-3, 1e6)) ?? { num: 24, den: 1 };
    const frames = available
      ? times(minus(available.span.end, available.span.start), fraction(rate.num, rate.den))
      : null;
    const text = (key: string) => (typeof reference[key] === 'string' ? reference[key] : '');
    const base = text('target_url_base');
    return {
      folder: base === '' || base.endsWith('/') ? base : `${base}/`,
      prefix: text('name_prefix'),
      suffix: text('name_suffix'),
      first: Math.trunc(number('start_frame', 1, -1e9, 1e9)),
      step,
      padding: Math.min(20, Math.max(0, Math.trunc(number('frame_zero_padding', 0, -1e9, 1e9)))),
      count: frames === null ? null : this.countOf(ceil(over(frames, fraction(step))), where),
    };
  }

  /** More stills than any sequence has are no number: whatever is there is meant. */
  private countOf(stills: number, where: string): number | null {
    if (stills <= MOST_STILLS) return Math.max(1, stills);
    this.note(this.at(where, 'available_range'), `${stills} stills are more than any sequence has`);
    return null;
  }

  /** Null where there is none, and where it cannot be read: then all there is counts. */
  timeRange(value: unknown, where: string): TimeRange | null {
    if (value === null || value === undefined) return null;
    if (!isObject(value)) {
      this.note(where, 'no range of time');
      return null;
    }
    const start = this.rationalTime(value.start_time, this.at(where, 'start_time'));
    const duration = this.rationalTime(value.duration, this.at(where, 'duration'));
    if (!start || !duration) return null;
    if (duration.value < 0) {
      this.note(this.at(this.at(where, 'duration'), 'value'), 'a duration below zero');
      return null;
    }
    const begin = this.seconds(start);
    return { span: { start: begin, end: plus(begin, this.seconds(duration)) }, rate: duration.rate };
  }

  private rationalTime(value: unknown, where: string): Time | null {
    if (!isObject(value)) {
      this.note(where, 'no time');
      return null;
    }
    const rate = typeof value.rate === 'number' ? rateFromNumber(value.rate) : null;
    if (!rate) {
      this.note(this.at(where, 'rate'), 'no frame rate');
      return null;
    }
    const frames = value.value;
    if (typeof frames !== 'number' || !Number.isFinite(frames) || Math.abs(frames) * rate.den > LONGEST * rate.num) {
      this.note(this.at(where, 'value'), 'no frame number');
      return null;
    }
    return { value: frames, rate };
  }

  private seconds({ value, rate }: Time): Fraction {
    return times(fractionOf(value), fraction(rate.den, rate.num));
  }

  /** The object itself where a document refers to one that it has written already. */
  private resolved(value: unknown): unknown {
    if (
      !isObject(value) ||
      typeof value.OTIO_SCHEMA !== 'string' ||
      !value.OTIO_SCHEMA.startsWith('SerializableObjectRef')
    )
      return value;
    this.byId ??= identified(this.root);
    return this.byId.get(String(value.id)) ?? null;
  }

  private object(value: unknown, where: string, depth: number): Json | null {
    if (depth > DEEPEST) throw new Trouble({ code: 'too_deep', where, detail: `nested deeper than ${DEEPEST}` });
    if (++this.objects > MOST_OBJECTS)
      throw new Trouble({ code: 'too_large', where, detail: 'it refers to its own parts too often' });
    const object = this.resolved(value);
    if (isObject(object)) return object;
    this.note(where, 'an object was expected');
    return null;
  }

  private list(value: unknown, where: string): unknown[] {
    if (Array.isArray(value)) return value;
    if (value !== undefined && value !== null) this.note(where, 'a list was expected');
    return [];
  }

  private name(object: Json): string {
    return typeof object.name === 'string' ? object.name : '';
  }
}

/** Objects that others may refer to, by the name they have for that. */
function identified(root: unknown): Map<string, Json> {
  const found = new Map<string, Json>();
  const open = [root];
  for (let value = open.pop(); value !== undefined; value = open.pop()) {
    if (isObject(value) && typeof value.OTIO_REF_ID === 'string') found.set(value.OTIO_REF_ID, value);
    if (typeof value === 'object' && value !== null)
      for (const inner of Object.values(value)) if (typeof inner === 'object' && inner !== null) open.push(inner);
  }
  return found;
}

const isSameTime = (a: Fraction, b: Fraction): boolean => a.n === b.n && a.d === b.d;
const isSameRange = (a: TimeRange | null, b: TimeRange | null): boolean =>
  a === null || b === null
    ? a === b
    : isSameTime(a.span.start, b.span.start) &&
      isSameTime(a.span.end, b.span.end) &&
      a.rate.num === b.rate.num &&
      a.rate.den === b.rate.den;

const rangeKey = (range: TimeRange | null): string =>
  range
    ? [range.span.start, range.span.end].map(({ n, d }) => `${n}/${d}`).join(' ') +
      ` ${range.rate.num}/${range.rate.den}`
    : '';

type Available = NonNullable<MediaRef['available']>;
/** The range that holds both, in the rate of the first. */
function joined(a: Available, b: Available): Available {
  const other = coverInRate(b.range, b.rate, a.rate);
  const start = Math.min(a.range.start, other.start);
  const end = Math.max(a.range.start + a.range.duration, other.start + other.duration);
  return { range: { start, duration: end - start }, rate: a.rate };
}

/** The frames that a range of a document touches; none where it has no length. */
function framesIn({ span, rate }: TimeRange): FrameRange {
  const range = framesOf(span, rate);
  return compare(span.start, span.end) === 0 ? { ...range, duration: 0 } : range;
}

/** The reel as the open CMX 3600 adapter of OTIO keeps it in metadata. */
function reelOf(object: Json): string | null {
  const metadata = isObject(object.metadata) ? object.metadata.cmx_3600 : null;
  const reel = isObject(metadata) ? metadata.reel : null;
  return typeof reel === 'string' && reel !== '' ? reel.slice(0, 120) : null;
}

/**
 * The bounds of a reference (OpenTimelineIO, MediaReference.available_image_bounds) where they are pixels: they may be in
 * any unit, as of a picture 16 by 9.
 */
function pictureOf(bounds: unknown): PictureSize | null {
  if (!isObject(bounds) || !isObject(bounds.min) || !isObject(bounds.max)) return null;
  const [width, height] = [extent(bounds.min.x, bounds.max.x), extent(bounds.min.y, bounds.max.y)];
  return width !== null && height !== null ? { width, height } : null;
}

const FEWEST_PIXELS = 64;
const MOST_PIXELS = 100_000;
function extent(from: unknown, to: unknown): number | null {
  if (typeof from !== 'number' || typeof to !== 'number') return null;
  const pixels = Math.abs(to - from);
  return Number.isInteger(pixels) && pixels >= FEWEST_PIXELS && pixels <= MOST_PIXELS ? pixels : null;
}

const shorten = (where: string) => (where.length > 200 ? `${where.slice(0, 100)} … ${where.slice(-90)}` : where);

/** What a reference, as the text of its object, says there is of its media. */
export function availableIn(text: string): MediaRef['available'] {
  const parsed = parseLoosely(text);
  if ('trouble' in parsed || !isObject(parsed.value)) return null;
  const found = new Reader(null).timeRange(parsed.value.available_range, '');
  return found && { range: framesIn(found), rate: found.rate };
}
