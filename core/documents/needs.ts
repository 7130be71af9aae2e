// What a document names that no media file is: fonts of its titles, and plug-ins of its effects. Programs write them into metadata
// under names of their own; those that say what they are by their name are found. Called when a document is read, so that an
// archive can say what it will need to be opened.

export interface Needs {
  fonts: string[];
  plugins: string[];
}

const MOST = 100;
/** Objects that are looked through: a document of many gigabytes is not walked for its fonts. */
const MOST_OBJECTS = 5_000_000;
const LONGEST = 120;

const FONT = /^(font|typeface)([ _-]?(name|family|face))?$/i;
const PLUGIN = /^plug[ _-]?in([ _-]?(name|id|identifier))?$/i;
/** Quick to see in the text of a document that has neither. */
export const maySayNeeds = (text: string): boolean => /"[^"\n]{0,8}(font|typeface|plug)/i.test(text);

/** By their names, each once, in the order of the alphabet; at most a hundred of each. */
export function needsOf(root: unknown): Needs {
  const found = { fonts: new Set<string>(), plugins: new Set<string>() };
  const open: unknown[] = [root];
  for (let n = 0; open.length > 0 && n < MOST_OBJECTS; n++) {
    const value = open.pop();
    if (Array.isArray(value)) {
      for (const one of value) if (typeof one === 'object' && one !== null) open.push(one);
      continue;
    }
    if (typeof value !== 'object' || value === null) continue;
    for (const [key, own] of Object.entries(value)) {
      if (typeof own === 'object' && own !== null) open.push(own);
      else if (typeof own === 'string') note(found, key, own.trim());
    }
  }
  const sorted = (names: ReadonlySet<string>) => [...names].sort();
  return { fonts: sorted(found.fonts), plugins: sorted(found.plugins) };
}

function note(found: { fonts: Set<string>; plugins: Set<string> }, key: string, name: string): void {
  if (name === '' || name.length > LONGEST) return;
  const names = FONT.test(key) ? found.fonts : PLUGIN.test(key) ? found.plugins : null;
  if (names && names.size < MOST) names.add(name);
}

const FONT_FILE = /\.(otf|ttf|ttc|otc|woff2?)$/i;
const bare = (text: string) => text.toLowerCase().replace(/[^\p{L}\p{N}]/gu, '');

/** Fonts that none of these files is called after: "Inter Bold" is in Inter-Bold.otf, and in a family's Inter.ttc. */
export function fontsWithout(fonts: readonly string[], fileNames: Iterable<string>): string[] {
  const files = [...fileNames].filter((name) => FONT_FILE.test(name)).map((name) => bare(name.replace(FONT_FILE, '')));
  return fonts.filter((font) => {
    const wanted = bare(font);
    return !files.some((name) => name !== '' && (wanted.startsWith(name) || name.startsWith(wanted)));
  });
}
