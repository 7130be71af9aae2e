// What a person types into the search field: parts of names, and filters in words: "ferry kind:cache over 2 GB older
// than 3 months on:loft-1". Pure; the search service asks, the field shows what was understood.
import { KINDS, type Kind } from '../model.ts';

export interface Query {
  /** Parts of names, lower case; all must be in one name. */
  words: string[];
  kind?: Kind;
  /** Part of a project's name, of a volume's. */
  project?: string;
  volume?: string;
  minBytes?: number;
  maxBytes?: number;
  /** Last changed more, or less, than this many days ago. */
  olderDays?: number;
  newerDays?: number;
}

export interface Understood {
  query: Query;
  /** What was taken as a filter, in words: "larger than 2 GB". */
  filters: string[];
  /** What looks like a filter and is none: told, so that nothing is silently ignored. */
  trouble: string | null;
}

const UNITS: Record<string, number> = { b: 1, kb: 1e3, mb: 1e6, gb: 1e9, tb: 1e12, pb: 1e15 };
const SPANS: Record<string, number> = { day: 1, week: 7, month: 30.44, year: 365.25 };

/** Reads the field's text. Never fails: what it does not understand as a filter is part of a name. */
export function understand(text: string): Understood {
  const tokens = tokensOf(text.normalize('NFC').toLowerCase());
  const query: Query = { words: [] };
  const filters: string[] = [];
  let trouble: string | null = null;
  for (let i = 0; i < tokens.length;) {
    const token = tokens[i]!;
    const named = token.quoted ? null : /^(kind|project|on|volume):(.*)$/s.exec(token.text);
    if (named) {
      // kind:"…" comes as two tokens.
      const value = named[2] !== '' ? named[2]! : tokens[i + 1]?.joined ? tokens[i + 1]!.text : '';
      i += named[2] !== '' ? 1 : tokens[i + 1]?.joined ? 2 : 1;
      const told = takeNamed(query, named[1]!, value);
      if (told.ok) filters.push(told.words);
      else trouble ??= told.trouble;
      continue;
    }
    const measured = token.quoted ? null : (sizeAt(tokens, i) ?? ageAt(tokens, i));
    if (measured) {
      Object.assign(query, measured.part);
      filters.push(measured.words);
      i = measured.next;
      continue;
    }
    if (token.text !== '') query.words.push(token.text);
    i++;
  }
  return { query, filters, trouble };
}

interface Token {
  text: string;
  quoted: boolean;
  /** Follows the one before without a space. */
  joined: boolean;
}

function tokensOf(text: string): Token[] {
  const tokens: Token[] = [];
  for (const match of text.matchAll(/"([^"]*)"?|([^\s"]+)/g))
    tokens.push({
      text: match[1] ?? match[2] ?? '',
      quoted: match[1] !== undefined,
      joined: match.index > 0 && !/\s/.test(text[match.index - 1]!),
    });
  return tokens;
}

function takeNamed(
  query: Query,
  name: string,
  value: string,
): { ok: true; words: string } | { ok: false; trouble: string } {
  if (value === '') return { ok: false, trouble: `What comes after "${name}:" is missing.` };
  if (name === 'kind') {
    const kind = KINDS.find((one) => one === value || `${one}s` === value);
    if (!kind) return { ok: false, trouble: `There is no kind "${value}". Kinds are ${KINDS.join(', ')}.` };
    query.kind = kind;
    return { ok: true, words: `kind ${kind}` };
  }
  if (name === 'project') {
    query.project = value;
    return { ok: true, words: `of projects named like "${value}"` };
  }
  query.volume = value;
  return { ok: true, words: `on volumes named like "${value}"` };
}

interface Measured {
  part: Partial<Query>;
  words: string;
  next: number;
}

/** "over 2 GB", "larger than 2GB", "under 100 mb", "smaller than 5 GB" */
function sizeAt(tokens: readonly Token[], at: number): Measured | null {
  const word = tokens[at]!.text;
  const more = word === 'over' || word === 'larger' || word === 'bigger';
  if (!more && word !== 'under' && word !== 'smaller') return null;
  const measured = amountAt(tokens, tokens[at + 1]?.text === 'than' ? at + 2 : at + 1, UNITS);
  if (!measured) return null;
  const bytes = Math.round(measured.amount * measured.unit);
  const said = `${measured.amount} ${measured.name.toUpperCase()}`;
  return {
    part: more ? { minBytes: bytes } : { maxBytes: bytes },
    words: `${more ? 'larger' : 'smaller'} than ${said}`,
    next: measured.next,
  };
}

/** "older than 3 months", "newer than 2 weeks" */
function ageAt(tokens: readonly Token[], at: number): Measured | null {
  const word = tokens[at]!.text;
  if ((word !== 'older' && word !== 'newer') || tokens[at + 1]?.text !== 'than') return null;
  const first = tokens[at + 2]?.text;
  // "older than a year"
  const one = first === 'a' || first === 'an' || first === 'one';
  const measured = one ? unitAt(tokens, at + 3, SPANS, 1) : amountAt(tokens, at + 2, SPANS);
  if (!measured) return null;
  const days = measured.amount * measured.unit;
  return {
    part: word === 'older' ? { olderDays: days } : { newerDays: days },
    words: `${word} than ${measured.amount} ${measured.name}${measured.amount === 1 ? '' : 's'}`,
    next: measured.next,
  };
}

interface Amount {
  amount: number;
  unit: number;
  name: string;
  next: number;
}

function amountAt(tokens: readonly Token[], at: number, units: Record<string, number>): Amount | null {
  const match = /^(\d+(?:[.,]\d+)?)([a-z]*)$/.exec(tokens[at]?.text ?? '');
  if (!match) return null;
  const amount = Number(match[1]!.replace(',', '.'));
  if (match[2] === '') return unitAt(tokens, at + 1, units, amount);
  const name = match[2]!.replace(/s$/, '');
  const unit = units[name];
  return unit === undefined ? null : { amount, unit, name, next: at + 1 };
}

function unitAt(tokens: readonly Token[], at: number, units: Record<string, number>, amount: number): Amount | null {
  const name = (tokens[at]?.text ?? '').replace(/s$/, '');
  const unit = units[name];
  return unit === undefined ? null : { amount, unit, name, next: at + 1 };
}

/** True where a query asks for anything at all: two letters of a name, or a filter. */
export const asksForSomething = ({ words, ...filters }: Query): boolean =>
  words.join('').length >= 2 || Object.keys(filters).length > 0;
