import { rmSync } from 'node:fs';
import path from 'node:path';
import { otio, TestSite } from '#test/site.ts';
import { program } from './keramion.ts';

let site: TestSite;
beforeEach(async () => void (site = await TestSite.open()));
afterEach(async () => {
  process.exitCode = 0;
  await site.close();
});

async function run(...args: string[]): Promise<string> {
  const lines: string[] = [];
  await program(
    () => site.db,
    (text) => lines.push(text),
  ).parseAsync(['node', 'keramion', ...args]);
  return lines.join('\n');
}

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
  expect(await run('find', 'nothing like it')).toBe('Nothing is named like "nothing like it".');
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
