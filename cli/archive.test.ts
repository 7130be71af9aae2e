// The commands of archives, on a small real site: what one would hold, written to two carriers, checked by plain tools, and
// released.
import { execFileSync } from 'node:child_process';
import { existsSync, readFileSync, rmSync } from 'node:fs';
import path from 'node:path';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import { keepShape } from '#server/archives/shapes.ts';
import { typed } from '#test/command.ts';
import { otio, TestSite, until } from '#test/site.ts';
import type { Worker } from '#server/worker.ts';

let site: TestSite;
let worker: Worker;
beforeEach(async () => {
  site = await TestSite.open();
  const media = await site.volume('media');
  for (const clip of ['a', 'b']) site.put(`media/fog/rushes/${clip}.mov`, `${clip} `.repeat(1000));
  site.put('media/fog/deliveries/reel 1/fog_master.mov', 'm'.repeat(5000));
  site.put('media/fog/renders/cut.mov', 'r'.repeat(700));
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov', 'rushes/b.mov'], ['rushes/a.mov']));
  await site.read(media);
  await site.carrier('kd-1');
  await site.carrier('kd-2');
  await site.look();
  worker = site.worker();
});
afterEach(async () => {
  process.exitCode = 0;
  await worker.stop();
  await site.close();
});

const run = (...args: string[]) => typed(site, ...args);
const told = async (...args: string[]) => JSON.parse(await run('archive', 'fog', '--json', ...args)) as object;

test('what goes in is said before, deliveries among it; what is asked for goes in as well', async () => {
  // What is known of them is no film: they go in as they are, and that is said.
  expect(await run('archive', 'fog', '--dry-run', '--to', 'kd-1', '--encode', 'used=viewing')).toMatch(
    /files? encoded anew, .* as about |files? whole: it is no film/,
  );
  expect(await run('archive', 'fog', '--dry-run', '--to', 'kd-1')).toMatch(
    /^Fog: [^]*STAYS OUT[^]*Unused media +1 +2\.00 kB[^]*Renders +1 +700 B[^]*Nothing was added to the plan\.$/,
  );
  const usual = (await told()) as { bytes: number; files: number };
  const only = (await told('--with', 'none')) as { bytes: number };
  expect(usual.bytes - only.bytes).toBe(5000);
  expect(await told('--with', 'delivery,render,unused')).toMatchObject({
    bytes: usual.bytes + 700 + 2000,
    files: usual.files + 2,
    leftOut: [],
    added: null,
  });
  expect(await run('plan', 'show')).toBe('The plan is empty.');
});

test('written to two carriers, checked by plain tools, and released', async () => {
  const args = ['archive', 'Fog', '--with', 'delivery,unused', '--to', 'kd-1', '--to', 'KD-2', '--folder', 'fog_1'];
  expect(await run(...args)).toContain('Added to the plan as fog_1 on kd-1 and kd-2.');
  await run('plan', 'run');
  for (const carrier of ['kd-1', 'kd-2']) {
    const bag = path.join(site.root, carrier, 'fog_1');
    for (const list of ['manifest-sha512.txt', 'tagmanifest-sha512.txt'])
      expect(execFileSync('sha512sum', ['-c', list], { cwd: bag }).toString()).not.toContain('FAILED');
    expect(readFileSync(path.join(bag, 'data/deliveries/fog_master.mov'), 'utf8')).toBe('m'.repeat(5000));
    expect(existsSync(path.join(bag, 'data/media/not used/b.mov'))).toBe(true);
    expect(existsSync(path.join(bag, 'data/renders'))).toBe(false);
    expect(readFileSync(path.join(bag, 'README.txt'), 'utf8')).toContain('Archive of Fog');
    expect(readFileSync(path.join(bag, 'index.html'), 'utf8')).toContain('data/deliveries/fog_master.mov');
    // No reference leads out of it, also not of what a bin alone names.
    const document = readFileSync(path.join(bag, 'data/documents/fog.otio'), 'utf8');
    for (const [, url] of document.matchAll(/"target_url": "([^"]*)"/g))
      expect(existsSync(path.join(bag, 'data/documents', decodeURIComponent(url!)))).toBe(true);
  }
  expect(await run('readback', 'fog_1', '--on', 'kd-2')).toContain('Reading back fog_1 on kd-2 begins');
  expect(await run('release', 'fog_1')).toContain('4 files');
  await run('plan', 'run');
  expect(existsSync(path.join(site.root, 'media/fog/deliveries/reel 1/fog_master.mov'))).toBe(false);
  expect(existsSync(path.join(site.root, 'media/fog/renders/cut.mov'))).toBe(true);
});

test('what is not known is refused with all there are, and nothing is added', async () => {
  for (const [args, words] of [
    [['archive', 'Haze'], /no project named Haze\. Known are: Fog/],
    [['archive', 'Fog', '--to', 'kd-9'], /no carrier named kd-9\. Known are: kd-1, kd-2/],
    [['archive', 'Fog', '--with', 'everything'], /no part called everything/],
    [['archive', 'Fog', '--versions', 'some'], /all or newest/],
    [['release', 'fog_9'], /no sealed archive named fog_9/],
    [['readback', 'fog_9'], /no sealed archive named fog_9/],
    [['archive', 'Fog', '--handles', 'much'], /seconds or frames, for example 1s or 24f, not "much"/],
    [['archive', 'Fog', '--encode', 'used=loud'], /as lossless or viewing, not "used=loud"/],
    [['archive', 'Fog', '--encode', 'cache=viewing'], /as lossless or viewing, not "cache=viewing"/],
    [['archive', 'Fog', '--keep', 'a.mov=1s'], /--handles, which is missing/],
    [['archive', 'Fog', '--handles', '1s', '--keep', 'z.mov=1s'], /No file of it is called "z\.mov"/],
    [['archive', 'Fog', '--handles', '1s', '--keep', 'a.mov=much'], /for example 2s, not "much"/],
    [['archive', 'Fog', '--timeline', 'Reel 9'], /no timeline named Reel 9\. Known are: Cut\. Nothing was added/],
    [['archive', 'Fog', '--layout', 'colour'], /not "colour"/],
    [['archive', 'Fog', '--pack', 'rar'], /written as folder or tar or zip, not "rar"/],
    [['archive', 'Fog', '--names', '{colour}'], /knows \{file\}, \{clip\} and \{bin\}, not \{colour\}/],
    [['archive', 'Fog', '--bin', 'No'], /There is no bin named No/],
    [['archive', 'Fog', '--shape', 'Small'], /no shape named Small\. Known are: none/],
  ] as const)
    await expect(run(...args)).rejects.toThrow(words);
  expect(await run('plan', 'show')).toBe('The plan is empty.');
});

test('a project is archived every night, or not any more; what makes no sense is refused', async () => {
  expect(await run('nightly')).toBe('No project is archived at night.');
  expect(await run('nightly', 'fog', '--on', 'kd-1', '--anew', '14')).toMatch(
    /Fog +in work +kd-1 +14 days +until decided +0 +0 B +not yet/,
  );
  expect(JSON.parse(await run('nightly', 'fog', '--json'))).toMatchObject([
    { carrier: 'kd-1', anewDays: 14, ran: null },
  ]);
  await expect(run('nightly', 'fog', '--on', 'kd-9')).rejects.toThrow(/There is no carrier named kd-9/);
  await expect(run('nightly', 'fog', '--on', 'kd-1', '--anew', '0.5')).rejects.toThrow(/from 1 to 365/);
  await expect(run('nightly', 'fog', '--on', 'kd-1', '--off')).rejects.toThrow(/either --on a carrier or --off/);
  expect(await run('nightly', 'fog', '--off')).toBe('Fog is not archived at night.');
});

test('a shape that is kept makes the same of any project', async () => {
  const scope = { ...USUAL_SCOPE, parts: ['unused' as const], layout: 'kind' as const };
  await keepShape(site.db, { name: 'Small', scope }, { who: 'Mara', now: new Date() });
  const said = JSON.parse(await run('archive', 'Fog', '--shape', 'small', '--json')) as { scope: object };
  expect(said.scope).toEqual(scope);
});

test('what cannot go in is asked about, and answered by the command', async () => {
  const args = ['archive', 'Fog', '--with', 'unused', '--to', 'kd-1', '--folder', 'fog_1', '--ask-at-trouble'];
  await run(...args);
  rmSync(path.join(site.root, 'media/fog/rushes/b.mov'));
  await expect(run('plan', 'run')).rejects.toThrow(
    /It waits for an answer: fog\/rushes\/b\.mov cannot go in, since it was already gone\. What is written so far is kept/,
  );
  const [job] = JSON.parse(await run('work', '--json')) as [{ jobId: number }];
  expect(await run('work')).toMatch(/Archive Fog on kd-1 +asks[^]*--leave-out \d+, --try-again \d+ or --cancel \d+\.$/);
  await expect(run('work', '--leave-out', '999')).rejects.toThrow('There is no work 999 under way');
  expect(await run('work', '--leave-out', String(job.jobId))).toContain('b.mov stays out');
  await until(async () => (await run('work')) === 'Nothing is running.');
  expect(existsSync(path.join(site.root, 'kd-1/fog_1/manifest-sha512.txt'))).toBe(true);
});
