// Run by disk/full-disk.test.ts where `full` is a small file system of its own: fills it, and tries to write all the same.
import { appendFileSync, mkdirSync, readdirSync, statSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { asidePlace, dropEmptyFolders, placeAside, takeBack } from '#disk/aside.ts';
import { contentPool } from '#disk/content/content.ts';
import { codeOf, type FileFacts, look } from '#disk/facts.ts';
import { copyOver } from '#disk/move.ts';
import { PRIVATE_FOLDER } from '#disk/identity.ts';
import { PrivateNames } from '#disk/private-names.ts';
import { take } from '#disk/remove.ts';
import { Root } from '#disk/root.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { replaceOwn, writeNew } from '#disk/write.ts';

const [folder] = process.argv.slice(2);
const full = path.join(folder!, 'full');
const names = new PrivateNames({ site: 'a'.repeat(32), job: 'b'.repeat(32), lease: 'c'.repeat(32) });
const nobody = () => ({ known: true, why: '', has: () => false });

writeFileSync(path.join(full, 'kept.mov'), Buffer.alloc(50_000, 3));
const [from, to] = [Root.open(folder!, null), Root.open(full, null)];
mkdirSync(path.join(full, PRIVATE_FOLDER));
try {
  for (;;) appendFileSync(path.join(full, 'filler'), Buffer.alloc(4096, 1));
} catch (error) {
  if (codeOf(error) !== 'ENOSPC') throw error;
}
const codeFrom = async (work: () => unknown): Promise<string> => {
  try {
    await work();
    return 'done';
  } catch (error) {
    return codeOf(error);
  }
};
const expected = look(path.join(folder!, 'original.mov')) as { is: 'file' } & FileFacts;
const pool = contentPool(1);
const move = { itemId: 1, path: 'original.mov', to: 'here/original.mov', expected };
const copy = await codeFrom(() =>
  copyOver(pool, { from, to, move, names, progress: () => undefined, stop: stopFlag() }),
);
const text = 'x'.repeat(100_000);
const document = await codeFrom(() => writeNew(path.join(full, 'fog v2.otio'), text, names.place(to, 'text', 2)));
const own = await codeFrom(() => replaceOwn(names.place(to, 'text', 3), text, names.place(to, 'text', 4)));
// Setting aside takes no room: it goes on where nothing else does.
const kept = look(path.join(full, 'kept.mov')) as { is: 'file' } & FileFacts;
const removal = { itemId: 5, path: 'kept.mov', expected: kept };
const lies = asidePlace({ site: 'a', job: 'b' }, removal);
take(to, names, removal, nobody);
const { done } = placeAside(to, names, { removal, aside: lies });
const back = takeBack(to, { aside: lies, home: removal, expected: kept });
dropEmptyFolders(to, lies);
await pool.end();
const left = readdirSync(full, { recursive: true, withFileTypes: true })
  .filter((entry) => entry.isFile() && entry.name !== 'identity.json')
  .map((entry) => path.relative(full, path.join(entry.parentPath, entry.name)))
  .sort();
console.log(
  JSON.stringify({
    copy,
    document,
    own,
    aside: { done },
    takenBack: back.done,
    original: statSync(path.join(folder!, 'original.mov')).size,
    left,
  }),
);
