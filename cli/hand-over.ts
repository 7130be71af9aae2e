// The command that hands over: what somebody else needs of a project, on a volume. It adds to the same plan as the interface.
import type { Command } from 'commander';
import { archiveFolderName, estimateSeconds, USUAL_HAND_OVER } from '#core/archive/selection.ts';
import { checkBins } from '#server/archives/bins.ts';
import { checkTimelines } from '#server/archives/lengths.ts';
import { measuredRates } from '#server/archives/rates.ts';
import { projectSelection } from '#server/archives/selection.ts';
import { namedShapes } from '#server/archives/shapes.ts';
import type { Database } from '#server/db/connect.ts';
import { projectById } from '#server/projects/projects.ts';
import { Refused } from '#server/runtime/refused.ts';
import { addHandOver } from '#server/steps/hand-over.ts';

import { rackVolumes } from '#server/site/rack.ts';
import { named, projectNamed } from './names.ts';
import { type Out, scopeOf, type ShapeOptions, tellJson, tellSelection, withShape } from './shaping.ts';

interface HandOverOptions extends ShapeOptions {
  to?: string;
  on?: string;
}

export function addHandOverCommands(command: Command, open: () => Database, out: Out): void {
  withShape(
    command
      .command('handover')
      .description('what somebody would get of a project; with --to and --on it is added to the plan')
      .argument('<project>', 'its name')
      .option('--to <name>', 'who gets it')
      .option('--on <volume>', 'the volume it is written to'),
    USUAL_HAND_OVER,
  ).action((project: string, asked: HandOverOptions) => handOver(open(), out, { project, ...asked }));
}

async function handOver(db: Database, out: Out, asked: HandOverOptions & { project: string }): Promise<void> {
  const { projectId, name } = await projectNamed(db, asked.project);
  const scope = scopeOf(asked, { shapes: await namedShapes(db), usual: USUAL_HAND_OVER });
  await checkTimelines(db, projectId, scope.timelines);
  await checkBins(db, projectId, scope.bins);
  const volume = asked.on === undefined ? null : named('volume', await rackVolumes(db), asked.on);
  if ((asked.to === undefined) !== (volume === null))
    throw new Refused('Who gets it (--to) and on which volume (--on) are said together. Nothing was added.');
  const selection = await projectSelection(db, projectId, scope);
  const project = await projectById(db, projectId);
  const folder = asked.folder ?? archiveFolderName(project!.slug, new Date().toISOString().slice(0, 10));
  const added =
    volume && !asked.dryRun
      ? await addHandOver(db, {
          ...{ projectId, volumeId: volume.volumeId, folder, toWhom: asked.to!, scope, now: new Date() },
        })
      : null;
  const seconds = estimateSeconds(selection.chosenBytes, await measuredRates(db));
  if (asked.json) return tellJson(out, { project: name, folder, scope, selection, seconds, added });
  tellSelection(out, name, { selection, seconds });
  out(
    added
      ? `Added to the plan for ${asked.to} as ${folder} on ${volume!.name}. Nothing is written before the plan is run.`
      : 'Nothing was added to the plan.',
  );
}
