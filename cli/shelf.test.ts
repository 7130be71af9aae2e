// The commands of the shelf on a small real site: what is there, where something lies, another copy, and what goes.
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { search } from '#server/search/search.ts';
import type { Worker } from '#server/worker.ts';
import { typed } from '#test/command.ts';
import { otio, TestSite } from '#test/site.ts';

let site: TestSite;
let worker: Worker;
beforeEach(async () => {
  site = await TestSite.open();
  const media = await site.volume('media');
  for (const clip of ['winch', 'quay']) site.put(`media/fog/rushes/${clip}.mov`, `${clip} `.repeat(1000));
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/winch.mov', 'rushes/quay.mov']));
  await site.read(media);
  for (const carrier of ['kd-1', 'kd-2']) await site.carrier(carrier);
  await site.look();
  worker = site.worker();
  expect(await run('shelf')).toBe('Nothing is archived yet.');
  await run('archive', 'Fog', '--to', 'kd-1', '--folder', 'fog_1');
  await run('plan', 'run');
});
afterEach(async () => {
  process.exitCode = 0;
  await worker.stop();
  await site.close();
});

const run = (...args: string[]) => typed(site, ...args);

test('what is on the shelf, where something lies, and another copy of it', async () => {
  expect(await run('shelf')).toMatch(/fog_1 +Fog +\S+ \S+ +3 +kd-1 +1 of 2 copies/);
  expect(await run('where', 'winch')).toMatch(/winch\.mov +fog_1 +kd-1 +cabinet +6\.00 kB +about/);
  expect(await run('where', 'nobody knows')).toBe('Nothing on the shelf has “nobody knows” in its name.');
  expect(await run('copy', 'fog_1', '--to', 'kd-2')).toContain('Added a copy of');
  await run('plan', 'run');
  expect(JSON.parse(await run('shelf', '--json'))).toMatchObject([{ folder: 'fog_1', short: null }]);
  const [found] = JSON.parse(await run('where', 'quay', '--json')) as { copies: object[] }[];
  expect(found!.copies).toMatchObject([{ carrier: 'kd-1' }, { carrier: 'kd-2', isThere: true }]);
});

test('what left its place long ago is found where it lies, by its name and from the search field', async () => {
  expect(await run('release', 'fog_1', '--dry-run')).toMatch(/3 files, verified copies exist\.\nNothing was added/);
  expect(await run('release', 'fog_1')).toContain('in 1 step to the plan');
  await run('plan', 'run');
  expect(existsSync(path.join(site.root, 'media/fog/rushes/winch.mov'))).toBe(false);
  expect(await run('where', 'winch.mov')).toMatch(/winch\.mov +fog_1 +kd-1/);
  const { hits } = await search(site.db, 'winch.mov');
  expect(hits.filter((hit) => hit.what !== 'clip')).toEqual([
    expect.objectContaining({ what: 'archived', name: 'winch.mov', where: 'Fog on kd-1, cabinet', parentId: 1 }),
  ]);
});

test('everything on a carrier is copied to another, and the carrier stays as it is', async () => {
  await run('archive', 'Fog', '--to', 'kd-1', '--folder', 'fog_2');
  await run('plan', 'run');
  expect(await run('migrate', 'kd-1', '--to', 'kd-2')).toMatch(
    /^Added 2 copies of .* to the plan\. Nothing is written/,
  );
  await run('plan', 'run');
  const told = JSON.parse(await run('shelf', '--json')) as { copies: { state: string; carriers: object[] }[] }[];
  for (const { copies } of told)
    expect(copies).toMatchObject([
      { state: 'good', carriers: [{ name: 'kd-1' }] },
      { state: 'good', carriers: [{ name: 'kd-2' }] },
    ]);
  await expect(run('migrate', 'kd-1', '--to', 'kd-2')).rejects.toThrow(/^Fog: kd-2 holds a copy of Fog already/);
  await expect(run('migrate', 'kd-1', '--to', 'kd-1')).rejects.toThrow(/Choose another carrier/);
  await expect(run('migrate', 'kd-9', '--to', 'kd-1')).rejects.toThrow(/no carrier named kd-9/);
});

test('the catalogue is taken out into a new folder, and nothing is written over', async () => {
  const at = path.join(site.root, 'shelf');
  expect(await run('export-catalogue', at)).toMatch(
    /^1 archive with 4 files on 2 carriers, in .*shelf\. Open index\.html/,
  );
  expect(readdirSync(at).sort()).toEqual(
    [
      'archives',
      'archives.csv',
      'carriers.csv',
      'catalogue.json',
      'files.csv',
      'index.html',
      'names.js',
      'tables',
    ].sort(),
  );
  const text = (name: string) => readFileSync(path.join(at, name), 'utf8');
  expect(text('files.csv').split('\r\n')).toHaveLength(1 + 4 + 1);
  expect(text('files.csv')).toMatch(
    /\r\nFog,fog_1,media\/Rushes\/quay\.mov,media,fog\/rushes\/quay\.mov,5000,[0-9a-f]{128}\r\n/,
  );
  expect(text('archives.csv')).toMatch(/Fog,fog_1,20\d\d-.*kd-1 \(good, read back 20/);
  expect(text('carriers.csv')).toContain('kd-2,disk,cabinet');
  expect(JSON.parse(text('catalogue.json'))).toMatchObject({
    archives: [{ name: 'Fog', timelines: [{ name: 'Cut' }] }],
  });
  expect(text('archives/1.html')).toContain('media/Rushes/winch.mov');
  await expect(run('export-catalogue', at)).rejects.toThrow(/is there already, and nothing is ever written over/);
  await expect(run('export-catalogue', path.join(at, 'no/where'))).rejects.toThrow(/cannot be made \(ENOENT\)/);
});

test('one timeline, a bin or a file of an archive is brought back', async () => {
  expect(await run('restore', 'fog_1', '--to', 'media', '--file', 'winch', '--dry-run')).toMatch(
    /^6\.00 kB in 1 file to media, fog_1; about .*\nNothing was added/,
  );
  const told = JSON.parse(
    await run('restore', 'fog_1', '--to', 'media', '--folder', 'back', '--timeline', 'Cut', '--json'),
  ) as object;
  expect(told).toMatchObject({ archive: 'fog_1', folder: 'back', only: { timelines: ['Cut'] }, added: { files: 4 } });
  await run('plan', 'run');
  expect(existsSync(path.join(site.root, 'media/back/media/Rushes/quay.mov'))).toBe(true);
  for (const [args, words] of [
    [['--timeline', 'Reel 9'], /no timeline named Reel 9\. Known are: Cut/],
    [['--bin', 'Day'], /no bin named Day\. Known are: Rushes/],
    [['--file', 'nobody'], /Nothing in fog_1 has “nobody”/],
    [['--timeline', 'Cut', '--handles', '9x'], /Handles are seconds or frames.*not "9x"/],
    [['--handles', '1s'], /Used ranges alone are those of timelines, and none is chosen/],
    [['--station', 'Suite 9'], /not known where Suite 9 has media/],
  ] as const)
    await expect(run('restore', 'fog_1', '--to', 'media', ...args)).rejects.toThrow(words);
  await expect(run('restore', 'fog_1', '--back', '--handles', '1s')).rejects.toThrow(/go with --to/);
  await expect(run('restore', 'fog_1', '--to', 'moon')).rejects.toThrow(/no volume named moon\. Known are: media/);
});

test('what is not known is refused with all there are, and nothing is added', async () => {
  for (const [args, words] of [
    [['copy', 'fog_9', '--to', 'kd-2'], /no sealed archive named fog_9\. Known are: fog_1/],
    [['copy', 'fog_1', '--to', 'kd-9'], /no carrier named kd-9/],
    [['copy', 'fog_1', '--to', 'kd-1'], /kd-1 holds a copy of Fog already/],
    [['release', 'fog_1', '--with', 'everything'], /no kind called everything/],
  ] as const)
    await expect(run(...args)).rejects.toThrow(words);
  expect(await run('plan', 'show')).toMatch(/nothing|empty/i);
});
