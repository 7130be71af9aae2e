// JSON as programs write it: with NaN and Infinity where a number was none, which the standard (RFC 8259) does not have,
// nested to any depth. Used for reading documents and for pointing their media elsewhere.
import { createScanner } from 'jsonc-parser';
import type { DocumentNote, DocumentTrouble } from '../model.ts';

/** Tokens by the scanner's numbers: its own names for them are gone once it is compiled. */
const Token = {
  OpenBrace: 1,
  CloseBrace: 2,
  OpenBracket: 3,
  CloseBracket: 4,
  Comma: 5,
  Colon: 6,
  Text: 10,
  LineBreak: 14,
  Blank: 15,
  Unknown: 16,
  End: 17,
};

type Awaits = 'value' | 'first value' | 'key' | 'first key' | 'colon' | 'comma' | 'nothing';

/** Texts, or numbers that are none. */
const TEXT_OR_NO_NUMBER = /"[^"\\]*(?:\\[^][^"\\]*)*"|-?\b(?:Infinity|NaN)\b/g;

/** Some programs begin with a mark of the byte order. */
const beginOf = (text: string): number => (text.charCodeAt(0) === 0xfeff ? 1 : 0);

/** The value of a text; numbers that are none become null, with a note. */
export function parseLoosely(text: string): { value: unknown; notes: DocumentNote[] } | { trouble: DocumentTrouble } {
  try {
    return { value: JSON.parse(text.slice(beginOf(text))) as unknown, notes: [] };
  } catch {
    const notes: DocumentNote[] = [];
    const plain = text.replace(TEXT_OR_NO_NUMBER, (word, at: number) => {
      if (word.startsWith('"')) return word;
      if (notes.length === 0) notes.push({ where: lineWords(text, at), detail: `${word} is no number` });
      return 'null';
    });
    if (notes.length > 0)
      try {
        return { value: JSON.parse(plain.slice(beginOf(plain))) as unknown, notes };
      } catch {
        // It is broken in other ways as well.
      }
    return { trouble: whereBroken(text) };
  }
}

export function lineOf(text: string, offset: number): { line: number; column: number } {
  let line = 1;
  let begin = 0;
  for (let at = text.indexOf('\n'); at >= 0 && at < offset; at = text.indexOf('\n', at + 1)) {
    line++;
    begin = at + 1;
  }
  return { line, column: offset - begin + 1 };
}
const lineWords = (text: string, offset: number): string => {
  const { line, column } = lineOf(text, offset);
  return `line ${line}, column ${column}`;
};

/** What a part of JSON is, for whoever walks through it without nesting calls. */
export interface JsonVisitor {
  /** `path`: keys and numbers from the top; valid during the call alone. */
  begin?(path: readonly (string | number)[], offset: number): void;
  end?(path: readonly (string | number)[], offset: number): void;
  value?(path: readonly (string | number)[], token: { offset: number; length: number; text: string | null }): void;
}

/** Walks through the text token by token; gives the offset at which it stops being JSON, or null. */
export function walkJson(text: string, visitor: JsonVisitor): { offset: number; detail: string } | null {
  const scanner = createScanner(text);
  scanner.setPosition(beginOf(text));
  const path: (string | number)[] = [];
  const open: ('{' | '[')[] = [];
  let awaits = 'value' as Awaits;
  const wrong = (detail: string) => ({ offset: scanner.getTokenOffset(), detail });
  const closed = () => {
    if (open.length === 0) awaits = 'nothing';
    else {
      awaits = 'comma';
      if (open.at(-1) === '{') path.pop();
    }
  };
  for (let kind: number = scanner.scan(); kind !== Token.End; kind = scanner.scan()) {
    if (kind === Token.Blank || kind === Token.LineBreak) continue;
    if (Number(scanner.getTokenError()) !== 0) return wrong('a text or number that is not whole');
    const offset = scanner.getTokenOffset();
    if (kind === Token.OpenBrace || kind === Token.OpenBracket) {
      if (awaits !== 'value' && awaits !== 'first value') return wrong('a value was not expected');
      visitor.begin?.(path, offset);
      const isObject = kind === Token.OpenBrace;
      open.push(isObject ? '{' : '[');
      if (!isObject) path.push(0);
      awaits = isObject ? 'first key' : 'first value';
    } else if (kind === Token.CloseBrace) {
      if (open.at(-1) !== '{' || (awaits !== 'comma' && awaits !== 'first key')) return wrong('value expected');
      open.pop();
      visitor.end?.(path, offset + 1);
      closed();
    } else if (kind === Token.CloseBracket) {
      if (open.at(-1) !== '[' || (awaits !== 'comma' && awaits !== 'first value')) return wrong('value expected');
      open.pop();
      path.pop();
      visitor.end?.(path, offset + 1);
      closed();
    } else if (kind === Token.Comma) {
      if (awaits !== 'comma') return wrong('value expected');
      if (open.at(-1) === '[') path.push((path.pop() as number) + 1);
      awaits = open.at(-1) === '{' ? 'key' : 'value';
    } else if (kind === Token.Colon) {
      if (awaits !== 'colon') return wrong('a colon was not expected');
      awaits = 'value';
    } else if (awaits === 'key' || awaits === 'first key') {
      if (kind !== Token.Text) return wrong('property name expected');
      path.push(scanner.getTokenValue());
      awaits = 'colon';
    } else if (awaits === 'value' || awaits === 'first value') {
      // The sign of an infinity is a token of its own.
      if (kind === Token.Unknown && scanner.getTokenValue() === '-') continue;
      if (kind === Token.Unknown && !/^-?(NaN|Infinity)$/.test(scanner.getTokenValue())) return wrong('value expected');
      visitor.value?.(path, {
        offset,
        length: scanner.getTokenLength(),
        text: kind === Token.Text ? scanner.getTokenValue() : null,
      });
      closed();
    } else return wrong(awaits === 'colon' ? 'colon expected' : 'comma expected');
  }
  return awaits === 'nothing' ? null : wrong('the text ends early');
}

/** Line and column of the first place where the text stops being JSON. */
function whereBroken(text: string): DocumentTrouble {
  const { offset, detail } = walkJson(text, {}) ?? { offset: 0, detail: 'the text is not JSON' };
  return { code: 'not_json', where: lineWords(text, offset), detail };
}

/** Where a JSON path as `$.tracks.children[0]` lies in the text; null where it is not there, or is the top. */
export function placeOf(text: string, wanted: string): { line: number; column: number } | null {
  let found: number | null = null;
  const wording = (path: readonly (string | number)[]) =>
    `$${path.map((step) => (typeof step === 'number' ? `[${step}]` : `.${step}`)).join('')}`;
  const depth = wanted.split(/[.[]/).length - 1;
  if (depth === 0) return null;
  const meet = (path: readonly (string | number)[], offset: number) => {
    if (found === null && path.length >= depth && wording(path) === wanted) found = offset;
  };
  walkJson(text, { begin: meet, value: (path, token) => meet(path, token.offset) });
  return found === null ? null : lineOf(text, found);
}
