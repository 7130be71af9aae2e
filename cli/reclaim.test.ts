// The commands of what may go, on a small real site: a goal, the plan, and what is set aside.
import { existsSync, readdirSync, utimesSync } from 'node:fs';
import path from 'node:path';
import type { VolumeId } from '#core/model.ts';
import { typed } from '#test/command.ts';
import { otio, TestSite } from '#test/site.ts';
import { assess } from '#server/reclaim/assess.ts';
import type { Worker } from '#server/worker.ts';

let site: TestSite;
let worker: Worker;
beforeEach(async () => {
  site = await TestSite.open();
  const media = await site.volume('media');
  for (const clip of ['a', 'b', 'c']) site.put(`media/fog/rushes/${clip}.mov`, `${clip} `.repeat(1000));
  const frame = site.put('media/fog/cache/1.frm', 'k'.repeat(3000));
  utimesSync(frame, 1.6e9, 1.6e9);
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov', 'rushes/b.mov', 'rushes/c.mov'], ['rushes/a.mov']));
  await site.read(media);
  await assess(site.db);
  worker = site.worker();
});
afterEach(async () => {
  process.exitCode = 0;
  await worker.stop();
  await site.close();
});

const run = (...args: string[]) => typed(site, ...args);
const rushes = () => readdirSync(path.join(site.root, 'media/fog/rushes')).sort();
const MARKED = ['--in-work', '--on', 'media'];

test('a goal is told, added, run, and what was set aside comes back', async () => {
  expect(await run('reclaim', '--in-work')).toMatch(
    /Caches +1 +3\.00 kB[^]*Unused media +2 +4\.00 kB[^]*7\.00 kB can go: /,
  );
  expect(await run('reclaim', '--free', '2kB', ...MARKED, '--dry-run')).toMatch(
    /fog\/cache +Caches[^]*3\.00 kB on media can go; all of it rebuilds itself\.\nNothing was added to the plan\./,
  );
  expect(await run('plan', 'show')).toBe('The plan is empty.');
  const told = JSON.parse(await run('reclaim', '--free', '6.5 kB', '--level', '3', ...MARKED, '--json')) as object;
  expect(told).toMatchObject({ isReached: true, bytes: 7000, added: { bytes: 7000, files: 3, steps: 2 } });
  expect(await run('plan', 'show')).toContain('Set aside unused media of Fog');
  expect((await run('plan', 'export')).split(/\r?\n/)).toHaveLength(4);
  await expect(run('plan', 'run')).rejects.toThrow(/4\.00.kB of this plan has no other copy\. Type that size/);
  expect(rushes()).toEqual(['a.mov', 'b.mov', 'c.mov']);
  expect(await run('plan', 'run', '--only-copies', '4.00 kB')).toBe('Done: 2 pieces of work.');
  expect(rushes()).toEqual(['a.mov']);
  expect(existsSync(path.join(site.root, 'media/fog/cache/1.frm'))).toBe(false);

  const [step] = JSON.parse(await run('aside', 'list', '--json')) as { stepId: number }[];
  expect(await run('aside', 'list')).toContain('4.00 kB');
  expect(await run('aside', 'list', '--files')).toContain('fog/rushes/b.mov');
  await expect(run('aside', 'back', String(step!.stepId), '--path', 'nothing')).rejects.toThrow('Nothing was done.');
  expect(await run('aside', 'back', String(step!.stepId), '--path', 'b.mov')).toBe(
    '1 file taken back. 1 file still set aside.',
  );
  expect(rushes()).toEqual(['a.mov', 'b.mov']);
  expect(await run('aside', 'empty', String(step!.stepId))).toContain('Added the removal of 2.00 kB to the plan.');
  expect(await run('plan', 'run', '--only-copies', '2.00kB')).toBe('Done: 1 piece of work.');
  expect(await run('aside', 'list')).toBe('Nothing is set aside.');
});

test('the same file twice is compared and told', async () => {
  const carry = await site.volume('carry');
  site.put('carry/a.mov', 'a '.repeat(5000));
  site.put('media/fog/rushes/long.mov', 'a '.repeat(5000));
  await site.read(1 as VolumeId, carry);
  expect(await run('twins', '--known')).toBe('No file is known to be there twice.');
  await site.look();
  expect(await run('twins')).toMatch(/media\/fog\/rushes\/long\.mov|carry\/a\.mov[^]*10\.0 kB can be set aside\./);
  expect(JSON.parse(await run('twins', '--known', '--json'))).toMatchObject([{ bytes: 10_000 }]);
});

test('what is not understood is a sentence, and nothing is added', async () => {
  for (const [args, words] of [
    [['reclaim', '--free', 'lots', '--on', 'media'], /"lots" is no size/],
    [['reclaim', '--free', '1GB'], /Say on which volume with --on/],
    [['reclaim', '--free', '1GB', '--on', 'attic'], /no volume named attic. Known are: media/],
    [['reclaim', '--free', '1GB', '--on', 'media', '--level', '7'], /--level is 0, 1, 2 or 3/],
    [['reclaim', '--project', 'Mist'], /no project named Mist. Known are: Fog/],
    [['plan', 'run'], /The plan is empty/],
    [['plan', 'export'], /The plan is empty/],
    [['aside', 'back', '12'], /Nothing of step 12 is set aside/],
    [['aside', 'empty', 'x'], /Nothing of step x is set aside/],
  ] as const)
    await expect(run(...args)).rejects.toThrow(words);
  expect(await run('plan', 'show')).toBe('The plan is empty.');
});
