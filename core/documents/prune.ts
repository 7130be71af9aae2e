// Takes out of an OTIO document what is not handed on with it: timelines that were not chosen, and clips in bins whose media
// stays behind. Everything that is kept stays as it was written. Called when a document goes into a package.
import { walkJson } from './formats/json.ts';

export interface Pruning {
  /** By the name that is written; '' where there is none. */
  keepsTimeline(name: string): boolean;
  /** By where the clip's references lead, all of them; asked only where there are any. */
  keepsClip(targets: readonly string[]): boolean;
}

interface Node {
  depth: number;
  begin: number;
  end: number;
  schema: string;
  name: string;
  targets: string[];
  children: Node[];
  /** Elements of its children that are no objects: nobody knows what they are. */
  hasOthers: boolean;
}

/** Bins lie in bins; nobody's lie deeper, and what does stays as it is. */
const MAX_DEPTH = 200;

const isCollection = ({ schema }: Node) => /^Seriali[sz]e?able?Collection\.|^SerializeableCollection\./.test(schema);
const isTimeline = ({ schema }: Node) => /^(Timeline|Stack|Track|Sequence)\./.test(schema);
const isClip = ({ schema }: Node) => /^Clip\./.test(schema);

/** The document without what is not kept. The text must be a document that was read before. */
export function pruneOtio(text: string, pruning: Pruning): string {
  const root = nodesOf(text);
  if (!root || !isCollection(root)) return text;
  return text.slice(0, root.begin) + kept(root, { text, pruning, depth: 0 }) + text.slice(root.end);
}

interface Around {
  text: string;
  pruning: Pruning;
  depth: number;
}

function kept(node: Node, { text, pruning, depth }: Around): string {
  const { children, begin, end, hasOthers } = node;
  if (!isCollection(node) || children.length === 0 || hasOthers || depth > MAX_DEPTH) return text.slice(begin, end);
  const stays = children.filter((child) => {
    if (isTimeline(child)) return pruning.keepsTimeline(child.name);
    return !isClip(child) || child.targets.length === 0 || pruning.keepsClip(child.targets);
  });
  const [first, second] = children;
  const between = second ? text.slice(first!.end, second.begin) : '';
  return (
    text.slice(begin, first!.begin) +
    stays.map((child) => kept(child, { text, pruning, depth: depth + 1 })).join(between) +
    text.slice(children.at(-1)!.end, end)
  );
}

/** The document and what lies in its bins, with where each is written. */
function nodesOf(text: string): Node | null {
  const open: Node[] = [];
  let root: Node | null = null;
  let noted = 0;
  walkJson(text, {
    begin(path, offset) {
      if (noted > 0 || path.at(-1) === 'metadata') return void noted++;
      const isMember = path.length === 0 || (path.at(-2) === 'children' && typeof path.at(-1) === 'number');
      if (text[offset] !== '{' || !isMember) return;
      const begun = { depth: path.length, begin: offset, end: 0, schema: '', name: '' };
      open.push({ ...begun, targets: [], children: [], hasOthers: false });
    },
    value(path, { text: value }) {
      const node = open.at(-1);
      if (noted > 0 || !node) return;
      const key = path.at(-1);
      if (path.at(-2) === 'children' && path.length === node.depth + 2) node.hasOthers = true;
      if (value === null) return;
      if (path.length === node.depth + 1 && key === 'OTIO_SCHEMA') node.schema = value;
      if (path.length === node.depth + 1 && key === 'name') node.name = value;
      if (key === 'target_url' || key === 'target_url_base') node.targets.push(value);
    },
    end(path, offset) {
      if (noted > 0) return void noted--;
      const node = open.at(-1);
      // Arrays of arrays are nobody's children.
      if (node?.depth !== path.length || text[offset - 1] !== '}') return;
      open.pop();
      node.end = offset;
      const around = open.at(-1);
      if (!around) root = node;
      else if (path.length === around.depth + 2) around.children.push(node);
    },
  });
  return root;
}
