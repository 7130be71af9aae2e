import { TakenFiles } from './taken-targets.ts';

const files = (...paths: string[]) => new TakenFiles(paths.map((path) => ({ path })));

test.each([
  ['media/a.mov', 'Project', 'Project/media/a.mov'],
  ['../Media/a.mov', 'Project', 'Media/a.mov'],
  ['file:///Volumes/RAID/Fog/Media/a.mov', 'Project', 'Media/a.mov'],
  ['D:\\Fog\\media\\A.MOV', 'elsewhere', 'Media/a.mov'],
  ['//server/share/other/b%20%C3%BC.mov', '', 'Media/b ü.mov'],
  ['file:///somewhere/else/b%20u%CC%88.mov', '', 'Media/b ü.mov'],
])('%s of a document in “%s” is %s', (target, folder, path) => {
  const known = files(
    ...new Set(['Project/fog.otio', 'Media/a.mov', 'Media/b ü.mov', ...(folder === 'Project' ? [path] : [])]),
  );
  expect(known.meant(target, folder)?.path).toBe(path);
});

test('where two fit alike nobody is meant; one more folder that agrees settles it', () => {
  const known = files('card 1/A001/clip.mov', 'card 2/A001/clip.mov');
  expect(known.meant('file:///x/A001/clip.mov', '')).toBeNull();
  expect(known.meant('file:///x/card 2/A001/clip.mov', '')?.path).toBe('card 2/A001/clip.mov');
  expect(known.meant('file:///x/A001/other.mov', '')).toBeNull();
});

test('a sequence is what differs in its last number alone', () => {
  const known = files(
    's/r2_0001.dpx',
    's/r2_0002.dpx',
    's/r3_0001.dpx',
    's/r2_0001.txt',
    't/r2_0003.dpx',
    's/r2_x.dpx',
  );
  const first = known.meant('/old/s/r2_0001.dpx', '')!;
  expect(known.sequence(first).map(({ path }) => path)).toEqual(['s/r2_0001.dpx', 's/r2_0002.dpx']);
});
