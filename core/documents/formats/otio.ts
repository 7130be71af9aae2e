// Reads an OpenTimelineIO document (.otio, JSON) into the project model: collections become bins, timelines their uses.
// What is not understood is passed over; what is wrong stops the reading and says where. Called by the worker.
// Source: OpenTimelineIO file format specification and serialized schema list.
import { type ParseError, parse as parseTolerant, printParseErrorCode } from 'jsonc-parser';
import {
  type ClipNode,
  durationOf,
  framesOf,
  type GroupNode,
  type Node,
  reachOf,
  type Span,
  spanOf,
} from '../../reach/reach.ts';
import {
  ceil,
  compare,
  type Fraction,
  fraction,
  fractionOf,
  minus,
  ONE,
  plus,
  times,
  ZERO,
} from '../../time/fraction.ts';
import { coverInRate, type FrameRange, type Rate, rateFromNumber } from '../../time/rates.ts';
import type { Bin, Clip, DocumentModel, DocumentReading, DocumentTrouble, MediaRef, Timeline } from '../model.ts';

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
const LONGEST_SEQUENCE = 1_000_000;

class Trouble extends Error {
  constructor(readonly trouble: DocumentTrouble) {
    super(trouble.detail);
  }
}

/** Reads the text of a document. Never throws for what the text says: bad text is a trouble with its place. */
export function readOtio(text: string): DocumentReading {
  let root: unknown;
  try {
    root = JSON.parse(text);
  } catch {
    return { ok: false, trouble: whereBroken(text) };
  }
  try {
    return { ok: true, document: new Reader(false).read(root) };
  } catch (error) {
    if (!(error instanceof Trouble)) throw error;
    // Once more, for its place: keeping the path to every place while all is well costs a large document half its time.
    return { ok: false, trouble: troubleIn(root) ?? error.trouble };
  }
}

function troubleIn(root: unknown): DocumentTrouble | null {
  try {
    new Reader(true).read(root);
    return null;
  } catch (error) {
    if (error instanceof Trouble) return error.trouble;
    throw error;
  }
}

/** Line and column of the first place where the text stops being JSON. */
function whereBroken(text: string): DocumentTrouble {
  const errors: ParseError[] = [];
  parseTolerant(text, errors, { disallowComments: true, allowTrailingComma: false });
  const first = errors[0];
  const offset = Math.min(first?.offset ?? 0, text.length);
  const line = text.slice(0, offset).split('\n');
  return {
    code: 'not_json',
    where: `line ${line.length}, column ${(line.at(-1) ?? '').length + 1}`,
    detail: first ? wordsOf(printParseErrorCode(first.error)) : 'the text is not JSON',
  };
}

const wordsOf = (code: string) => code.replace(/([a-z])([A-Z])/g, '$1 $2').toLowerCase();
const isObject = (value: unknown): value is Json =>
  typeof value === 'object' && value !== null && !Array.isArray(value);
/** The name of a schema without its version. */
function schemaOf(value: Json): string {
  const schema = value.OTIO_SCHEMA;
  if (typeof schema !== 'string') return '';
  const dot = schema.indexOf('.');
  return dot < 0 ? schema : schema.slice(0, dot);
}

/** One reading: collects bins, media, clips and timelines while it walks the tree. */
class Reader {
  private readonly bins: Bin[] = [];
  private readonly clips: Clip[] = [];
  private readonly media: MediaRef[] = [];
  private readonly mediaByTarget = new Map<string, MediaRef>();
  private readonly timelines: Timeline[] = [];

  /** `tracing`: paths to places are kept, for the words of a trouble. */
  constructor(private readonly tracing: boolean) {}

  /** The path of a place inside another, as JSON paths are written. */
  private at(where: string, step: string | number): string {
    if (!this.tracing) return '';
    return typeof step === 'number' ? `${where}[${step}]` : `${where}.${step}`;
  }

  read(root: unknown): DocumentModel {
    if (!isObject(root) || typeof root.OTIO_SCHEMA !== 'string')
      throw new Trouble({ code: 'not_otio', where: '$', detail: 'the document has no OTIO_SCHEMA at its top' });
    this.member(root, null, '$', 0);
    if (this.timelines.length === 0 && this.clips.length === 0)
      throw new Trouble({ code: 'not_otio', where: '$', detail: 'the document has no timeline and no clip' });
    const name = typeof root.name === 'string' ? root.name : '';
    return { name, bins: this.bins, media: this.media, clips: this.clips, timelines: this.timelines };
  }

  /** A member of a collection: a bin, a timeline or a clip. */
  private member(value: unknown, bin: number | null, where: string, depth: number): void {
    const object = this.object(value, where, depth);
    switch (schemaOf(object)) {
      case 'SerializableCollection': {
        // The outermost collection is the document itself, not a bin in it.
        const key = depth === 0 ? null : this.addBin(object, bin);
        for (const [i, child] of this.list(object.children, this.at(where, 'children')).entries())
          this.member(child, key, this.at(this.at(where, 'children'), i), depth + 1);
        return;
      }
      case 'Timeline':
        this.timelines.push(this.timeline(object, bin, where));
        return;
      case 'Clip': {
        const reference = this.activeReference(object, where);
        this.clips.push({ bin, name: this.name(object), media: reference?.key ?? null });
        return;
      }
      default:
        return;
    }
  }

  private addBin(object: Json, parent: number | null): number {
    const key = this.bins.length;
    this.bins.push({ key, parent, name: this.name(object) || 'untitled bin' });
    return key;
  }

  private timeline(object: Json, bin: number | null, where: string): Timeline {
    const top = this.node(this.object(object.tracks, this.at(where, 'tracks'), 1), this.at(where, 'tracks'), 2);
    const stack = top?.is === 'stack' || top?.is === 'track' ? top : null;
    const begins = isObject(object.global_start_time) ? this.rationalTime(object.global_start_time, where) : null;
    const rate = begins?.rate ?? (stack && firstRate(stack)) ?? { num: 24, den: 1 };
    return {
      bin,
      name: this.name(object) || 'untitled timeline',
      durationFrames: stack ? ceil(times(durationOf(stack), fraction(rate.num, rate.den))) : 0,
      rate,
      uses: stack ? reachOf(stack) : [],
    };
  }

  /** One item of a timeline, with everything in it; null for what is not understood, which takes no time. */
  private node(object: Json, where: string, depth: number): Node | null {
    switch (schemaOf(object)) {
      case 'Clip':
        return this.clipNode(object, where);
      case 'Stack':
      case 'Track':
        return this.group(object, where, depth);
      case 'Timeline':
        return this.node(
          this.object(object.tracks, this.at(where, 'tracks'), depth),
          this.at(where, 'tracks'),
          depth + 1,
        );
      case 'Gap': {
        const source = this.timeRange(object.source_range, this.at(where, 'source_range'));
        return { is: 'gap', duration: source ? minus(source.span.end, source.span.start) : ZERO };
      }
      case 'Transition': {
        const offset = (key: string) =>
          isObject(object[key]) ? this.seconds(this.rationalTime(object[key], this.at(where, key))) : ZERO;
        return { is: 'transition', before: offset('in_offset'), after: offset('out_offset') };
      }
      default:
        return null;
    }
  }

  private group(object: Json, where: string, depth: number): GroupNode {
    const track = schemaOf(object) === 'Track';
    const inside = this.at(where, 'children');
    const children: Node[] = [];
    for (const [i, child] of this.list(object.children, inside).entries()) {
      const at = this.at(inside, i);
      const node = this.node(this.object(child, at, depth + 1), at, depth + 1);
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
    const media = this.activeReference(object, where);
    const source = this.timeRange(object.source_range, this.at(where, 'source_range'));
    const rate = media?.available?.rate ?? source?.rate ?? { num: 24, den: 1 };
    return {
      is: 'clip',
      media: media?.key ?? null,
      source: source?.span ?? null,
      available: media?.available ? spanOf(media.available.range, media.available.rate) : null,
      rate,
      name: this.name(object) || media?.name || '',
      ...this.common(object, where),
    };
  }

  /** Whether it is on, and how its time passes: several effects of time multiply. */
  private common(object: Json, where: string): { enabled: boolean; speed: Fraction; hasUnknownTimeEffect: boolean } {
    let speed = ONE;
    let hasUnknownTimeEffect = false;
    for (const [i, effect] of (Array.isArray(object.effects) ? object.effects : []).entries()) {
      if (!isObject(effect)) continue;
      const schema = schemaOf(effect);
      if (schema === 'FreezeFrame') speed = ZERO;
      else if (schema === 'LinearTimeWarp') {
        const scalar = effect.time_scalar ?? 1;
        if (typeof scalar !== 'number' || !Number.isFinite(scalar) || Math.abs(scalar) > 1e6)
          throw new Trouble({
            code: 'bad_value',
            where: this.at(this.at(this.at(where, 'effects'), i), 'time_scalar'),
            detail: 'no factor of speed',
          });
        speed = times(speed, fractionOf(scalar));
      } else if (schema === 'TimeEffect') hasUnknownTimeEffect = true;
    }
    return { enabled: object.enabled !== false, speed, hasUnknownTimeEffect };
  }

  /** The media reference that counts: Clip.1 has one, Clip.2 several with a key for the active one. */
  private activeReference(clip: Json, where: string): MediaRef | null {
    let reference: unknown = clip.media_reference;
    let at = this.at(where, 'media_reference');
    if (isObject(clip.media_references)) {
      const key =
        typeof clip.active_media_reference_key === 'string' ? clip.active_media_reference_key : 'DEFAULT_MEDIA';
      reference = clip.media_references[key];
      at = this.at(this.at(where, 'media_references'), key);
    }
    if (!isObject(reference)) return null;
    const available = this.timeRange(reference.available_range, this.at(at, 'available_range'));
    const named = { name: this.name(reference) || this.name(clip), reel: reelOf(clip) ?? reelOf(reference) };
    switch (schemaOf(reference)) {
      case 'ExternalReference': {
        if (typeof reference.target_url !== 'string')
          throw new Trouble({
            code: 'bad_value',
            where: this.at(at, 'target_url'),
            detail: 'the place of the media is not a text',
          });
        return this.addMedia(named, [reference.target_url], available);
      }
      case 'ImageSequenceReference':
        return this.addMedia(named, this.sequenceTargets(reference, available, at), available);
      case 'MissingReference':
        return this.addMedia(named, [], available);
      default:
        return null;
    }
  }

  private sequenceTargets(reference: Json, available: TimeRange | null, where: string): string[] {
    const number = (key: string, fallback: number) => {
      const value = reference[key] ?? fallback;
      if (typeof value !== 'number' || !Number.isFinite(value))
        throw new Trouble({ code: 'bad_value', where: this.at(where, key), detail: 'a number was expected' });
      return Math.trunc(value);
    };
    const step = Math.max(1, number('frame_step', 1));
    const start = number('start_frame', 1);
    const rate = rateFromNumber(number('rate', 24)) ?? { num: 24, den: 1 };
    const frames = available ? coverInRate(framesIn(available), available.rate, rate).duration : 0;
    const count = Math.floor((frames + step - 1) / step);
    if (count > LONGEST_SEQUENCE)
      throw new Trouble({
        code: 'too_large',
        where,
        detail: `a sequence of ${count} stills is longer than ${LONGEST_SEQUENCE}`,
      });
    const text = (key: string) => (typeof reference[key] === 'string' ? (reference[key] as string) : '');
    const padding = Math.min(20, Math.max(0, number('frame_zero_padding', 0)));
    const base = text('target_url_base');
    const folder = base === '' || base.endsWith('/') ? base : `${base}/`;
    return Array.from({ length: count }, (_, i) => {
      const frame = String(start + i * step).padStart(padding, '0');
      return `${folder}${text('name_prefix')}${frame}${text('name_suffix')}`;
    });
  }

  private addMedia(
    { name, reel }: { name: string; reel: string | null },
    targets: string[],
    found: TimeRange | null,
  ): MediaRef {
    const identity =
      targets.length === 0
        ? `missing ${name}`
        : targets.length === 1
          ? targets[0]!
          : `${targets[0]} +${targets.length}`;
    let media = this.mediaByTarget.get(identity);
    if (!media) {
      media = { key: this.media.length, name: name || identity.split('/').at(-1)!, targets, available: null, reel };
      this.media.push(media);
      this.mediaByTarget.set(identity, media);
    }
    media.available ??= found && { range: framesIn(found), rate: found.rate };
    return media;
  }

  private timeRange(value: unknown, where: string): TimeRange | null {
    if (value === null || value === undefined) return null;
    const object = this.object(value, where, 0);
    const start = this.rationalTime(object.start_time, this.at(where, 'start_time'));
    const duration = this.rationalTime(object.duration, this.at(where, 'duration'));
    if (duration.value < 0)
      throw new Trouble({
        code: 'bad_value',
        where: this.at(this.at(where, 'duration'), 'value'),
        detail: 'a duration below zero',
      });
    const begin = this.seconds(start);
    return { span: { start: begin, end: plus(begin, this.seconds(duration)) }, rate: duration.rate };
  }

  private rationalTime(value: unknown, where: string): Time {
    const object = this.object(value, where, 0);
    const rate = typeof object.rate === 'number' ? rateFromNumber(object.rate) : null;
    if (!rate) throw new Trouble({ code: 'bad_value', where: this.at(where, 'rate'), detail: 'no frame rate' });
    if (typeof object.value !== 'number' || !Number.isFinite(object.value) || Math.abs(object.value) > 1e15)
      throw new Trouble({ code: 'bad_value', where: this.at(where, 'value'), detail: 'no frame number' });
    return { value: object.value, rate };
  }

  private seconds({ value, rate }: Time): Fraction {
    return times(fractionOf(value), fraction(rate.den, rate.num));
  }

  private object(value: unknown, where: string, depth: number): Json {
    if (depth > DEEPEST)
      throw new Trouble({ code: 'too_deep', where: shorten(where), detail: `nested deeper than ${DEEPEST}` });
    if (!isObject(value))
      throw new Trouble({ code: 'bad_value', where: shorten(where), detail: 'an object was expected' });
    return value;
  }

  private list(value: unknown, where: string): unknown[] {
    if (value === undefined || value === null) return [];
    if (!Array.isArray(value))
      throw new Trouble({ code: 'bad_value', where: shorten(where), detail: 'a list was expected' });
    return value;
  }

  private name(object: Json): string {
    return typeof object.name === 'string' ? object.name : '';
  }
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

const shorten = (where: string) => (where.length > 200 ? `${where.slice(0, 100)} … ${where.slice(-90)}` : where);
