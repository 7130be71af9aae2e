// Which file of a folder a document means, where the document names places of another house and another year. By the end of the path: the
// more folders agree, the better; where two fit alike nobody is meant, as a wrong file is worse than none.
import { pathOfUrl } from '../documents/targets.ts';
import { folderOf, nameOf, resolveInside } from '../paths.ts';

/** Letters as any system writes them: composed, and without their case. */
const plain = (text: string): string => text.normalize('NFC').toLowerCase();

export class TakenFiles<File extends { path: string }> {
  private readonly byName = new Map<string, File[]>();
  private readonly byPath = new Map<string, File>();
  private readonly byFolder = new Map<string, File[]>();

  constructor(files: Iterable<File>) {
    for (const file of files) {
      this.byPath.set(file.path, file);
      add(this.byName, plain(nameOf(file.path)), file);
      add(this.byFolder, folderOf(file.path), file);
    }
  }

  /**
   * @param target as the document writes it
   * @param folder that the document lies in
   */
  meant(target: string, folder: string): File | null {
    const path = pathOfUrl(target).replaceAll('\\', '/');
    const beside = /^(?:\/|[a-z]:)/i.test(path) ? null : resolveInside(folder, path);
    const exact = beside === null ? undefined : this.byPath.get(beside);
    if (exact) return exact;
    const segments = plain(path).split('/').reverse();
    let best: File[] = [];
    let length = 0;
    for (const file of this.byName.get(segments[0]!) ?? []) {
      const agreed = sameEnd(plain(file.path).split('/').reverse(), segments);
      if (agreed > length) [best, length] = [[file], agreed];
      else if (agreed === length) best.push(file);
    }
    return best.length === 1 ? best[0]! : null;
  }

  /** Files beside one that differ from it in their last number alone: the sequence of stills that it is of. */
  sequence(file: File): File[] {
    const pattern = /^(.*?)(\d+)(\D*)$/s.exec(nameOf(file.path));
    if (!pattern) return [file];
    const [, before, , after] = pattern;
    return this.byFolder.get(folderOf(file.path))!.filter((one) => {
      const name = nameOf(one.path);
      return (
        name.startsWith(before!) &&
        name.endsWith(after!) &&
        /^\d+$/.test(name.slice(before!.length, name.length - after!.length))
      );
    });
  }
}

function add<File>(map: Map<string, File[]>, key: string, file: File): void {
  const same = map.get(key);
  if (same) same.push(file);
  else map.set(key, [file]);
}

function sameEnd(one: readonly string[], other: readonly string[]): number {
  let n = 0;
  while (n < one.length && n < other.length && one[n] === other[n]) n++;
  return n;
}
