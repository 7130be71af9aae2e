// Fonts and plug-ins that documents name are told before an archive is written, and in it.
import { readFileSync } from 'node:fs';
import path from 'node:path';
import type { ProjectId } from '#core/model.ts';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import { findingWords } from '#core/wording/findings.ts';
import { otio, TestSite } from '#test/site.ts';
import { currentPlan, emptyPlan, findingsOf } from '../plan/plan.ts';
import { addArchive } from '../steps/archive.ts';

let site: TestSite;
beforeEach(async () => void (site = await TestSite.open()));
afterEach(() => site.close());

test('what its documents need and it does not hold is told in the plan and in its README', async () => {
  const media = await site.volume('media');
  const carrier = await site.carrier('kd-1');
  site.put('media/fog/rushes/a.mov', 'a'.repeat(5000));
  site.put('media/fog/fonts/Inter.ttc', 'a font');
  const document = JSON.parse(otio('Fog', ['rushes/a.mov'])) as object;
  const metadata = { titles: [{ font: 'Inter Bold' }, { font: 'Lora' }], effects: { plugin_name: 'Grain 2' } };
  site.put('media/fog/fog.otio', JSON.stringify({ ...document, metadata }));
  await site.read(media);
  const add = (parts: ('other' | 'delivery')[]) =>
    addArchive(site.db, {
      ...{ projectId: 1 as ProjectId, carrierIds: [carrier], folder: 'fog_1', now: new Date() },
      scope: { ...USUAL_SCOPE, parts },
    });
  const told = async () =>
    (await findingsOf(site.db, (await currentPlan(site.db)).steps))
      .filter(({ code }) => code === 'fonts not in it' || code === 'plug-ins named')
      .map((finding) => findingWords(finding, 0));
  await add([]);
  expect(await told()).toMatchObject([
    { what: '2 fonts that its documents name are not in it', detail: expect.stringMatching(/^Inter Bold and Lora\./) },
    { what: 'Its documents name 1 plug-in', detail: expect.stringMatching(/^Grain 2\./) },
  ]);
  await emptyPlan(site.db, new Date());
  await add(['other']);
  expect((await told()).map(({ what }) => what)).toEqual([
    '1 font that its documents name is not in it',
    'Its documents name 1 plug-in',
  ]);
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  const readme = readFileSync(path.join(site.root, 'kd-1/fog_1/README.txt'), 'utf8');
  expect(readme).toContain('What its documents need and it does not hold\n\n  the font Lora\n  the plug-in Grain 2\n');
});
