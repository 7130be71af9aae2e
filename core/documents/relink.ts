// Points the media of an OTIO document somewhere else by replacing only the texts that say where it is: every other
// byte of the document stays as it was, unknown parts included. Called when archiving and when restoring.
import { availableIn } from './formats/otio.ts';
import { placeKey } from './formats/otio-references.ts';
import type { Rate } from '../time/rates.ts';
import { walkJson } from './formats/json.ts';
import type { MediaRef } from './model.ts';
import { folderOf, nameOf } from '../paths.ts';
import { pathOfUrl } from './targets.ts';

/** New places for references, by what is written now; null leaves a reference as it is. */
export interface Relinking {
  /** Of one file: `target_url` as written. */
  file(url: string): string | null;
  /** Of a sequence of stills: `target_url_base`, `name_prefix` and `name_suffix` as written; gives the new base. */
  sequence(base: string, prefix: string, suffix: string): string | null;
  /**
   * Of a reference that the document itself says is missing: the name of reference or clip, and what there is of it;
   * gives its first place.
   */
  missing?(name: string, available: MediaRef['available']): string | null;
  /** Of a reference by its place (see placeKey), before the others are asked: a part of its media stands for it. */
  part?(place: string, named: Named): PartPlace | null;
}

/** What a reference names: one file, with what it says there is of it, or a sequence of stills by its parts and the number of its first. */
export type Named = { url: string; available(): MediaRef['available'] } | NamedStills;
export interface NamedStills {
  base: string;
  prefix: string;
  suffix: string;
  first: number;
  /** From one still's number to the next one's. */
  step: number;
  available(): MediaRef['available'];
}

/** A part of media, as a reference says it. */
export interface PartPlace {
  target: string;
  /** What there is of it, in the media's own time. */
  available: { start: number; duration: number; rate: Rate };
  /** Of a sequence, whose place is its base: the number of its first still. */
  firstStill?: number;
}

/**
 * Stills move together: where every one of a sequence lies in one folder under its own name, that folder; else null.
 * @param byTarget where the file of each target lies now, by the target as written
 */
export function sequenceFolder(
  byTarget: ReadonlyMap<string, string | undefined>,
  { base, prefix, suffix }: { base: string; prefix: string; suffix: string },
): string | null {
  const folder = base === '' || base.endsWith('/') ? base : `${base}/`;
  // Of this sequence alone: another may lie beside it under a longer name or another ending.
  const isOne = (target: string) =>
    target.startsWith(folder + prefix) &&
    target.endsWith(suffix) &&
    /^-?\d+$/.test(target.slice(folder.length + prefix.length, target.length - suffix.length));
  const stills = [...byTarget].filter(([target]) => isOne(target));
  const places = new Set(stills.map(([, place]) => (place === undefined ? null : folderOf(place))));
  const [only] = places;
  if (places.size !== 1 || only === null || only === undefined) return null;
  const same = (written: string, name: string) => written === name || pathOfUrl(written) === name;
  if (stills.some(([target, place]) => !same(nameOf(target), nameOf(place!)))) return null;
  return only;
}

interface Edit {
  offset: number;
  length: number;
  text: string;
}

/** A reference on its way: where its texts lie. */
interface OpenReference {
  depth: number;
  texts: Map<string, { offset: number; length: number; text: string }>;
  begin: number;
  /** Of values that are no texts. */
  others: Map<string, { offset: number; length: number }>;
}

/**
 * The document's text with its references replaced: those of clips alone, never the same text in what is noted beside
 * them. The text must be a document that was read before; whatever can be read can be written anew.
 */
export function relinkOtio(text: string, relinking: Relinking): { text: string; replaced: number } {
  const edits: Edit[] = [];
  const open: OpenReference[] = [];
  // Of each clip around: its name, and its missing references, which may bear that name.
  const clips: { depth: number; name: string; missing: Missing[] }[] = [];
  let noted = 0;
  walkJson(text, {
    begin(path, offset) {
      if (noted > 0 || isNoted(path)) return void noted++;
      if (isReference(path)) open.push({ depth: path.length, texts: new Map(), others: new Map(), begin: offset });
      else if (isOf(open.at(-1), path)) open.at(-1)!.others.set(String(path.at(-1)), { offset, length: 0 });
      else if (path.at(-1) !== 'media_references') clips.push({ depth: path.length, name: '', missing: [] });
    },
    value(path, { offset, length, text: value }) {
      if (noted > 0) return;
      if (value === null) {
        if (isOf(open.at(-1), path)) open.at(-1)!.others.set(String(path.at(-1)), { offset, length });
        return;
      }
      const [reference, clip] = [open.at(-1), clips.at(-1)];
      const key = String(path.at(-1));
      if (reference && path.length === reference.depth + 1) reference.texts.set(key, { offset, length, text: value });
      else if (clip && key === 'name' && path.length === clip.depth + 1) clip.name = value;
      // A place that something else names: an effect, a marker, a part of a schema that is not known.
      else if (key === 'target_url')
        replaceIn({ texts: new Map([[key, { offset, length, text: value }]]) }, relinking, edits);
    },
    end(path, offset) {
      if (noted > 0) return void noted--;
      const reference = open.at(-1);
      if (reference?.depth === path.length) {
        open.pop();
        const named = relinking.part ? namedBy(reference, text, offset) : null;
        const part = named && relinking.part!(placeKey(path), named);
        if (part) return void pointAt(reference, part, edits);
        replaceIn(reference, relinking, edits);
        const missing = missingIn(reference, text.slice(reference.begin, offset));
        if (missing) clips.at(-1)?.missing.push(missing);
        return;
      }
      const own = isOf(reference, path) ? reference!.others.get(String(path.at(-1))) : undefined;
      if (own) return void (own.length = offset - own.offset);
      if (clips.at(-1)?.depth !== path.length) return;
      const clip = clips.pop()!;
      for (const one of clip.missing) fill(one, clip.name, relinking, edits);
    },
  });
  edits.sort((a, b) => a.offset - b.offset);
  let out = '';
  let at = 0;
  for (const edit of edits) {
    out += text.slice(at, edit.offset) + edit.text;
    at = edit.offset + edit.length;
  }
  return { text: out + text.slice(at), replaced: edits.length };
}

/** What programs note for themselves is theirs. */
const isNoted = (path: Path): boolean => path.at(-1) === 'metadata';
const isReference = (path: Path): boolean => path.at(-1) === 'media_reference' || path.at(-2) === 'media_references';
type Path = readonly (string | number)[];
/** A value directly in a reference. */
const isOf = (reference: OpenReference | undefined, path: Path): boolean =>
  reference !== undefined && path.length === reference.depth + 1;

interface Missing {
  schema: { offset: number; length: number };
  name: string;
  range: MediaRef['available'];
}

/** The reference where its document says that its media is missing. */
function missingIn({ texts }: OpenReference, own: string): Missing | null {
  const schema = texts.get('OTIO_SCHEMA');
  if (!schema || !/^MissingReference\./.test(schema.text)) return null;
  return { schema, name: texts.get('name')?.text ?? '', range: availableIn(own) };
}

/** A missing reference becomes one to a file; everything else in it stays. */
function fill({ schema, name, range }: Missing, clipName: string, relinking: Relinking, edits: Edit[]): void {
  const next = relinking.missing?.(name || clipName, range) ?? null;
  if (next !== null) edits.push({ ...schema, text: `"ExternalReference.1", "target_url": ${JSON.stringify(next)}` });
}

function namedBy({ texts, others, begin }: OpenReference, text: string, end: number): Named | null {
  const url = texts.get('target_url')?.text;
  const available = () => availableIn(text.slice(begin, end));
  if (url !== undefined) return { url, available };
  const base = texts.get('target_url_base')?.text;
  if (base === undefined) return null;
  // What it does not say is 1.
  const number = (key: string): number => {
    const at = others.get(key);
    return at ? Math.trunc(Number(text.slice(at.offset, at.offset + at.length))) : 1;
  };
  return {
    base,
    prefix: texts.get('name_prefix')?.text ?? '',
    suffix: texts.get('name_suffix')?.text ?? '',
    first: number('start_frame'),
    step: Math.max(1, number('frame_step')),
    available,
  };
}

/** A reference says what there is of a part: what a clip takes of it stays as it was, counted in the media's own time. */
function pointAt({ texts, others }: OpenReference, part: PartPlace, edits: Edit[]): void {
  const { start, duration, rate } = part.available;
  const time = (value: number) => ({ OTIO_SCHEMA: 'RationalTime.1', rate: rate.num / rate.den, value });
  const range = JSON.stringify({ OTIO_SCHEMA: 'TimeRange.1', duration: time(duration), start_time: time(start) });
  const target = texts.get('target_url') ?? texts.get('target_url_base')!;
  const written = others.get('available_range');
  // What it does not say yet is written beside its place.
  const first = others.get('start_frame');
  const number = part.firstStill !== undefined && !first ? `, "start_frame": ${part.firstStill}` : '';
  edits.push({
    ...target,
    text: `${JSON.stringify(part.target)}${number}${written ? '' : `, "available_range": ${range}`}`,
  });
  if (part.firstStill !== undefined && first) edits.push({ ...first, text: String(part.firstStill) });
  if (written) edits.push({ ...written, text: range });
}

function replaceIn({ texts }: Pick<OpenReference, 'texts'>, relinking: Relinking, edits: Edit[]): void {
  const replace = (key: string, to: (written: string) => string | null) => {
    const written = texts.get(key);
    const next = written ? to(written.text) : null;
    if (written && next !== null && next !== written.text)
      edits.push({ offset: written.offset, length: written.length, text: JSON.stringify(next) });
  };
  replace('target_url', (url) => relinking.file(url));
  replace('target_url_base', (base) =>
    relinking.sequence(base, texts.get('name_prefix')?.text ?? '', texts.get('name_suffix')?.text ?? ''),
  );
}
