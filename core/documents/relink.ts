// Points the media of an OTIO document somewhere else by replacing only the texts that say where it is: every other
// byte of the document stays as it was, unknown parts included. Called when archiving and when restoring.
import { type Node, parseTree } from 'jsonc-parser';
import { folderOf, nameOf } from '../paths.ts';
import { pathOfUrl } from './targets.ts';

/** New places for references, by what is written now; null leaves a reference as it is. */
export interface Relinking {
  /** Of one file: `target_url` as written. */
  file(url: string): string | null;
  /** Of a sequence of stills: `target_url_base` and `name_prefix` as written; gives the new base. */
  sequence(base: string, prefix: string): string | null;
  /** Of a reference that the document itself says is missing: the name of reference or clip; gives its first place. */
  missing?(name: string): string | null;
}

/**
 * Stills move together: where every one of a sequence lies in one folder under its own name, that folder; else null.
 * @param byTarget where the file of each target lies now, by the target as written
 */
export function sequenceFolder(
  byTarget: ReadonlyMap<string, string | undefined>,
  base: string,
  prefix: string,
): string | null {
  const folder = base === '' || base.endsWith('/') ? base : `${base}/`;
  const stills = [...byTarget].filter(
    ([target]) => target.startsWith(folder + prefix) && !target.slice(folder.length).includes('/'),
  );
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

/** The document's text with its references replaced. The text must be JSON that was read before. */
export function relinkOtio(text: string, relinking: Relinking): { text: string; replaced: number } {
  const edits: Edit[] = [];
  const root = parseTree(text);
  if (root) collect(root, relinking, edits);
  edits.sort((a, b) => a.offset - b.offset);
  let out = '';
  let at = 0;
  for (const edit of edits) {
    out += text.slice(at, edit.offset) + edit.text;
    at = edit.offset + edit.length;
  }
  return { text: out + text.slice(at), replaced: edits.length };
}

function collect(root: Node, relinking: Relinking, edits: Edit[]): void {
  const open: Node[] = [root];
  for (let node = open.pop(); node; node = open.pop()) {
    if (node.type === 'object') {
      replace(texts(node, 'target_url'), (url) => relinking.file(url), edits);
      const prefix = texts(node, 'name_prefix')?.value ?? '';
      if (relinking.missing && /^Clip\./.test(String(texts(node, 'OTIO_SCHEMA')?.value)))
        for (const reference of referencesOf(node))
          fill(reference, String(texts(node, 'name')?.value ?? ''), relinking, edits);
      replace(texts(node, 'target_url_base'), (base) => relinking.sequence(base, String(prefix)), edits);
    }
    open.push(...(node.children ?? []));
  }
}

/** The reference of a clip, or all of them. */
function referencesOf(clip: Node): Node[] {
  const value = (object: Node, key: string) =>
    (object.children ?? []).find((property) => property.children?.[0]?.value === key)?.children?.[1];
  const one = value(clip, 'media_reference');
  const several = value(clip, 'media_references');
  return [one, ...(several?.children ?? []).map((property) => property.children?.[1])].filter(
    (node): node is Node => node?.type === 'object',
  );
}

/** A missing reference becomes one to a file; everything else in it stays. */
function fill(reference: Node, clipName: string, relinking: Relinking, edits: Edit[]): void {
  const schema = texts(reference, 'OTIO_SCHEMA');
  if (!schema || !/^MissingReference\./.test(String(schema.value))) return;
  const next = relinking.missing!(String(texts(reference, 'name')?.value ?? '') || clipName);
  if (next !== null)
    edits.push({
      offset: schema.offset,
      length: schema.length,
      text: `"ExternalReference.1", "target_url": ${JSON.stringify(next)}`,
    });
}

function replace(node: Node | null, to: (written: string) => string | null, edits: Edit[]): void {
  if (!node) return;
  const next = to(String(node.value));
  if (next !== null && next !== node.value)
    edits.push({ offset: node.offset, length: node.length, text: JSON.stringify(next) });
}

/** The text value of a property of an object node, if it has one. */
function texts(object: Node, key: string): Node | null {
  for (const property of object.children ?? []) {
    const [name, value] = property.children ?? [];
    if (name?.value === key && value?.type === 'string') return value;
  }
  return null;
}
