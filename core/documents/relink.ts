// Points the media of an OTIO document somewhere else by replacing only the texts that say where it is: every other
// byte of the document stays as it was, unknown parts included. Called when archiving and when restoring.
import { type Node, parseTree } from 'jsonc-parser';

/** New places for references, by what is written now; null leaves a reference as it is. */
export interface Relinking {
  /** Of one file: `target_url` as written. */
  file(url: string): string | null;
  /** Of a sequence of stills: `target_url_base` and `name_prefix` as written; gives the new base. */
  sequence(base: string, prefix: string): string | null;
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
      replace(texts(node, 'target_url_base'), (base) => relinking.sequence(base, String(prefix)), edits);
    }
    open.push(...(node.children ?? []));
  }
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
