// What programs save by themselves beside a project's documents: which document each is of, by its name alone.
import { foldPath } from '../homes/moves.ts';
import { seriesOf } from '../reclaim/thin.ts';

const stemOf = (name: string): string => foldPath(name.replace(/\.[^.]+$/, ''));

/**
 * The document that a program's own copy is of, by its place in `documents`: the one whose name its own begins with, the
 * longest where several fit; else the only one of the same name without numbers, dates and words that programs add; else
 * null.
 */
export function documentOfAutosave(name: string, documents: readonly string[]): number | null {
  const stem = stemOf(name);
  let best: number | null = null;
  for (const [i, document] of documents.entries())
    if (stem.startsWith(stemOf(document)) && (best === null || document.length > documents[best]!.length)) best = i;
  if (best !== null) return best;
  const series = seriesOf(name);
  const alike = documents.flatMap((document, i) => (seriesOf(document) === series ? [i] : []));
  return alike.length === 1 ? alike[0]! : null;
}
