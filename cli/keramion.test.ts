import { rmSync } from 'node:fs';
import path from 'node:path';
import { typed } from '#test/command.ts';
import { otio, TestSite } from '#test/site.ts';

let site: TestSite;
beforeEach(async () => void (site = await TestSite.open()));
afterEach(async () => {
  process.exitCode = 0;
  await site.close();
});

const run = (...args: string[]) => typed(site, ...args);

test('read, volumes and projects tell the same as the interface, in lines and as JSON', async () => {
  await site.volume('scratch', 'source', 1e12);
  site.put('scratch/fog/fog.otio', otio('Fog', ['a.mov']));
  site.put('scratch/fog/a.mov', Buffer.alloc(2000));
  expect(await run('read')).toBe('scratch: 2 files looked at, 2 new, 0 changed, 0 gone');
  expect(JSON.parse(await run('read', 'SCRATCH', '--json'))).toMatchObject([
    { volume: 'scratch', added: 0, changed: 0, gone: 0, broken: [] },
  ]);
  expect(JSON.parse(await run('volumes', '--json'))).toMatchObject([
    { name: 'scratch', files: 2, state: 'reachable', capacityBytes: 1e12 },
  ]);
  expect(await run('volumes')).toMatch(
    /VOLUME +STATION +USED[^\n]+\nscratch +loft-1 +\d\.\d\d kB +1\.00 TB +2 +reachable +just now/,
  );
  expect(JSON.parse(await run('projects', '--json'))).toMatchObject([{ name: 'Fog', media: 1, missing: 0 }]);
  expect(await run('projects')).toContain('1 of 1');
  expect(await run('strays')).toBe('Nothing has strayed, as far as homes are set.');
  expect(JSON.parse(await run('forecast', '--json'))).toMatchObject([
    { volume: 'scratch', forecast: { says: 'too few days' }, samples: 1 },
  ]);
  expect(await run('forecast')).toContain('too few days to tell');
  expect(JSON.parse(await run('find', 'a.mo', '--json'))).toMatchObject([
    { what: 'clip', name: 'a.mov' },
    { what: 'file', name: 'a.mov', bytes: 2000 },
  ]);
  expect(await run('find', 'nothing like it')).toBe('Nothing is found for "nothing like it".');
});

test('a volume that is not known or not there is a sentence, and nothing changes', async () => {
  await expect(run('read', 'nowhere')).rejects.toThrow('There is no volume named nowhere. Known are: none.');
  await expect(run('read')).rejects.toThrow('No volume is registered, so nothing was read.');
  await site.volume('scratch');
  await expect(run('read', 'nowhere')).rejects.toThrow(
    'There is no volume named nowhere. Known are: scratch. Nothing was read.',
  );
  rmSync(path.join(site.root, 'scratch'), { recursive: true });
  expect(await run('read', 'scratch')).toContain('scratch cannot be reached, so it was not read.');
  expect(process.exitCode).toBe(1);
});

test('reach, uses, missing and relink', async () => {
  await site.volume('scratch', 'source', 1e12);
  site.put('scratch/fog/a.mov', Buffer.alloc(2000));
  site.put('scratch/fog/b.mov', Buffer.alloc(100));
  site.put('scratch/fog/kept/c.mov', Buffer.alloc(50));
  site.put('scratch/fog/fog.otio', otio('Fog', ['a.mov', 'b.mov', '/gone/c.mov'], ['a.mov', '/gone/c.mov']));
  await run('read');
  expect(await run('reach', 'fog')).toMatch(/a\.mov +found +20 % +2\.00 kB +Cut +scratch\/fog/);
  expect(JSON.parse(await run('reach', 'Fog', '--show', 'unused', '--json'))).toMatchObject([
    { name: 'b.mov', used: [] },
  ]);
  expect(await run('reach', 'Fog', '--timeline', 'cut', '--show', 'used')).toContain('c.mov');
  await expect(run('reach', 'Fog', '--timeline', 'nope')).rejects.toThrow('Known are: Cut.');
  await expect(run('reach', 'Mist')).rejects.toThrow('There is no project named Mist. Known are: Fog.');
  expect(await run('uses', path.join(site.root, 'scratch/fog/a.mov'))).toMatch(/of Fog[^]*Fog +Cut/);
  await expect(run('uses', '/nowhere/a.mov')).rejects.toThrow('No file is known at /nowhere/a.mov.');
  expect(await run('missing')).toMatch(/Fog +c\.mov +yes +possible +scratch\/fog\/kept\/c\.mov/);
  expect(JSON.parse(await run('missing', 'Fog', '--json'))).toMatchObject([
    { clip: 'c.mov', candidates: [{ verdict: 'possible' }] },
  ]);
  expect(await run('relink', 'Fog')).toContain('can be told with certainty. Give --take');
  const take = `c.mov=${path.join(site.root, 'scratch/fog/kept/c.mov')}`;
  expect(await run('relink', 'Fog', '--take', take)).toContain('would be relinked, 1 of 1');
  expect(JSON.parse(await run('relink', 'Fog', '--take', take, '--yes', '--json'))).toMatchObject({ added: true });
  await expect(run('relink', 'Fog', '--take', 'x.mov=/y')).rejects.toThrow('"x.mov" is no missing clip');
});
